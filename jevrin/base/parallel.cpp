#include "jevrin/base/parallel.hpp"

#include "jevrin/base/worker_pool.hpp"

#include <exception>
#include <limits>
#include <mutex>
#include <utility>

// The thread sanitizer does not see synchronisation inside the TBB library, which is built without it; these
// marks tell it that chunks begin after the call and end before its return. Between chunks it sees
// everything.
#if defined(__SANITIZE_THREAD__)
extern "C" void __tsan_acquire(void* address);
extern "C" void __tsan_release(void* address);
#define JEVRIN_ACQUIRE(address) __tsan_acquire(address)
#define JEVRIN_RELEASE(address) __tsan_release(address)
#else
#define JEVRIN_ACQUIRE(address) static_cast<void>(address)
#define JEVRIN_RELEASE(address) static_cast<void>(address)
#endif

namespace jevrin::inline v1 {
namespace {

struct Loop {
    const ChunkBody& body;
    char begun = 0;
    char ended = 0;
    std::mutex mutex;
    std::int64_t failed_chunk = std::numeric_limits<std::int64_t>::max();
    std::exception_ptr failure;
};

void run_chunk(void* loop, std::int64_t chunk) {
    Loop& l = *static_cast<Loop*>(loop);
    JEVRIN_ACQUIRE(&l.begun);
    try {
        l.body(chunk);
    } catch (...) {
        const std::lock_guard lock(l.mutex);
        if (chunk < l.failed_chunk) {
            l.failed_chunk = chunk;
            l.failure = std::current_exception();
        }
    }
    JEVRIN_RELEASE(&l.ended);
}

// How the calling thread runs its loops.
struct OwnLoops {
    bool serial = false;
    LoopGroup* group = nullptr;
};
thread_local OwnLoops own_loops;

}  // namespace

SerialLoops::SerialLoops(LoopGroup* group) {
    own_loops = {true, group};
    if (group != nullptr) ++group->working_;
}
SerialLoops::~SerialLoops() {
    if (own_loops.group != nullptr) --own_loops.group->working_;
    own_loops = {};
}
bool SerialLoops::here() {
    return own_loops.serial && (own_loops.group == nullptr || 2 * own_loops.group->working() > threads());
}

WaitingLoops::WaitingLoops() {
    if (own_loops.group != nullptr) --own_loops.group->working_;
}
WaitingLoops::~WaitingLoops() {
    if (own_loops.group != nullptr) ++own_loops.group->working_;
}

void parallel_for(std::int64_t count, const ChunkBody& body) {
    if (count <= 0) return;
    if (count == 1 || threads() == 1 || SerialLoops::here()) {
        for (std::int64_t chunk = 0; chunk < count; ++chunk) body(chunk);
        return;
    }
    Loop loop{.body = body};
    JEVRIN_RELEASE(&loop.begun);
    run_on_pool(count, run_chunk, &loop);
    JEVRIN_ACQUIRE(&loop.ended);
    if (loop.failure) std::rethrow_exception(loop.failure);
}

struct BackgroundTask::State {
    std::function<void()> work;
    std::exception_ptr failure;
    char begun = 0;
    char ended = 0;
    PoolGroup group;  // last: it waits before the rest goes

    static void call(void* state) {
        State& s = *static_cast<State*>(state);
        JEVRIN_ACQUIRE(&s.begun);
        try {
            s.work();
        } catch (...) {
            s.failure = std::current_exception();
        }
        JEVRIN_RELEASE(&s.ended);
    }
};

BackgroundTask::BackgroundTask() : state_(std::make_unique<State>()) {}

BackgroundTask::~BackgroundTask() {
    state_->group.wait();
    JEVRIN_ACQUIRE(&state_->ended);
}

void BackgroundTask::run(std::function<void()> work) {
    state_->work = std::move(work);
    JEVRIN_RELEASE(&state_->begun);
    state_->group.run(State::call, state_.get());
}

void BackgroundTask::wait() {
    state_->group.wait();
    JEVRIN_ACQUIRE(&state_->ended);
    if (state_->failure) std::rethrow_exception(std::exchange(state_->failure, nullptr));
}

IndexRange chunk_range(std::int64_t total, std::int64_t count, std::int64_t chunk) {
    return {total * chunk / count, total * (chunk + 1) / count};
}

}  // namespace jevrin::inline v1
