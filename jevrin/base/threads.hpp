// How many threads the library computes with. Results are the same bits for any number.
#pragma once

namespace jevrin::inline v1 {

// How many threads loops may use; at least 1. The default is the number of processors.
void set_threads(int count);
int threads();

// While it lives, loops that its thread begins run on that thread alone: where many threads have work of
// their own, waiting for each other in every loop costs more than it gains.
class SerialLoops {
  public:
    SerialLoops();
    ~SerialLoops();
    SerialLoops(const SerialLoops&) = delete;
    SerialLoops& operator=(const SerialLoops&) = delete;
    static bool here();  // on the calling thread
};

}  // namespace jevrin::inline v1
