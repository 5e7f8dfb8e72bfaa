// The statistics that convolutions take of what they write.
#include "support/support.hpp"
#include "tensor/reference.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/convolution.hpp"
#include "jevrin/tensor/normalisation.hpp"

#include <cmath>

namespace jevrin {
namespace {

using test::random_tensor;

// In double, of the values as they are.
BatchStatistics plain_statistics(const Tensor& map, std::int64_t channels) {
    const auto rows = static_cast<double>(map.size() / channels);
    BatchStatistics s{std::vector<double>(static_cast<std::size_t>(channels)),
                      std::vector<double>(static_cast<std::size_t>(channels))};
    const auto each = [&](auto visit) {
        for (std::int64_t i = 0; i < map.size(); ++i)
            visit(static_cast<std::size_t>(i % channels), static_cast<double>(map.data()[i]));
    };
    each([&](std::size_t c, double v) { s.mean[c] += v / rows; });
    each([&](std::size_t c, double v) { s.variance[c] += (v - s.mean[c]) * (v - s.mean[c]) / rows; });
    return s;
}

ConvolutionShape square(std::int64_t size, std::int64_t in, std::int64_t out, std::int64_t kernel,
                        std::int64_t stride, std::int64_t groups = 1) {
    const std::int64_t pad = kernel / 2;
    return {.height = size,
            .width = size + 3,
            .in_channels = in,
            .out_channels = out,
            .kernel_height = kernel,
            .kernel_width = kernel,
            .stride_height = stride,
            .stride_width = stride,
            .pad_top = pad,
            .pad_left = pad,
            .pad_bottom = pad,
            .pad_right = pad,
            .groups = groups};
}

TEST(ChannelSums, AreThoseOfWhatConvolutionsWrite) {
    const int before = threads();
    // First convolutions, 1x1, transformed tiles in bands and with several images to one, rows that are
    // crossed, groups, depthwise.
    const ConvolutionShape shapes[] = {square(40, 3, 17, 7, 2),     square(30, 24, 100, 1, 1),
                                       square(33, 32, 48, 3, 1),    square(8, 64, 96, 3, 1),
                                       square(5, 40, 70, 3, 2),     square(20, 12, 30, 3, 1, 3),
                                       square(29, 43, 43, 5, 2, 43)};
    std::uint64_t seed = 0;
    for (const ConvolutionShape& s : shapes) {
        SCOPED_TRACE(seed);
        constexpr std::int64_t batch = 5;
        const Tensor input = random_tensor({batch * s.height * s.width * s.in_channels}, ++seed);
        const Tensor weight = random_tensor({s.weight_count()}, ++seed);
        // Far from zero: squares would cancel.
        Tensor bias({s.out_channels});
        bias.fill(3e4F);
        const ConvolutionKernel kernel(s);
        Tensor output({batch * s.out_height() * s.out_width() * s.out_channels});
        BatchStatistics first;
        for (const int count : {1, 2, 3, 5}) {
            set_threads(count);
            BatchStatistics taken;
            kernel.forward(batch, input.data(), weight.data(), bias.data(), {}, output.data(),
                           WeightForm::plain, &taken);
            if (count == 1) first = taken;
            EXPECT_EQ(taken.mean, first.mean);
            EXPECT_EQ(taken.variance, first.variance);
        }
        const BatchStatistics expected = plain_statistics(output, s.out_channels);
        BatchStatistics measured;
        measure_statistics({s.out_height() * s.out_width(), s.out_channels}, batch, output.data(), measured);
        for (std::size_t c = 0; c < expected.mean.size(); ++c)
            for (const BatchStatistics* of : {&first, &measured}) {
                ASSERT_NEAR(of->mean[c], expected.mean[c], 1e-7);
                ASSERT_NEAR(of->variance[c] / expected.variance[c], 1.0, 1e-9);
            }
    }
    set_threads(before);
}

}  // namespace
}  // namespace jevrin
