#include "jevrin/tensor/scratch.hpp"

#include "jevrin/tensor/tensor.hpp"

#include <algorithm>
#include <mutex>
#include <vector>

namespace jevrin::inline v1 {
namespace {

struct Block {
    float* data = nullptr;
    std::int64_t size = 0;
};

// The free blocks; the one returned last is leased first, while it is still in a cache.
struct Pool {
    std::mutex mutex;
    std::vector<Block> free;

    ~Pool() {
        for (const Block& block : free) release_floats(block.data);
    }
};

Pool& pool() {
    static Pool instance;
    return instance;
}

}  // namespace

Scratch::Scratch(std::int64_t count) {
    if (count == 0) return;
    Block block;
    {
        Pool& p = pool();
        const std::lock_guard lock(p.mutex);
        const auto fits = std::find_if(p.free.rbegin(), p.free.rend(),
                                       [&](const Block& candidate) { return candidate.size >= count; });
        if (fits != p.free.rend()) {
            block = *fits;
            p.free.erase(std::next(fits).base());
        } else if (!p.free.empty()) {
            block = p.free.back();  // grows below, so that there are never more blocks than leases at once
            p.free.pop_back();
        }
    }
    if (block.size < count) {
        release_floats(block.data);
        block = {allocate_floats(count), count};
    }
    data_ = block.data;
    size_ = block.size;
}

Scratch::~Scratch() {
    if (data_ == nullptr) return;
    Pool& p = pool();
    const std::lock_guard lock(p.mutex);
    p.free.push_back({data_, size_});
}

void reserve_scratch(std::int64_t count, std::size_t leases) {
    Pool& p = pool();
    const std::lock_guard lock(p.mutex);
    p.free.reserve(2 * leases);
    std::size_t ready = 0;
    for (Block& block : p.free) {
        if (ready == leases) break;
        if (block.size < count) {
            release_floats(block.data);
            block = {};
            block = {allocate_floats(count), count};
        }
        ++ready;
    }
    for (; ready < leases; ++ready) p.free.push_back({allocate_floats(count), count});
}

}  // namespace jevrin::inline v1
