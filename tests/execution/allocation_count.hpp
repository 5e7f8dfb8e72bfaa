// How often this program has taken memory from the heap with operator new, on any thread.
#pragma once

#include <cstdint>

namespace jevrin {

std::int64_t allocation_count();

}  // namespace jevrin
