#include "jevrin/base/parallel.hpp"

#include <tbb/global_control.h>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>

#include <algorithm>
#include <memory>
#include <mutex>
#include <thread>

// The thread sanitizer does not see synchronisation inside the installed TBB library, which is built without
// it; these marks tell it that chunks begin after the call and end before its return.
#if defined(__SANITIZE_THREAD__)
extern "C" void __tsan_acquire(void* address);
extern "C" void __tsan_release(void* address);
#define JEVRIN_ACQUIRE(address) __tsan_acquire(address)
#define JEVRIN_RELEASE(address) __tsan_release(address)
#else
#define JEVRIN_ACQUIRE(address) static_cast<void>(address)
#define JEVRIN_RELEASE(address) static_cast<void>(address)
#endif

namespace jevrin {
namespace {

struct Workers {
    int count = static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
    std::unique_ptr<tbb::global_control> limit;
    std::unique_ptr<tbb::task_arena> arena;
};

Workers& workers() {
    static Workers instance;
    return instance;
}

std::mutex& workers_mutex() {
    static std::mutex mutex;
    return mutex;
}

tbb::task_arena& arena() {
    const std::lock_guard lock(workers_mutex());
    Workers& w = workers();
    if (!w.arena) {
        w.limit = std::make_unique<tbb::global_control>(tbb::global_control::max_allowed_parallelism,
                                                        static_cast<std::size_t>(w.count));
        w.arena = std::make_unique<tbb::task_arena>(w.count);
    }
    return *w.arena;
}

}  // namespace

void set_threads(int count) {
    const std::lock_guard lock(workers_mutex());
    workers().count = std::max(1, count);
    workers().arena.reset();
    workers().limit.reset();
}

int threads() {
    return workers().count;
}

void parallel_for(std::int64_t count, const std::function<void(std::int64_t)>& body) {
    if (count <= 0) return;
    if (count == 1 || threads() == 1) {
        for (std::int64_t chunk = 0; chunk < count; ++chunk) body(chunk);
        return;
    }
    char begun = 0;
    char ended = 0;
    JEVRIN_RELEASE(&begun);
    arena().execute([&] {
        tbb::parallel_for(
            tbb::blocked_range<std::int64_t>(0, count, 1),
            [&](const tbb::blocked_range<std::int64_t>& range) {
                JEVRIN_ACQUIRE(&begun);
                for (std::int64_t chunk = range.begin(); chunk < range.end(); ++chunk) body(chunk);
                JEVRIN_RELEASE(&ended);
            },
            tbb::simple_partitioner());
    });
    JEVRIN_ACQUIRE(&ended);
}

Range chunk_range(std::int64_t total, std::int64_t count, std::int64_t chunk) {
    return {total * chunk / count, total * (chunk + 1) / count};
}

}  // namespace jevrin
