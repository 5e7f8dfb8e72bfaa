// Random sweeps of the smaller kernels against plain loops in double.
#include "execution/reference_network.hpp"
#include "support/support.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/graph/graph.hpp"
#include "jevrin/tensor/dense.hpp"
#include "jevrin/tensor/normalisation.hpp"
#include "jevrin/tensor/pooling.hpp"
#include "jevrin/tensor/reduction.hpp"

#include <cmath>

namespace jevrin {
namespace {

using test::Doubles;
using test::random_tensor;
using test::widen;
using test::worst_difference;

constexpr double sweep_tolerance = 1e-5;

TEST(PoolingSweep, MaximumAndAverageAgreeWithTheirDefinitions) {
    RandomStream random({11, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 150; ++round) {
        operators::Window w{1 + random.below(4), 1 + random.below(4), 1 + random.below(3),
                            1 + random.below(3)};
        w.pad_top = random.below(static_cast<std::uint32_t>(w.kernel_height));
        w.pad_left = random.below(static_cast<std::uint32_t>(w.kernel_width));
        w.pad_bottom = random.below(static_cast<std::uint32_t>(w.kernel_height));
        w.pad_right = random.below(static_cast<std::uint32_t>(w.kernel_width));
        const std::int64_t height = w.kernel_height + random.below(6);
        const std::int64_t width = w.kernel_width + random.below(6);
        const std::int64_t channels = 1 + random.below(5);
        const std::int64_t batch = 1 + random.below(3);
        const bool counting = random.below(2) == 1;
        w.round_up = random.below(2) == 1;
        const PoolingShape s{height,          width,          channels,  w.kernel_height, w.kernel_width,
                             w.stride_height, w.stride_width, w.pad_top, w.pad_left,      w.pad_bottom,
                             w.pad_right,     counting,       w.round_up};
        const Shape in{height, width, channels};
        const Shape out{s.out_height(), s.out_width(), channels};
        const Tensor input = random_tensor({batch * element_count(in)}, round);
        Tensor output({batch * element_count(out)});
        std::vector<std::int32_t> winners(output.values().size());
        max_pool(s, batch, input.data(), output.data(), winners.data());
        const Doubles x = widen(input.values());
        EXPECT_LT(
            worst_difference(output.values(), test::reference_pooling(w, in, out, batch, x, true, false)),
            sweep_tolerance);
        // The gradient of a sum of maxima is one at every winner, as often as it wins.
        Tensor ones({output.size()});
        ones.fill(1.0F);
        Tensor gradient({input.size()});
        max_pool_backward(s, batch, ones.data(), winners.data(), false, gradient.data());
        double total = 0;
        for (const float g : gradient.values()) total += g;
        EXPECT_DOUBLE_EQ(total, static_cast<double>(output.size()));
        average_pool(s, batch, input.data(), output.data());
        EXPECT_LT(
            worst_difference(output.values(), test::reference_pooling(w, in, out, batch, x, false, counting)),
            sweep_tolerance);
    }
}

TEST(DenseSweep, AllThreeFunctionsAgreeWithTheDefinition) {
    RandomStream random({12, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 60; ++round) {
        const std::int64_t batch = 1 + random.below(60);
        const std::int64_t in = 1 + random.below(100);
        const std::int64_t out = 1 + random.below(random.below(3) == 0 ? 150 : 30);
        const Tensor x = random_tensor({batch, in}, round);
        const Tensor w = random_tensor({in, out}, round + 100);
        const Tensor b = random_tensor({out}, round + 200);
        const Tensor g = random_tensor({batch, out}, round + 300);
        Doubles y(static_cast<std::size_t>(batch * out));
        Doubles dx(static_cast<std::size_t>(batch * in), 0.0);
        Doubles dw(static_cast<std::size_t>(in * out), 0.0);
        Doubles db(static_cast<std::size_t>(out), 0.0);
        for (std::int64_t n = 0; n < batch; ++n)
            for (std::int64_t o = 0; o < out; ++o) {
                const double slope = g.data()[n * out + o];
                double sum = b.data()[o];
                for (std::int64_t i = 0; i < in; ++i) {
                    const double value = x.data()[n * in + i];
                    sum += value * w.data()[i * out + o];
                    dx[static_cast<std::size_t>(n * in + i)] += slope * w.data()[i * out + o];
                    dw[static_cast<std::size_t>(i * out + o)] += slope * value;
                }
                y[static_cast<std::size_t>(n * out + o)] = sum;
                db[static_cast<std::size_t>(o)] += slope;
            }
        for (const ProductForm form : {ProductForm::fastest, ProductForm::portable}) {
            const DenseKernel kernel(in, out, form);
            Tensor forward({batch, out});
            kernel.forward(batch, x.data(), w.data(), b.data(), {}, forward.data());
            EXPECT_LT(worst_difference(forward.values(), y), sweep_tolerance);
            Tensor data({batch, in});
            kernel.data_gradient(batch, g.data(), w.data(), false, data.data());
            EXPECT_LT(worst_difference(data.values(), dx), sweep_tolerance);
            Tensor weights({in, out});
            kernel.weight_gradient(batch, x.data(), g.data(), weights.data());
            EXPECT_LT(worst_difference(weights.values(), dw), sweep_tolerance);
        }
        Tensor biases({out});
        sum_rows(batch, out, g.data(), biases.data());
        EXPECT_LT(worst_difference(biases.values(), db), sweep_tolerance);
    }
}

TEST(NormalisationSweep, StatisticsAreTheSameBitsForAnyNumberOfThreads) {
    RandomStream random({13, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 20; ++round) {
        const NormalisationShape shape{.pixels = 1 + random.below(40), .channels = 1 + random.below(20)};
        const std::int64_t batch = 1 + random.below(19);
        const Tensor input = random_tensor({batch * shape.pixels * shape.channels}, round);
        std::vector<BatchStatistics> all(3);
        for (int threads = 1; threads <= 3; ++threads) {
            set_threads(threads);
            measure_statistics(shape, batch, input.data(), all[static_cast<std::size_t>(threads - 1)]);
        }
        set_threads(2);
        for (const BatchStatistics& s : all) {
            EXPECT_EQ(s.mean, all[0].mean);
            EXPECT_EQ(s.variance, all[0].variance);
        }
    }
}

}  // namespace
}  // namespace jevrin
