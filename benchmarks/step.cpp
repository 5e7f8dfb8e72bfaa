// A whole training step of residual networks as a share of what the machine can do.
#include "figures.hpp"
#include "limits.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/network/architecture.hpp"
#include "jevrin/network/training_pass.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/optimiser.hpp"

#include <chrono>
#include <vector>

namespace {

using namespace jevrin;

struct StepCase {
    const char* name;
    ResidualSettings network;
    std::int64_t size;
    std::int64_t batch;
};

// Nominal operations: two for each multiplication, and three passes (forward, data gradient, weight
// gradient).
double step_operations(const Network& network, std::int64_t batch) {
    return 2.0 * 3.0 * static_cast<double>(multiplication_count(network)) * static_cast<double>(batch);
}

void run_step(benchmark::State& state, const StepCase& c, int threads) {
    set_threads(threads);
    Network network = residual_backbone(c.network, {c.size, c.size, 3});
    append_head(network, {}, 10);
    initialise(network, 0, 1);
    TrainingPass pass(network, c.batch);
    Optimiser optimiser({}, pass.parameters());
    const std::vector<float> images(static_cast<std::size_t>(c.batch * c.size * c.size * 3), 0.3F);
    const std::vector<std::size_t> labels(static_cast<std::size_t>(c.batch), 1);
    const std::vector<std::int64_t> items(static_cast<std::size_t>(c.batch), 0);
    std::vector<float> gradient(static_cast<std::size_t>(c.batch) * 10);
    const auto step = [&] {
        const auto logits = pass.forward(c.batch, images, {1, 1, items.data()});
        cross_entropy(10, logits, labels, gradient);
        pass.backward(c.batch, gradient);
        optimiser.step(pass.parameters(), 0.001);
    };
    step();
    const double operations = step_operations(network, c.batch);
    double seconds = 0.0;
    double limit = 0.0;
    double products = 0.0;
    int rounds = 0;
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        step();
        const double taken = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
        state.SetIterationTime(taken);
        seconds += taken;
        // The limits in turn with the work, so that both see the same machine.
        limit += bench::arithmetic_limit(threads);
        products += bench::product_limit(threads);
        ++rounds;
    }
    const double rate = operations * rounds / seconds;
    state.counters["of_limit"] = rate * rounds / limit;
    state.counters["of_sgemm"] = rate * rounds / products;
    state.counters["threads"] = threads;
}

}  // namespace

int main(int argc, char** argv) {
    static const StepCase cases[] = {
        {"step/demo_64", {.widths = {16, 32, 64}, .blocks = 1, .stem_stride = 2}, 64, 16},
        {"step/residual_small_32", {.widths = {16, 32, 64}, .blocks = 2, .stem_stride = 1}, 32, 128},
        {"step/residual18_64", {.widths = {64, 128, 256, 512}, .blocks = 2, .stem_stride = 1}, 64, 16},
    };
    for (const StepCase& c : cases)
        for (const int threads : {1, 2})
            benchmark::RegisterBenchmark(
                fmt::format("{}/t{}", c.name, threads).c_str(),
                [&c, threads](benchmark::State& state) { run_step(state, c, threads); })
                ->UseManualTime()
                ->Unit(benchmark::kMillisecond)
                ->Iterations(c.size == 64 && c.network.widths.size() == 4 ? 5 : 15);
    return jevrin::bench::run(argc, argv);
}
