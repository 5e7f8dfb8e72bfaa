// How many threads the library computes with. Results are the same bits for any number.
#pragma once

namespace jevrin::inline v1 {

// How many threads loops may use; at least 1. The default is the number of processors.
void set_threads(int count);
int threads();

}  // namespace jevrin::inline v1
