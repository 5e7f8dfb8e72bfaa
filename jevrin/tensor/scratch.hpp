// Working memory of kernels: one growing block per thread, so that a repeated step allocates nothing.
#pragma once

#include <cstdint>

namespace jevrin {

// At least count floats, 64-byte aligned, owned by the calling thread; the content is undefined and the
// pointer stays valid until the thread asks for the same slot again. Slots are independent blocks.
float* scratch(std::int64_t count, int slot);

}  // namespace jevrin
