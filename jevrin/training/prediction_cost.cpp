#include "jevrin/training/prediction_cost.hpp"

#include "jevrin/execution/inference.hpp"

#include <algorithm>
#include <chrono>
#include <vector>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t batch = 32;
// Repeated for so long, and so often at least.
constexpr double seconds_of_each = 0.02;
constexpr int fewest = 3;

double shortest_milliseconds(Inference& inference, std::int64_t items) {
    std::vector<float> input(static_cast<std::size_t>(items * inference.input_size()));
    for (std::size_t i = 0; i < input.size(); ++i) input[i] = static_cast<float>(i % 17) * 0.1F - 0.8F;
    inference.run(items, input);  // kernels are made, memory is touched
    double best = 1e30;
    double all = 0.0;
    for (int k = 0; k < fewest || all < seconds_of_each; ++k) {
        const auto begin = std::chrono::steady_clock::now();
        inference.run(items, input);
        const double seconds =
            std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
        best = std::min(best, seconds);
        all += seconds;
    }
    return best * 1000.0;
}

}  // namespace

PredictionCost measure_prediction(const Network& network) {
    PredictionCost cost;
    Inference one(network, 1);
    cost.milliseconds = shortest_milliseconds(one, 1);
    cost.bytes = one.bytes();
    Inference many(network, batch);
    cost.batch_milliseconds = shortest_milliseconds(many, batch) / static_cast<double>(batch);
    return cost;
}

}  // namespace jevrin::inline v1
