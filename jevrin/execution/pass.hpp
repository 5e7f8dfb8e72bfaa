// What forward and training passes share: their memory, and the key of random operators.
#pragma once

#include <cstdint>

namespace jevrin::inline v1 {

// What the random operators of a training pass are keyed by.
struct PassDraw {
    std::uint64_t seed = 0;
    std::uint32_t epoch = 0;
    const std::int64_t* items = nullptr;  // [batch], stable numbers of the items
};

// Bytes that a pass takes beside its network's parameters.
struct PassMemory {
    std::int64_t fixed = 0;          // gradients of parameters, scratch of the kernels
    std::int64_t per_item = 0;       // values and gradients of one item, shared by lifetime
    std::int64_t kept_per_item = 0;  // of these, what forward has to keep for backward

    std::int64_t total(std::int64_t batch) const { return fixed + per_item * batch; }
};

// The largest batch for which memory_limit() leaves enough; 0 when not even one item fits.
std::int64_t fitting_batch(const PassMemory& memory);

// InputError when a batch of this size needs more than memory_limit() leaves, with the batch that would fit.
void require_memory(const PassMemory& memory, std::int64_t batch);

}  // namespace jevrin::inline v1
