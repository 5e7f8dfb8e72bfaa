// Parallel loops over chunks that depend on the problem alone.
//
// A loop cuts its work into numbered chunks; which thread runs which chunk is open, so a chunk may write only
// what belongs to it. Sums over chunks are added by the caller in chunk order. Results are then the same bits
// for any number of threads.
#pragma once

#include "jevrin/base/threads.hpp"

#include <concepts>
#include <cstdint>
#include <functional>
#include <memory>
#include <type_traits>

namespace jevrin::inline v1 {

// A view of a callable that takes a chunk; valid as long as the callable. Unlike std::function it allocates
// nothing.
class ChunkBody {
  public:
    template <typename Body>
    requires(!std::same_as<std::remove_cvref_t<Body>, ChunkBody>)
        ChunkBody(const Body& body)  // NOLINT: loops are written with plain lambdas
        : body_(&body),
          call_([](const void* b, std::int64_t chunk) { (*static_cast<const Body*>(b))(chunk); }) {}
    void operator()(std::int64_t chunk) const { call_(body_, chunk); }

  private:
    const void* body_;
    void (*call_)(const void*, std::int64_t);
};

// Runs body(chunk) for chunk in [0, count). When bodies throw, the exception of the first such chunk reaches
// the caller, so that the message does not depend on who was faster.
void parallel_for(std::int64_t count, const ChunkBody& body);

// Work that continues beside the caller's, on threads of the loops that have nothing else to do; whoever
// waits helps. set_threads() must not be called between run() and wait().
class BackgroundTask {
  public:
    BackgroundTask();
    // Waits.
    ~BackgroundTask();
    BackgroundTask(const BackgroundTask&) = delete;
    BackgroundTask& operator=(const BackgroundTask&) = delete;

    // Not while earlier work continues.
    void run(std::function<void()> work);
    // Returns when the work is done, and throws what it threw; at once when there is none.
    void wait();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

// A half-open range of indices.
struct IndexRange {
    std::int64_t begin = 0;
    std::int64_t end = 0;
};

// The part of [0, total) that belongs to a chunk when total is cut into count nearly equal chunks.
IndexRange chunk_range(std::int64_t total, std::int64_t count, std::int64_t chunk);

}  // namespace jevrin::inline v1
