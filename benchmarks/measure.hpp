// Times work beside its limits, so that both see the same machine: other programs share it and its speed
// drifts.
#pragma once

#include "limits.hpp"

#include "jevrin/base/parallel.hpp"

#include <benchmark/benchmark.h>

#include <chrono>

namespace jevrin::bench {

inline double seconds_since(std::chrono::steady_clock::time_point begin) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

// Work of so many nominal operations, as shares of the arithmetic limit and of sgemm on as many threads. Each
// round repeats the work for at least 20 ms, then measures both limits.
template <typename Work>
void measure_arithmetic(benchmark::State& state, int threads, double operations, Work work) {
    set_threads(threads);
    work();
    double seconds = 0.0;
    double done = 0.0;
    double limit_seconds = 0.0;
    double product_seconds = 0.0;
    long rounds = 0;
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        long repeats = 0;
        do {
            work();
            ++repeats;
        } while (seconds_since(begin) < 0.02);
        const double taken = seconds_since(begin);
        state.SetIterationTime(taken / static_cast<double>(repeats));
        seconds += taken;
        done += operations * static_cast<double>(repeats);
        limit_seconds += 1.0 / arithmetic_limit(threads);
        product_seconds += 1.0 / product_limit(threads);
        ++rounds;
    }
    const double rate = done / seconds;
    state.counters["of_limit"] = rate * limit_seconds / static_cast<double>(rounds);
    state.counters["of_sgemm"] = rate * product_seconds / static_cast<double>(rounds);
    state.counters["threads"] = threads;
}

}  // namespace jevrin::bench
