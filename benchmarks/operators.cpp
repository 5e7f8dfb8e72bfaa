// Single operators as fractions of what the machine can do.
#include "figures.hpp"
#include "measure.hpp"

#include "jevrin/tensor/convolution.hpp"
#include "jevrin/tensor/dense.hpp"
#include "jevrin/tensor/group_normalisation.hpp"
#include "jevrin/tensor/matrix_product.hpp"
#include "jevrin/tensor/normalisation.hpp"
#include "jevrin/tensor/softmax.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <algorithm>
#include <string>
#include <tuple>
#include <vector>

namespace {

using namespace jevrin;

enum class Pass { forward, data_gradient, weight_gradient };

// One 3x3 convolution with its data; with as many groups as channels it is depthwise.
struct ConvolutionCase {
    ConvolutionShape shape;
    std::int64_t batch;
    ConvolutionKernel kernel;
    Tensor input;
    Tensor weight;
    Tensor output;

    ConvolutionCase(std::int64_t channels, std::int64_t size, std::int64_t images, std::int64_t groups = 1)
        : shape{.height = size,
                .width = size,
                .in_channels = channels,
                .out_channels = channels,
                .kernel_height = 3,
                .kernel_width = 3,
                .pad_top = 1,
                .pad_left = 1,
                .pad_bottom = 1,
                .pad_right = 1,
                .groups = groups},
          batch(images),
          kernel(shape),
          input({images, size, size, channels}),
          weight({3, 3, channels / groups, channels}),
          output({images, size, size, channels}) {
        input.fill(0.5F);
        weight.fill(0.01F);
        output.fill(0.25F);
    }
    double operations() const {
        return 2.0 * static_cast<double>(shape.multiplications()) * static_cast<double>(batch);
    }
    void run(Pass pass) {
        switch (pass) {
            case Pass::forward:
                kernel.forward(batch, input.data(), weight.data(), nullptr, {}, output.data());
                break;
            case Pass::data_gradient:
                kernel.data_gradient(batch, output.data(), weight.data(), false, input.data());
                break;
            case Pass::weight_gradient:
                kernel.weight_gradient(batch, input.data(), output.data(), weight.data());
                break;
        }
    }
};

// All map sizes of a channel count in one figure: their operations over their time.
void run_convolutions(benchmark::State& state, Pass pass, std::int64_t channels,
                      const std::vector<std::int64_t>& sizes, int threads) {
    std::vector<ConvolutionCase> cases;
    double operations = 0.0;
    for (const std::int64_t size : sizes) {
        // The usual batch, fewer where that would take tenths of a second.
        const std::int64_t batch = (1LL << 29) / (channels * channels * size * size);
        cases.emplace_back(channels, size, std::clamp<std::int64_t>(batch, 1, 32));
        operations += cases.back().operations();
    }
    bench::measure_arithmetic(state, threads, operations, [&] {
        for (ConvolutionCase& c : cases) c.run(pass);
    });
}

void register_convolutions(const char* name, Pass pass) {
    for (const std::int64_t channels : {32, 64, 128, 256, 512}) {
        const std::vector<std::int64_t> sizes =
            channels == 512 ? std::vector<std::int64_t>{8, 4} : std::vector<std::int64_t>{64, 32, 16, 8};
        const auto add = [&](const std::string& figure, const std::vector<std::int64_t>& maps) {
            bench::add_figure(
                fmt::format("conv3x3/{}/c{}{}", name, channels, figure), 9,
                [=](benchmark::State& state) { run_convolutions(state, pass, channels, maps, 2); });
        };
        add("", sizes);
        for (const std::int64_t size : sizes) add(fmt::format("/map{}", size), {size});
    }
}

// Depthwise 3x3: each pass has to read two arrays of this size or read one and write one.
void run_depthwise(benchmark::State& state, Pass pass, std::int64_t channels, std::int64_t size) {
    ConvolutionCase c(channels, size, 16, channels);
    const double bytes = 2.0 * static_cast<double>(c.input.size()) * sizeof(float);
    bench::measure_memory(state, 2, bytes, [&] { c.run(pass); });
}

void register_depthwise(const char* name, Pass pass) {
    for (const auto& [channels, size] : {std::pair{64, 112}, {144, 56}, {240, 28}, {576, 14}})
        bench::add_figure(fmt::format("depthwise3x3/{}/c{}/map{}", name, channels, size), 9,
                          [=](benchmark::State& state) { run_depthwise(state, pass, channels, size); });
}

// A 1x1 convolution, which is one plain product.
void run_pointwise(benchmark::State& state, std::int64_t in, std::int64_t out, std::int64_t size) {
    const ConvolutionShape shape{.height = size, .width = size, .in_channels = in, .out_channels = out};
    const ConvolutionKernel kernel(shape);
    const Tensor input({16, size, size, in});
    const Tensor weight({in, out});
    Tensor output({16, size, size, out});
    bench::measure_arithmetic(state, 2, 2.0 * 16 * static_cast<double>(shape.multiplications()), [&] {
        kernel.forward(16, input.data(), weight.data(), nullptr, {}, output.data());
    });
}

void run_dense(benchmark::State& state, Pass pass, std::int64_t rows, std::int64_t in, std::int64_t out) {
    const DenseKernel kernel(in, out);
    Tensor input({rows, in});
    Tensor weight({in, out});
    Tensor output({rows, out});
    bench::measure_arithmetic(state, 2, 2.0 * static_cast<double>(rows * in * out), [&] {
        if (pass == Pass::forward)
            kernel.forward(rows, input.data(), weight.data(), nullptr, {}, output.data());
        else if (pass == Pass::data_gradient)
            kernel.data_gradient(rows, output.data(), weight.data(), false, input.data());
        else
            kernel.weight_gradient(rows, input.data(), output.data(), weight.data());
    });
}

// Scores of attention: for each head of each image a product of tokens by tokens.
void run_matrix_product(benchmark::State& state, std::int64_t heads, std::int64_t tokens,
                        std::int64_t depth) {
    const MatrixProductKernel kernel(tokens, depth, tokens);
    const Tensor a({heads, tokens, depth});
    const Tensor b({heads, depth, tokens});
    Tensor c({heads, tokens, tokens});
    bench::measure_arithmetic(state, 2, 2.0 * static_cast<double>(heads * tokens * tokens * depth),
                              [&] { kernel.forward(heads, a.data(), b.data(), c.data()); });
}

// Operators that pass over memory; bytes are those of the arrays they cannot avoid.
void register_passes() {
    constexpr std::int64_t count = 16 * 64 * 64 * 64;
    constexpr double array = count * sizeof(float);
    bench::add_figure("normalisation/forward", 9, [](benchmark::State& state) {
        const NormalisationShape shape{.pixels = 64 * 64, .channels = 64};
        const Tensor input({count});
        Tensor output({count});
        const Tensor scale({64});
        BatchStatistics statistics;
        bench::measure_memory(state, 2, 3 * array, [&] {
            measure_statistics(shape, 16, input.data(), statistics);
            normalise(shape, 16, input.data(), statistics, scale.data(), scale.data(), nullptr,
                      {FunctionKind::relu}, output.data());
        });
    });
    bench::add_figure("normalisation/backward", 9, [](benchmark::State& state) {
        const NormalisationShape shape{.pixels = 64 * 64, .channels = 64};
        const Tensor input({count});
        const Tensor output_gradient({count});
        Tensor gradient({count});
        Tensor scale({64});
        Tensor shift({64});
        BatchStatistics statistics;
        measure_statistics(shape, 16, input.data(), statistics);
        bench::measure_memory(state, 2, 5 * array, [&] {
            normalise_backward(shape, 16, input.data(), statistics, StatisticsKind::of_batch, scale.data(),
                               scale.data(), {FunctionKind::relu}, nullptr, output_gradient.data(),
                               {gradient.data(), false, scale.data(), shift.data()});
        });
    });
    for (const FunctionKind kind : {FunctionKind::relu, FunctionKind::hard_swish, FunctionKind::gelu})
        bench::add_figure("activation/" + name_of(kind), 9, [=](benchmark::State& state) {
            const Tensor input({count});
            Tensor output({count});
            bench::measure_memory(state, 2, 2 * array,
                                  [&] { apply({kind}, count, input.data(), output.data()); });
        });
    bench::add_figure("softmax/197", 9, [](benchmark::State& state) {
        const SoftmaxShape shape{.outer = 16 * 12 * 197, .length = 197};
        const Tensor input({shape.outer, shape.length});
        Tensor output({shape.outer, shape.length});
        bench::measure_memory(state, 2, 2.0 * static_cast<double>(input.size()) * sizeof(float),
                              [&] { softmax(shape, input.data(), output.data()); });
    });
    bench::add_figure("layer_normalisation/forward", 9, [](benchmark::State& state) {
        const GroupNormalisationShape shape{.channels = 192};
        const Tensor input({16 * 1024, 192});
        Tensor output({16 * 1024, 192});
        const Tensor scale({192});
        bench::measure_memory(state, 2, 2.0 * static_cast<double>(input.size()) * sizeof(float), [&] {
            normalise_groups(shape, 16 * 1024, input.data(), scale.data(), scale.data(), output.data(),
                             nullptr);
        });
    });
}

}  // namespace

int main(int argc, char** argv) {
    register_convolutions("forward", Pass::forward);
    register_convolutions("data_gradient", Pass::data_gradient);
    register_convolutions("weight_gradient", Pass::weight_gradient);
    register_depthwise("forward", Pass::forward);
    register_depthwise("data_gradient", Pass::data_gradient);
    register_depthwise("weight_gradient", Pass::weight_gradient);
    for (const auto& [in, out, size] : {std::tuple{64, 256, 32}, {256, 64, 32}, {512, 512, 8}})
        jevrin::bench::add_figure(fmt::format("conv1x1/forward/c{}_{}/map{}", in, out, size), 9,
                                  [=](benchmark::State& state) { run_pointwise(state, in, out, size); });
    for (const auto& [name, pass] : {std::pair{"forward", Pass::forward},
                                     {"data_gradient", Pass::data_gradient},
                                     {"weight_gradient", Pass::weight_gradient}})
        jevrin::bench::add_figure(fmt::format("dense/{}/192_768", name), 9, [=](benchmark::State& state) {
            run_dense(state, pass, 32 * 65, 192, 768);
        });
    jevrin::bench::add_figure("matrix_product/197x64", 9,
                              [](benchmark::State& state) { run_matrix_product(state, 16 * 3, 197, 64); });
    register_passes();
    return jevrin::bench::run(argc, argv);
}
