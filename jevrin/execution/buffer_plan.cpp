#include "jevrin/execution/buffer_plan.hpp"

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {

namespace {

// Places buffers in this order, each at the lowest place that is free during its life.
BufferPlan place(std::span<const BufferLife> lives, std::span<const std::size_t> order) {
    BufferPlan plan;
    plan.offsets.assign(lives.size(), 0);
    std::vector<std::size_t> placed;  // in order of their offsets
    for (const std::size_t next : order) {
        const BufferLife& life = lives[next];
        std::int64_t offset = 0;
        for (const std::size_t other : placed) {
            const BufferLife& o = lives[other];
            const bool together = o.begin <= life.end && life.begin <= o.end;
            if (!together) continue;
            if (plan.offsets[other] - offset >= life.size) break;
            offset = std::max(offset, plan.offsets[other] + o.size);
        }
        plan.offsets[next] = offset;
        plan.total = std::max(plan.total, offset + life.size);
        const auto behind =
            std::upper_bound(placed.begin(), placed.end(), offset,
                             [&](std::int64_t o, std::size_t p) { return o < plan.offsets[p]; });
        placed.insert(behind, next);
    }
    return plan;
}

}  // namespace

BufferPlan plan_buffers(std::span<const BufferLife> lives) {
    std::vector<std::size_t> order(lives.size());
    std::iota(order.begin(), order.end(), 0);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return lives[a].begin < lives[b].begin; });
    BufferPlan by_time = place(lives, order);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return lives[a].size > lives[b].size; });
    BufferPlan by_size = place(lives, order);
    return by_size.total <= by_time.total ? by_size : by_time;
}

}  // namespace jevrin::inline v1
