// Assigns buffers to one block of memory; buffers that are never alive at the same time share it.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// A buffer and the steps, first and last included, during which it holds something.
struct BufferLife {
    std::int64_t size = 0;
    std::int64_t begin = 0;
    std::int64_t end = 0;
};

struct BufferPlan {
    std::vector<std::int64_t> offsets;  // of each buffer
    std::int64_t total = 0;
};

// Places the buffers one after the other, each at the lowest place that is free during its life: the largest
// first or the earliest first, whichever takes less.
BufferPlan plan_buffers(std::span<const BufferLife> lives);

}  // namespace jevrin::inline v1
