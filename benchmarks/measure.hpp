// Times work beside its limits, so that both see the same machine: other programs share it and its speed
// drifts.
#pragma once

#include "limits.hpp"

#include "jevrin/base/parallel.hpp"

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <vector>

namespace jevrin::bench {

inline double seconds_since(std::chrono::steady_clock::time_point begin) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

inline double median(std::vector<double> values) {
    const auto middle = values.begin() + std::ssize(values) / 2;
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

// Work of so many nominal operations, as shares of the arithmetic limit and of sgemm on as many threads. Each
// round repeats the work for at least 20 ms with both limits before and after it; the shares are the medians
// of the rounds.
template <typename Work>
void measure_arithmetic(benchmark::State& state, int threads, double operations, Work work) {
    set_threads(threads);
    work();
    std::vector<double> of_limit;
    std::vector<double> of_sgemm;
    double limit_before = arithmetic_limit(threads);
    double product_before = product_limit(threads);
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        double repeats = 0;
        do {
            work();
            ++repeats;
        } while (seconds_since(begin) < 0.02);
        const double seconds = seconds_since(begin) / repeats;
        state.SetIterationTime(seconds);
        const double product_after = product_limit(threads);
        const double limit_after = arithmetic_limit(threads);
        of_limit.push_back(operations / seconds * 2 / (limit_before + limit_after));
        of_sgemm.push_back(operations / seconds * 2 / (product_before + product_after));
        limit_before = limit_after;
        product_before = product_after;
    }
    state.counters["of_limit"] = median(of_limit);
    state.counters["of_sgemm"] = median(of_sgemm);
    state.counters["threads"] = threads;
}

}  // namespace jevrin::bench
