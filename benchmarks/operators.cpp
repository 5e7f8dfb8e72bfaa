// Single operators as shares of what the machine can do.
#include "figures.hpp"
#include "measure.hpp"

#include "jevrin/tensor/convolution.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <algorithm>
#include <string>
#include <vector>

namespace {

using namespace jevrin;

enum class Pass { forward, data_gradient, weight_gradient };

// One 3x3 convolution with its data.
struct ConvolutionCase {
    ConvolutionShape shape;
    std::int64_t batch;
    ConvolutionKernel kernel;
    Tensor input;
    Tensor weight;
    Tensor output;

    ConvolutionCase(std::int64_t channels, std::int64_t size, std::int64_t images)
        : shape{.height = size,
                .width = size,
                .in_channels = channels,
                .out_channels = channels,
                .kernel_height = 3,
                .kernel_width = 3,
                .pad_top = 1,
                .pad_left = 1,
                .pad_bottom = 1,
                .pad_right = 1},
          batch(images),
          kernel(shape),
          input({images, size, size, channels}),
          weight({3, 3, channels, channels}),
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

}  // namespace

int main(int argc, char** argv) {
    register_convolutions("forward", Pass::forward);
    register_convolutions("data_gradient", Pass::data_gradient);
    register_convolutions("weight_gradient", Pass::weight_gradient);
    return jevrin::bench::run(argc, argv);
}
