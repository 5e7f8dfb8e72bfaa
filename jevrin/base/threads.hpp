// How many threads the library computes with. Results are the same bits for any number.
#pragma once

#include <atomic>

namespace jevrin::inline v1 {

// How many threads loops may use; at least 1. The default is the number of processors.
void set_threads(int count);
int threads();

// Threads that each have work of their own, and how many of them are at it.
class LoopGroup {
  public:
    int working() const { return working_; }

  private:
    friend class SerialLoops;
    friend class WaitingLoops;
    std::atomic<int> working_{0};
};

// While it lives, loops that its thread begins run on that thread alone: where many threads have work of
// their own, waiting for each other in every loop costs more than it gains. Of a group only while more than
// half of threads() are at work; the last ones have all threads.
class SerialLoops {
  public:
    explicit SerialLoops(LoopGroup* group = nullptr);
    ~SerialLoops();
    SerialLoops(const SerialLoops&) = delete;
    SerialLoops& operator=(const SerialLoops&) = delete;
    static bool here();  // on the calling thread, now
};

// While it lives, its thread waits for others of its group and counts as not at work.
class WaitingLoops {
  public:
    WaitingLoops();
    ~WaitingLoops();
    WaitingLoops(const WaitingLoops&) = delete;
    WaitingLoops& operator=(const WaitingLoops&) = delete;
};

}  // namespace jevrin::inline v1
