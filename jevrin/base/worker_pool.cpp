#include "jevrin/base/worker_pool.hpp"

#include "jevrin/base/parallel.hpp"

#include <tbb/global_control.h>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>
#include <tbb/task_group.h>

#include <algorithm>
#include <atomic>
#include <memory>
#include <mutex>
#include <thread>

namespace jevrin::inline v1 {
namespace {

struct Pool {
    std::atomic<int> threads{static_cast<int>(std::max(1U, std::thread::hardware_concurrency()))};
    std::mutex mutex;
    std::unique_ptr<tbb::global_control> limit;
    std::unique_ptr<tbb::task_arena> arena;
};

Pool& pool() {
    static Pool instance;
    return instance;
}

tbb::task_arena& arena() {
    Pool& p = pool();
    const std::lock_guard lock(p.mutex);
    if (!p.arena) {
        const int count = p.threads;
        p.limit = std::make_unique<tbb::global_control>(tbb::global_control::max_allowed_parallelism,
                                                        static_cast<std::size_t>(count));
        p.arena = std::make_unique<tbb::task_arena>(count);
    }
    return *p.arena;
}

}  // namespace

void set_threads(int count) {
    Pool& p = pool();
    const std::lock_guard lock(p.mutex);
    p.threads = std::max(1, count);
    p.arena.reset();
    p.limit.reset();
}

int threads() {
    return pool().threads;
}

void run_on_pool(std::int64_t count, void (*run)(void*, std::int64_t), void* context) {
    arena().execute([&] {
        tbb::parallel_for(
            tbb::blocked_range<std::int64_t>(0, count, 1),
            [&](const tbb::blocked_range<std::int64_t>& range) {
                for (std::int64_t chunk = range.begin(); chunk < range.end(); ++chunk) run(context, chunk);
            },
            tbb::simple_partitioner());
    });
}

struct PoolGroup::Tasks {
    tbb::task_group group;
};

PoolGroup::PoolGroup() : tasks_(std::make_unique<Tasks>()) {}

PoolGroup::~PoolGroup() {
    wait();
}

void PoolGroup::run(void (*call)(void*), void* context) {
    arena().execute([&] { tasks_->group.run([=] { call(context); }); });
}

void PoolGroup::wait() {
    arena().execute([&] { tasks_->group.wait(); });
}

}  // namespace jevrin::inline v1
