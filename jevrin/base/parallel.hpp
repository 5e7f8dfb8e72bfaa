// Parallel loops over chunks that depend on the problem alone.
//
// A loop cuts its work into numbered chunks; which thread runs which chunk is open, so a chunk may write only
// what belongs to it. Sums over chunks are added by the caller in chunk order. Results are then the same bits
// for any number of threads.
#pragma once

#include <cstdint>
#include <functional>

namespace jevrin {

// How many threads loops may use; at least 1. The default is the number of processors.
void set_threads(int count);
int threads();

// Runs body(chunk) for chunk in [0, count). When bodies throw, the exception of the first such chunk reaches
// the caller, so that the message does not depend on who was faster.
void parallel_for(std::int64_t count, const std::function<void(std::int64_t)>& body);

// A half-open range of indices.
struct Range {
    std::int64_t begin = 0;
    std::int64_t end = 0;
};

// The part of [0, total) that belongs to a chunk when total is cut into count nearly equal chunks.
Range chunk_range(std::int64_t total, std::int64_t count, std::int64_t chunk);

}  // namespace jevrin
