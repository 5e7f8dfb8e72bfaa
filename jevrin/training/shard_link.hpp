// The ranks that train one run together: each computes some of the shards of every batch, and all add up what
// they computed in the same fixed order.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace jevrin::inline v1 {

// Messages between these ranks. A channel keeps its order; two threads use two channels. Functions wait until
// they are done, and throw WorkError when another rank is lost.
class ShardLink {
  public:
    virtual ~ShardLink() = default;
    virtual int rank() const = 0;
    virtual int size() const = 0;
    virtual void send(int to, int channel, std::span<const std::byte> bytes) = 0;
    virtual void receive(int from, int channel, std::span<std::byte> bytes) = 0;
    // Whoever waits here, now or later, gets a WorkError: called when another rank is known to be lost.
    virtual void give_up() = 0;
};

// Shards of a batch are added as a binary tree: those from begin to end are the sum of the first half of
// them, rounded down, and of the rest. Ranks are divided in the same way, so each has one whole branch of the
// tree.
struct ShardRange {
    std::int64_t begin = 0;
    std::int64_t end = 0;
};
inline ShardRange shards_of_rank(std::int64_t shards, int rank, int size) {
    ShardRange range{0, shards};
    for (int first = 0, last = size; last - first > 1;) {
        const std::int64_t middle = (range.begin + range.end) / 2;
        const int half = first + (last - first) / 2;
        (rank < half ? range.end : range.begin) = middle;
        (rank < half ? last : first) = half;
    }
    return range;
}

// The items of these shards in a batch of so many.
inline ShardRange items_of_shards(const ShardRange& range, std::int64_t shards, std::int64_t items) {
    return {range.begin * items / shards, range.end * items / shards};
}

// Calls join(left, right) for each pair of the tree, both already joined; what stands at left becomes their
// sum.
template <typename Join>
void join_shards(std::int64_t begin, std::int64_t end, const Join& join) {
    if (end - begin < 2) return;
    const std::int64_t middle = (begin + end) / 2;
    join_shards(begin, middle, join);
    join_shards(middle, end, join);
    join(begin, middle);
}

// values of all ranks become the sum over them, on each: own and other values are joined by join(own, other)
// along the tree.
template <typename Value, typename Join>
void join_ranks(ShardLink& link, int channel, std::span<Value> values, std::vector<Value>& space,
                const Join& join) {
    space.resize(values.size());
    struct Branch {
        int first;
        int half;
        int last;
    };
    std::vector<Branch> path;  // from the root to this rank
    for (int first = 0, last = link.size(); last - first > 1;) {
        const int half = first + (last - first) / 2;
        path.push_back({first, half, last});
        (link.rank() < half ? last : first) = half;
    }
    for (auto branch = path.rbegin(); branch != path.rend(); ++branch) {
        if (link.rank() == branch->half) link.send(branch->first, channel, std::as_bytes(values));
        if (link.rank() != branch->first) continue;
        link.receive(branch->half, channel, std::as_writable_bytes(std::span<Value>(space)));
        join(values, std::span<const Value>(space));
    }
    for (const Branch& branch : path) {
        if (link.rank() == branch.first) link.send(branch.half, channel, std::as_bytes(values));
        if (link.rank() == branch.half) link.receive(branch.first, channel, std::as_writable_bytes(values));
    }
}

// left += right, element by element.
template <typename Value>
void add_values(std::span<Value> left, std::span<const Value> right) {
    for (std::size_t i = 0; i < left.size(); ++i) left[i] += right[i];
}

}  // namespace jevrin::inline v1
