// Available and used memory.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// Bytes the process may use: nine tenths of the machine's memory or of its control group's limit, unless set.
std::int64_t memory_limit();
// Zero returns to the default.
void set_memory_limit(std::int64_t bytes);

// Bytes of memory the process holds now, and at most so far; zero where the system does not tell.
std::int64_t resident_memory();
std::int64_t peak_memory();

}  // namespace jevrin::inline v1
