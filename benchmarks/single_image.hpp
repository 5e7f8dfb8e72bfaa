// What a single image costs: beside a batch, and the first time.
#pragma once

#include "measure.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/execution/inference.hpp"

#include <chrono>
#include <vector>

namespace jevrin::bench {

// The time of one image over an eighth of that of eight, in turn, on two threads.
inline void run_single_image(benchmark::State& state, const Network& network) {
    constexpr std::int64_t batch = 8;
    set_threads(2);
    Inference inference(network, batch);
    const std::vector<float> images(static_cast<std::size_t>(batch * inference.input_size()), 0.3F);
    const auto seconds = [&](std::int64_t count) {
        const auto begin = std::chrono::steady_clock::now();
        inference.run(count, images);
        return seconds_since(begin);
    };
    seconds(1);
    seconds(batch);
    std::vector<double> ratios;
    std::vector<double> singles;
    for (auto _ : state) {
        std::vector<double> round;
        for (int i = 0; i < 8; ++i) round.push_back(seconds(1));
        singles.push_back(median(round));
        ratios.push_back(singles.back() / (seconds(batch) / batch));
        state.SetIterationTime(singles.back());
    }
    state.counters["value"] = median(singles) * 1e3;
    state.counters["ratio"] = median(ratios);
    state.counters["threads"] = 2;
    state.SetLabel("ms");
}

// From a network in memory to the answer on its first image (shapes, weights laid out, code generated), over
// the time of a later one. Code that an earlier network of the process had generated is there already, so
// this comes first.
inline void run_first_call(benchmark::State& state, const Network& network) {
    set_threads(2);
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        Inference inference(network, 1);
        const std::vector<float> image(static_cast<std::size_t>(inference.input_size()), 0.3F);
        inference.run(1, image);
        const double first = seconds_since(begin);
        std::vector<double> later;
        for (int i = 0; i < 9; ++i) {
            const auto start = std::chrono::steady_clock::now();
            inference.run(1, image);
            later.push_back(seconds_since(start));
        }
        state.SetIterationTime(first);
        state.counters["value"] = first * 1e3;
        state.counters["ratio"] = first / median(later);
    }
    state.counters["threads"] = 2;
    state.SetLabel("ms");
}

}  // namespace jevrin::bench
