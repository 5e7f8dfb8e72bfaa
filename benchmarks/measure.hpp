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

// Repeats the work for at least 20 ms, round after round, and calls after(seconds of one repetition, seconds
// of the round) to measure the limits in turn with it.
template <typename Work, typename After>
void measure_rounds(benchmark::State& state, int threads, Work work, After after) {
    set_threads(threads);
    work();
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        double repeats = 0;
        do {
            work();
            ++repeats;
        } while (seconds_since(begin) < 0.02);
        const double round = seconds_since(begin);
        state.SetIterationTime(round / repeats);
        after(round / repeats, round);
    }
    state.counters["threads"] = threads;
}

// A limit measured after each round of work, for as long as the round took (at most a fifth of a second): the
// mean of those before and after it is what the round is held against.
class Limit {
  public:
    Limit(double (*measure)(int, double), int threads) : measure_(measure), threads_(threads) {}
    // The work of a round had this rate; the first round only finds out how long a round takes.
    void add(double rate, double round_seconds) {
        const double after = measure_(threads_, std::min(round_seconds, 0.2));
        if (before_ > 0) shares_.push_back(rate * 2 / (before_ + after));
        before_ = after;
    }
    double share() const { return median(shares_); }

  private:
    double (*measure_)(int, double);
    int threads_;
    double before_ = 0.0;
    std::vector<double> shares_;
};

// Work of so many nominal operations, as fractions of the arithmetic limit and of sgemm on as many threads:
// the medians of the rounds.
template <typename Work>
void measure_arithmetic(benchmark::State& state, int threads, double operations, Work work) {
    Limit arithmetic(arithmetic_limit, threads);
    Limit products(product_limit, threads);
    measure_rounds(state, threads, work, [&](double seconds, double round) {
        arithmetic.add(operations / seconds, round);
        products.add(operations / seconds, round);
    });
    state.counters["of_limit"] = arithmetic.share();
    state.counters["of_sgemm"] = products.share();
}

// The same of a network that moves at least so many bytes unfused and fused: also as fractions of its
// rooflines, the larger of its arithmetic and its memory at their limits.
template <typename Work>
void measure_network(benchmark::State& state, int threads, double operations, double unfused, double fused,
                     Work work) {
    Limit arithmetic(arithmetic_limit, threads);
    Limit products(product_limit, threads);
    Limit copying(copy_limit, threads);
    measure_rounds(state, threads, work, [&](double seconds, double round) {
        arithmetic.add(operations / seconds, round);
        products.add(operations / seconds, round);
        copying.add(fused / seconds, round);
    });
    const double fused_share = copying.share();
    state.counters["of_limit"] = arithmetic.share();
    state.counters["of_sgemm"] = products.share();
    state.counters["of_roofline"] = std::max(arithmetic.share(), fused_share);
    state.counters["of_unfused_roofline"] = std::max(arithmetic.share(), fused_share * unfused / fused);
}

// Work that has to read and write so many bytes at least, as a fraction of the copy limit.
template <typename Work>
void measure_memory(benchmark::State& state, int threads, double bytes, Work work) {
    Limit copying(copy_limit, threads);
    measure_rounds(state, threads, work,
                   [&](double seconds, double round) { copying.add(bytes / seconds, round); });
    state.counters["of_limit"] = copying.share();
}

}  // namespace jevrin::bench
