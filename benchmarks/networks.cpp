// Whole networks: a training step and a forward pass as fractions of what the machine can do, what the step
// consists of, two threads against one, its memory, and what keeping activations in bfloat16 changes.
#include "figures.hpp"
#include "measure.hpp"
#include "single_image.hpp"
#include "traffic.hpp"

#include "jevrin/base/memory.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/optimiser.hpp"

#include <malloc.h>

#include <fstream>
#include <functional>
#include <map>
#include <string>
#include <vector>

namespace {

using namespace jevrin;

constexpr std::int64_t classes = 10;

struct NetworkCase {
    std::string name;
    std::int64_t size;  // of the square colour images
    std::int64_t batch;
    std::function<Network(const Shape&)> backbone;
    int rounds = 7;

    Network build() const {
        Network network = backbone({size, size, 3});
        append_head(network, {}, classes);
        initialise(network, 0, 1);
        return network;
    }
};

// A network with everything a training step takes.
class Trainer {
  public:
    explicit Trainer(const NetworkCase& c, KeptActivations kept = KeptActivations::float32)
        : batch_(c.batch),
          images_(static_cast<std::size_t>(c.batch * c.size * c.size * 3), 0.3F),
          targets_(static_cast<std::size_t>(c.batch), Target{.label = 1}),
          items_(static_cast<std::size_t>(c.batch), 0),
          gradient_(static_cast<std::size_t>(c.batch * classes)),
          network_(c.build()),
          pass_(network_, c.batch, kept),
          optimiser_({}, pass_.parameters()) {}

    void step() {
        const auto logits = pass_.forward(batch_, images_, {1, 1, items_.data()});
        cross_entropy(classes, logits, targets_, gradient_);
        pass_.backward(batch_, gradient_);
        optimiser_.step(pass_.parameters(), {.learning_rate = 0.001});
    }
    // Two for each multiplication, in three passes: forward, data gradient, weight gradient.
    double operations() const {
        return 2.0 * 3.0 * static_cast<double>(multiplication_count(network_)) * static_cast<double>(batch_);
    }
    void measure_nodes() { pass_.measure_nodes(); }
    // The share of each kind of operator in the time of the steps since measure_nodes(); nodes that are
    // computed within another count there.
    std::map<std::string, double> operator_shares() const {
        std::map<std::string, double> shares;
        double sum = 0.0;
        for (std::size_t n = 0; n < network_.nodes.size(); ++n) {
            const auto* convolution = std::get_if<operators::Convolution>(&network_.nodes[n].op);
            const double seconds = pass_.node_seconds()[n];
            const bool is_depthwise = convolution != nullptr && convolution->groups > 1;
            shares[is_depthwise ? "depthwise convolution" : operator_name(network_.nodes[n].op)] += seconds;
            sum += seconds;
        }
        for (auto& [name, share] : shares) share /= sum;
        return shares;
    }
    bench::Traffic traffic() const { return bench::step_traffic(network_, batch_); }
    // Bytes that no step can do without: what forward keeps, and parameters, gradients and momentum.
    double least_memory() const {
        return static_cast<double>(pass_.memory().kept_per_item * batch_ +
                                   3 * parameter_count(network_) * static_cast<std::int64_t>(sizeof(float)));
    }

  private:
    std::int64_t batch_;
    std::vector<float> images_;
    std::vector<Target> targets_;
    std::vector<std::int64_t> items_;
    std::vector<float> gradient_;
    Network network_;
    TrainingPass pass_;
    Optimiser optimiser_;
};

void run_step(benchmark::State& state, const NetworkCase& c, int threads) {
    set_threads(threads);
    Trainer trainer(c);
    const bench::Traffic bytes = trainer.traffic();
    bench::measure_network(state, threads, trainer.operations(), bytes.unfused, bytes.fused,
                           [&] { trainer.step(); });
}

void run_forward(benchmark::State& state, const NetworkCase& c, int threads) {
    set_threads(threads);
    const Network network = c.build();
    Inference inference(network, c.batch);
    const std::vector<float> images(static_cast<std::size_t>(c.batch * inference.input_size()), 0.3F);
    const double operations =
        2.0 * static_cast<double>(multiplication_count(network)) * static_cast<double>(c.batch);
    const bench::Traffic bytes = bench::forward_traffic(network, c.batch);
    bench::measure_network(state, threads, operations, bytes.unfused, bytes.fused,
                           [&] { inference.run(c.batch, images); });
}

// The shares of the kinds of operators that take a hundredth of the step or more, on one thread.
void run_operators(benchmark::State& state, const NetworkCase& c) {
    set_threads(1);
    Trainer trainer(c);
    trainer.step();
    trainer.measure_nodes();
    for (auto _ : state) {
        const auto begin = std::chrono::steady_clock::now();
        trainer.step();
        state.SetIterationTime(bench::seconds_since(begin));
    }
    for (const auto& [name, share] : trainer.operator_shares())
        if (share >= 0.01) state.counters[name] = share;
    state.counters["threads"] = 1;
}

// The time on one thread over that on two, steps in turn.
void run_scaling(benchmark::State& state, const NetworkCase& c) {
    Trainer trainer(c);
    const auto seconds = [&](int threads) {
        set_threads(threads);
        const auto begin = std::chrono::steady_clock::now();
        trainer.step();
        return bench::seconds_since(begin);
    };
    seconds(1);
    std::vector<double> ratios;
    double before = seconds(1);
    for (auto _ : state) {
        const double two = seconds(2);
        const double after = seconds(1);
        state.SetIterationTime(two);
        ratios.push_back((before + after) / 2 / two);
        before = after;
    }
    state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = 2;
}

// What a process takes once, for threads and the generator of kernels, belongs to no step: a small network
// takes it before.
void take_what_a_process_takes() {
    set_threads(2);
    Trainer({"small", 16, 2,
             [](const Shape& image) {
                 return residual_backbone({.widths = {4, 8}, .blocks = {1}}, image);
             }})
        .step();
}

struct StepMemory {
    double bytes;  // what the process holds at most during training steps beyond what it held before
    double least;  // what no step can do without
};
StepMemory memory_of_steps(const NetworkCase& c, KeptActivations kept) {
    malloc_trim(0);
    const std::int64_t before = resident_memory();
    std::ofstream("/proc/self/clear_refs") << "5";  // forgets the peak so far
    Trainer trainer(c, kept);
    trainer.step();
    trainer.step();
    return {static_cast<double>(peak_memory() - before), trainer.least_memory()};
}

void run_memory(benchmark::State& state, const NetworkCase& c) {
    take_what_a_process_takes();
    StepMemory memory{};
    for (auto _ : state) {
        memory = memory_of_steps(c, KeptActivations::float32);
        state.SetIterationTime(1e-3);
    }
    state.counters["value"] = memory.bytes / 1e6;
    state.counters["ratio"] = memory.bytes / memory.least;
    state.counters["threads"] = 2;
    state.SetLabel("MB");
}

// Activations in bfloat16: the memory of a step over that with float32, and its time, steps in turn.
void run_bfloat16(benchmark::State& state, const NetworkCase& c) {
    take_what_a_process_takes();
    const double whole = memory_of_steps(c, KeptActivations::float32).bytes;
    const double half = memory_of_steps(c, KeptActivations::bfloat16).bytes;
    Trainer plain(c);
    Trainer rounded(c, KeptActivations::bfloat16);
    const auto seconds = [](Trainer& trainer) {
        const auto begin = std::chrono::steady_clock::now();
        trainer.step();
        return bench::seconds_since(begin);
    };
    seconds(plain);
    seconds(rounded);
    std::vector<double> ratios;
    for (auto _ : state) {
        const double with = seconds(rounded);
        ratios.push_back(with / seconds(plain));
        state.SetIterationTime(with);
    }
    state.counters["memory_ratio"] = half / whole;
    state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = 2;
}

const std::vector<NetworkCase>& cases() {
    const auto residual = [](std::vector<std::int64_t> widths, std::int64_t blocks,
                             std::int64_t stem_stride) {
        return [=](const Shape& image) {
            return residual_backbone({.widths = widths, .blocks = {blocks}, .stem_stride = stem_stride},
                                     image);
        };
    };
    const auto inverted = [](const Shape& image) {
        // About the smaller network of Howard 2019, table 2.
        const FunctionKind relu = FunctionKind::relu;
        return inverted_residual_backbone(
            {.stages = {{.width = 16, .stride = 2, .expansion = 1, .activation = relu},
                        {.width = 24, .blocks = 2, .stride = 2, .squeeze = false, .activation = relu},
                        {.width = 40, .blocks = 3, .stride = 2, .kernel = 5},
                        {.width = 48, .blocks = 2, .expansion = 3, .kernel = 5},
                        {.width = 96, .blocks = 3, .stride = 2, .expansion = 6, .kernel = 5}},
             .last_width = 576},
            image);
    };
    const auto transformer = [](const Shape& image) {
        return vision_transformer_backbone({.patch = 8, .width = 192, .depth = 6, .heads = 3}, image);
    };
    const std::vector<std::int64_t> wide = {64, 128, 256, 512};
    static const std::vector<NetworkCase> all = {
        {"demo_64", 64, 16, residual({16, 32, 64}, 1, 2)},
        {"residual_small_32", 32, 128, residual({16, 32, 64}, 2, 1)},
        {"residual18_64", 64, 16, residual(wide, 2, 1)},
        {"residual18_224", 224, 8,
         [=](const Shape& image) {
             return residual_backbone({.widths = wide, .blocks = {2}, .stem_kernel = 7, .stem_pool = true},
                                      image);
         },
         5},
        {"inverted_residual_224", 224, 16, inverted},
        {"vision_transformer_64", 64, 32, transformer},
        {"vision_transformer_224", 224, 8,
         [](const Shape& image) {
             return vision_transformer_backbone({.patch = 16, .width = 192, .depth = 6, .heads = 3}, image);
         },
         5},
    };
    return all;
}

}  // namespace

int main(int argc, char** argv) {
    // These first, while the process is fresh.
    for (const NetworkCase& c : cases())
        jevrin::bench::add_figure("forward/" + c.name + "/first_call", 1, [&c](benchmark::State& state) {
            jevrin::bench::run_first_call(state, c.build());
        });
    for (const NetworkCase& c : cases())
        jevrin::bench::add_figure("step/" + c.name + "/memory", 1,
                                  [&c](benchmark::State& state) { run_memory(state, c); });
    for (const NetworkCase& c : cases())
        jevrin::bench::add_figure("step/" + c.name + "/bfloat16", c.rounds,
                                  [&c](benchmark::State& state) { run_bfloat16(state, c); });
    for (const NetworkCase& c : cases()) {
        for (const int threads : {1, 2})
            jevrin::bench::add_figure(
                fmt::format("step/{}/t{}", c.name, threads), c.rounds,
                [&c, threads](benchmark::State& state) { run_step(state, c, threads); });
        jevrin::bench::add_figure("step/" + c.name + "/operators", c.rounds,
                                  [&c](benchmark::State& state) { run_operators(state, c); });
        jevrin::bench::add_figure("step/" + c.name + "/scaling", c.rounds,
                                  [&c](benchmark::State& state) { run_scaling(state, c); });
        for (const int threads : {1, 2})
            jevrin::bench::add_figure(
                fmt::format("forward/{}/t{}", c.name, threads), c.rounds,
                [&c, threads](benchmark::State& state) { run_forward(state, c, threads); });
        jevrin::bench::add_figure("forward/" + c.name + "/one", c.rounds, [&c](benchmark::State& state) {
            jevrin::bench::run_single_image(state, c.build());
        });
    }
    return jevrin::bench::run(argc, argv);
}
