#include "support/support.hpp"
#include "tensor/reference.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/tensor/bfloat16.hpp"
#include "jevrin/tensor/convolution.hpp"
#include "jevrin/tensor/dense.hpp"
#include "jevrin/tensor/dropout.hpp"
#include "jevrin/tensor/integer_division.hpp"
#include "jevrin/tensor/normalisation.hpp"
#include "jevrin/tensor/pooling.hpp"
#include "jevrin/tensor/products.hpp"
#include "jevrin/tensor/scratch.hpp"

#include <bit>
#include <cmath>
#include <cstring>
#include <limits>

namespace jevrin {
namespace {

using test::Doubles;
using test::random_tensor;
using test::widen;
using test::worst_difference;

// Sums of at most a few thousand products in float32: 1e-5 leaves a factor of ten above what rounding gives.
constexpr double tolerance = 1e-5;

TEST(SumOfProducts, BothFormsAgreeWithPlainLoopsOverManyShapes) {
    RandomStream random({3, Purpose::sample, 0, 0});
    for (int round = 0; round < 150; ++round) {
        const std::int64_t rows = 1 + random.below(19);
        const std::int64_t columns = 1 + random.below(70);
        const std::int64_t depth = 1 + random.below(40);
        const std::size_t terms = 1 + random.below(11);
        const bool transposed = random.below(2) == 1;
        const bool accumulate = random.below(2) == 1;
        const std::int64_t a_stride = (transposed ? rows : depth) + random.below(4);
        const std::int64_t b_stride = columns + random.below(4);
        const std::int64_t c_stride = columns + random.below(4);
        const std::int64_t a_size = (transposed ? depth : rows) * a_stride;
        const Tensor a = random_tensor({static_cast<std::int64_t>(terms) * a_size},
                                       10 + static_cast<std::uint64_t>(round));
        const Tensor b = random_tensor({static_cast<std::int64_t>(terms) * depth * b_stride},
                                       500 + static_cast<std::uint64_t>(round));
        const Tensor before = random_tensor({rows * c_stride}, 900 + static_cast<std::uint64_t>(round));
        std::vector<std::uint64_t> a_offsets;
        std::vector<std::uint64_t> b_offsets;
        for (std::size_t t = 0; t < terms; ++t) {
            a_offsets.push_back(t * static_cast<std::uint64_t>(a_size));
            b_offsets.push_back((terms - 1 - t) * static_cast<std::uint64_t>(depth * b_stride));
        }
        Doubles expected = widen(before.values());
        for (std::int64_t r = 0; r < rows; ++r)
            for (std::int64_t c = 0; c < columns; ++c) {
                double sum = accumulate ? expected[static_cast<std::size_t>(r * c_stride + c)] : 0.0;
                for (std::size_t t = 0; t < terms; ++t)
                    for (std::int64_t k = 0; k < depth; ++k)
                        sum += static_cast<double>(
                                   a.data()[static_cast<std::int64_t>(a_offsets[t]) +
                                            (transposed ? k * a_stride + r : r * a_stride + k)]) *
                               b.data()[static_cast<std::int64_t>(b_offsets[t]) + k * b_stride + c];
                expected[static_cast<std::size_t>(r * c_stride + c)] = sum;
            }
        for (const ProductForm form : {ProductForm::fastest, ProductForm::portable}) {
            const SumOfProducts product(
                {rows, columns, depth, a_stride, b_stride, c_stride, transposed, accumulate}, form);
            Tensor c = before;
            product(a.data(), b.data(), c.data(), a_offsets, b_offsets);
            EXPECT_LT(worst_difference(c.values(), expected), tolerance)
                << rows << "x" << columns << "x" << depth << " terms " << terms << " transposed "
                << transposed;
        }
    }
}

TEST(SumOfProducts, MoreTermsThanOneCallTakesAreAllAdded) {
    constexpr std::size_t terms = 700;
    const Tensor a({1}, std::vector<float>{1.0F});
    const Tensor b({4}, std::vector<float>{1, 2, 3, 4});
    Tensor c({4});
    const std::vector<std::uint64_t> zeros(terms, 0);
    SumOfProducts({.rows = 1, .columns = 4, .depth = 1, .a_stride = 1, .b_stride = 4, .c_stride = 4})(
        a.data(), b.data(), c.data(), zeros, zeros);
    EXPECT_EQ(c.data()[3], 2800.0F);
}

// Every kind of shape: widths 1 to 3 and beyond a run, single, odd and many channels, kernels larger than
// the image (with enough padding), strides, dilations, groups and depthwise.
ConvolutionShape random_convolution(RandomStream& random) {
    const std::int64_t channels[] = {1, 2, 3, 5, 8, 16, 17, 33, 70};
    for (;;) {
        ConvolutionShape s{.height = 1 + random.below(9),
                           .width = 1 + random.below(random.below(4) == 0 ? 40 : 9),
                           .in_channels = channels[random.below(9)],
                           .out_channels = channels[random.below(9)],
                           .kernel_height = 1 + random.below(5),
                           .kernel_width = 1 + random.below(5),
                           .stride_height = 1 + random.below(3),
                           .stride_width = 1 + random.below(3),
                           .pad_top = random.below(4),
                           .pad_left = random.below(4),
                           .pad_bottom = random.below(4),
                           .pad_right = random.below(4),
                           .dilation_height = 1 + random.below(4) / 3,
                           .dilation_width = 1 + random.below(4) / 3};
        if (random.below(4) == 0) {
            s.groups = 1 + random.below(4);
            s.in_channels = s.groups * channels[random.below(6)];
            s.out_channels = s.groups * channels[random.below(6)];
        } else if (random.below(5) == 0) {
            s.groups = s.in_channels;
            s.out_channels = s.in_channels * (1 + random.below(2));
        }
        const bool fits = s.height + s.pad_top + s.pad_bottom > s.dilation_height * (s.kernel_height - 1) &&
                          s.width + s.pad_left + s.pad_right > s.dilation_width * (s.kernel_width - 1);
        if (fits) return s;
    }
}

void check_convolution(const ConvolutionShape& s, std::int64_t batch, std::uint64_t seed,
                       double bound = tolerance) {
    SCOPED_TRACE(seed);
    const Tensor input = random_tensor({batch * s.height * s.width * s.in_channels}, seed);
    const Tensor weight = random_tensor({s.weight_count()}, seed + 1000);
    const Tensor bias = random_tensor({s.out_channels}, seed + 2000);
    const Tensor gradient =
        random_tensor({batch * s.out_height() * s.out_width() * s.out_channels}, seed + 3000);
    const auto expected = test::reference_convolution(s, batch, widen(input.values()), widen(weight.values()),
                                                      widen(bias.values()));
    const auto gradients = test::reference_convolution_gradients(
        s, batch, widen(input.values()), widen(weight.values()), widen(gradient.values()));
    for (const ProductForm form : {ProductForm::fastest, ProductForm::portable}) {
        const ConvolutionKernel kernel(s, form);
        Tensor output({gradient.size()});
        kernel.forward(batch, input.data(), weight.data(), bias.data(), {}, output.data());
        ASSERT_LT(worst_difference(output.values(), expected), bound) << "forward";
        Tensor data({input.size()});
        kernel.data_gradient(batch, gradient.data(), weight.data(), false, data.data());
        ASSERT_LT(worst_difference(data.values(), gradients.input), bound) << "data gradient";
        kernel.data_gradient(batch, gradient.data(), weight.data(), true, data.data());
        Doubles twice = gradients.input;
        for (double& v : twice) v *= 2;
        ASSERT_LT(worst_difference(data.values(), twice), bound) << "accumulated data gradient";
        Tensor weights({weight.size()});
        kernel.weight_gradient(batch, input.data(), gradient.data(), weights.data());
        ASSERT_LT(worst_difference(weights.values(), gradients.weight), bound) << "weight gradient";
    }
}

TEST(Convolution, AllThreeFunctionsAgreeWithTheDefinitionOverManyShapes) {
    RandomStream random({4, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 400; ++round) {
        const ConvolutionShape s = random_convolution(random);
        check_convolution(s, 1 + random.below(6), round);
        if (HasFatalFailure()) return;
    }
}

// Images that are cut into several bands of rows, and weights of several blocks both ways.
TEST(Convolution, LargeImagesAndManyChannelsAgreeWithTheDefinition) {
    const ConvolutionShape padded{.in_channels = 20,
                                  .out_channels = 6,
                                  .kernel_height = 3,
                                  .kernel_width = 3,
                                  .pad_top = 1,
                                  .pad_left = 1,
                                  .pad_bottom = 1,
                                  .pad_right = 1};
    const auto sized = [](ConvolutionShape s, std::int64_t height, std::int64_t width) {
        s.height = height;
        s.width = width;
        return s;
    };
    std::uint64_t seed = 5000;
    check_convolution(sized(padded, 75, 66), 2, ++seed);
    check_convolution(sized(padded, 701, 5), 1, ++seed);  // narrow and tall
    check_convolution(sized(padded, 3, 900), 1, ++seed);
    ConvolutionShape strided = sized(padded, 91, 70);
    strided.stride_height = 2;
    strided.stride_width = 3;
    check_convolution(strided, 2, ++seed);
    ConvolutionShape pointwise = sized({.in_channels = 70, .out_channels = 100}, 33, 31);
    check_convolution(pointwise, 2, ++seed);
    ConvolutionShape many = sized(padded, 6, 5);
    many.in_channels = 131;
    many.out_channels = 99;
    check_convolution(many, 3, ++seed);
    many.groups = 1;
    many.in_channels = 160;
    many.out_channels = 160;
    check_convolution(sized(many, 2, 2), 20, ++seed);
    ConvolutionShape grouped = sized(padded, 40, 41);
    grouped.groups = 2;
    check_convolution(grouped, 2, ++seed);
    ConvolutionShape depthwise = sized(padded, 30, 40);
    depthwise.in_channels = 91;
    depthwise.out_channels = 91;
    depthwise.groups = 91;
    check_convolution(depthwise, 10, ++seed);
    check_convolution(sized({.in_channels = 3,
                             .out_channels = 8,
                             .kernel_height = 7,
                             .kernel_width = 7,
                             .stride_height = 2,
                             .stride_width = 2,
                             .pad_top = 3,
                             .pad_left = 3,
                             .pad_bottom = 2,
                             .pad_right = 2},
                            112, 96),
                      2, ++seed);
}

ConvolutionShape shape_3x3(std::int64_t height, std::int64_t width, std::int64_t in, std::int64_t out,
                           std::int64_t before, std::int64_t after) {
    return {.height = height,
            .width = width,
            .in_channels = in,
            .out_channels = out,
            .kernel_height = 3,
            .kernel_width = 3,
            .pad_top = before,
            .pad_left = after,
            .pad_bottom = after,
            .pad_right = before};
}

constexpr double transformed_tolerance = 3e-5;

TEST(Convolution, TransformedTilesServeDenseWindowsOfThreeByThree) {
    const ConvolutionShape least = shape_3x3(7, 7, 32, 32, 1, 1);
    EXPECT_TRUE(winograd_serves(least));
    EXPECT_TRUE(winograd_serves(shape_3x3(7, 7, 32, 32, 2, 2)));
    const std::pair<std::int64_t ConvolutionShape::*, std::int64_t> others[] = {
        {&ConvolutionShape::kernel_height, 1},
        {&ConvolutionShape::kernel_width, 5},
        {&ConvolutionShape::stride_height, 2},
        {&ConvolutionShape::stride_width, 2},
        {&ConvolutionShape::dilation_height, 2},
        {&ConvolutionShape::dilation_width, 2},
        {&ConvolutionShape::groups, 2},
        {&ConvolutionShape::in_channels, 16},
        {&ConvolutionShape::in_channels, 33},
        {&ConvolutionShape::out_channels, 16},
        {&ConvolutionShape::out_channels, 33},
        {&ConvolutionShape::pad_top, 3},
        {&ConvolutionShape::pad_left, 3},
        {&ConvolutionShape::pad_bottom, 3},
        {&ConvolutionShape::pad_right, 3},
        {&ConvolutionShape::height, 6},
        {&ConvolutionShape::width, 6}};
    for (const auto& [field, value] : others) {
        // Large enough that the map stays so whatever else changes.
        ConvolutionShape other = field == &ConvolutionShape::height || field == &ConvolutionShape::width
                                     ? least
                                     : shape_3x3(20, 20, 32, 32, 1, 1);
        ASSERT_TRUE(winograd_serves(other));
        other.*field = value;
        EXPECT_FALSE(winograd_serves(other)) << value;
    }
}

// Maps that tiles cover and such that they exceed, and margins of all widths.
TEST(Convolution, TransformedTilesAgreeWithTheDefinition) {
    std::uint64_t seed = 7000;
    const auto check = [&](const ConvolutionShape& s, std::int64_t batch) {
        ASSERT_TRUE(winograd_serves(s));
        check_convolution(s, batch, ++seed, transformed_tolerance);
    };
    check(shape_3x3(8, 8, 64, 64, 1, 1), 1);
    check(shape_3x3(7, 7, 64, 80, 1, 1), 1);
    check(shape_3x3(9, 12, 32, 64, 1, 1), 1);
    check(shape_3x3(13, 7, 32, 48, 2, 0), 2);
    check(shape_3x3(14, 11, 48, 32, 0, 2), 1);
}

// More columns and more depth than one block, several bands of rows, several images in a band, and weights
// whose transforms are not kept.
TEST(Convolution, TransformedTilesAgreeWithTheDirectSum) {
    const auto check = [](const ConvolutionShape& s, std::int64_t batch) {
        SCOPED_TRACE(s.in_channels);
        ASSERT_TRUE(winograd_serves(s));
        const Tensor input = random_tensor({batch * s.height * s.width * s.in_channels}, 1);
        const Tensor weight = random_tensor({s.weight_count()}, 2);
        const Tensor bias = random_tensor({s.out_channels}, 3);
        const Tensor gradient = random_tensor({batch * s.out_height() * s.out_width() * s.out_channels}, 4);
        Tensor outputs[2];
        Tensor data[2];
        Tensor weights[2];
        for (const bool winograd : {false, true}) {
            const ConvolutionKernel kernel(s, ProductForm::fastest, winograd);
            outputs[winograd] = Tensor({gradient.size()});
            data[winograd] = Tensor({input.size()});
            weights[winograd] = Tensor({weight.size()});
            kernel.forward(batch, input.data(), weight.data(), bias.data(), {FunctionKind::relu},
                           outputs[winograd].data());
            kernel.data_gradient(batch, gradient.data(), weight.data(), false, data[winograd].data());
            kernel.weight_gradient(batch, input.data(), gradient.data(), weights[winograd].data());
        }
        EXPECT_LT(worst_difference(outputs[1].values(), widen(outputs[0].values())), transformed_tolerance);
        EXPECT_LT(worst_difference(data[1].values(), widen(data[0].values())), transformed_tolerance);
        EXPECT_LT(worst_difference(weights[1].values(), widen(weights[0].values())), transformed_tolerance);
    };
    check(shape_3x3(12, 10, 80, 144, 0, 0), 1);
    check(shape_3x3(8, 9, 144, 160, 1, 2), 9);
    check(shape_3x3(45, 70, 32, 32, 1, 1), 1);
    check(shape_3x3(33, 30, 64, 64, 1, 1), 7);
    check(shape_3x3(7, 7, 352, 336, 1, 1), 5);
    check(shape_3x3(8, 8, 512, 512, 1, 1), 17);
}

void check_bits(std::int64_t in, std::int64_t out, std::int64_t batch) {
    const ConvolutionShape s = shape_3x3(9, 7, in, out, 1, 1);
    const Tensor input = random_tensor({batch * 9 * 7 * in}, 1);
    const Tensor weight = random_tensor({s.weight_count()}, 2);
    const ConvolutionKernel kernel(s);
    Tensor all({batch * 9 * 7 * out});
    kernel.forward(batch, input.data(), weight.data(), nullptr, {}, all.data());
    Tensor gradients[4];
    Tensor data_gradients[4];
    for (Tensor& gradient : data_gradients) gradient = Tensor({batch * 9 * 7 * in});
    for (const int threads : {1, 2, 3}) {
        set_threads(threads);
        Tensor one({9 * 7 * out});
        kernel.forward(1, input.data() + 4 * 9 * 7 * in, weight.data(), nullptr, {}, one.data());
        EXPECT_EQ(std::memcmp(one.data(), all.data() + 4 * 9 * 7 * out, one.values().size_bytes()), 0);
        kernel.data_gradient(batch, all.data(), weight.data(), false, data_gradients[threads].data());
        gradients[threads] = Tensor({s.weight_count()});
        kernel.weight_gradient(batch, input.data(), all.data(), gradients[threads].data());
    }
    set_threads(2);
    EXPECT_EQ(std::memcmp(gradients[1].data(), gradients[2].data(), gradients[1].values().size_bytes()), 0);
    EXPECT_EQ(std::memcmp(gradients[1].data(), gradients[3].data(), gradients[1].values().size_bytes()), 0);
    for (const int threads : {2, 3})
        EXPECT_EQ(std::memcmp(data_gradients[1].data(), data_gradients[threads].data(),
                              data_gradients[1].values().size_bytes()),
                  0);
}

TEST(Convolution, AnImageGetsTheSameBitsInEveryBatchAndWithAnyThreads) {
    check_bits(5, 18, 7);
    check_bits(64, 80, 7);
    check_bits(64, 80, 23);
    check_bits(32, 144, 7);
}

TEST(Convolution, AWeightThatIsLaidOutOnceGivesTheSameBits) {
    struct Case {
        std::int64_t channels, size, kernel;
        bool lays_out;
    };
    // In transformed tiles, kept and too large to keep; a single tap in several blocks, and in one.
    for (const Case& c :
         {Case{64, 9, 3, true}, Case{512, 7, 3, false}, Case{96, 5, 1, true}, Case{20, 5, 3, false}}) {
        const ConvolutionShape shape{.height = c.size,
                                     .width = c.size,
                                     .in_channels = c.channels,
                                     .out_channels = c.channels,
                                     .kernel_height = c.kernel,
                                     .kernel_width = c.kernel,
                                     .pad_top = c.kernel / 2,
                                     .pad_left = c.kernel / 2,
                                     .pad_bottom = c.kernel / 2,
                                     .pad_right = c.kernel / 2};
        const ConvolutionKernel kernel(shape);
        ASSERT_EQ(kernel.laid_out_size() > 0, c.lays_out) << c.channels;
        if (!c.lays_out) continue;
        const std::int64_t pixels = c.size * c.size * c.channels;
        const Tensor input = random_tensor({2 * pixels}, 1);
        const Tensor weight = random_tensor({shape.weight_count()}, 2);
        const Tensor bias = random_tensor({c.channels}, 3);
        Tensor laid_out({kernel.laid_out_size()});
        kernel.lay_out(weight.data(), laid_out.data());
        Tensor expected({2 * pixels});
        Tensor output({2 * pixels});
        kernel.forward(2, input.data(), weight.data(), bias.data(), {}, expected.data());
        kernel.forward(2, input.data(), laid_out.data(), bias.data(), {}, output.data(),
                       WeightForm::laid_out);
        EXPECT_TRUE(std::ranges::equal(output.values(), expected.values())) << c.channels;
    }
}

TEST(Dense, AWeightThatIsLaidOutOnceGivesTheSameBits) {
    const DenseKernel kernel(70, 100);
    const Tensor input = random_tensor({21 * 70}, 1);
    const Tensor weight = random_tensor({70 * 100}, 2);
    ASSERT_GT(kernel.laid_out_size(), 0);
    Tensor laid_out({kernel.laid_out_size()});
    kernel.lay_out(weight.data(), laid_out.data());
    Tensor expected({21 * 100});
    Tensor output({21 * 100});
    kernel.forward(21, input.data(), weight.data(), nullptr, {}, expected.data());
    kernel.forward(21, input.data(), laid_out.data(), nullptr, {}, output.data(), WeightForm::laid_out);
    EXPECT_TRUE(std::ranges::equal(output.values(), expected.values()));
}

TEST(Dense, ARowGetsTheSameBitsInEveryBatch) {
    constexpr std::int64_t rows = 119;  // two large blocks, small ones, and a rest
    for (const std::int64_t out : {1, 8, 11, 16, 17, 31, 32, 33, 48, 50, 64, 65, 80, 100, 193}) {
        for (const std::int64_t in : {1, 7, 37, 64, 130}) {
            const Tensor input = random_tensor({rows, in}, 1);
            const Tensor output_gradient = random_tensor({rows, out}, 2);
            const Tensor weight = random_tensor({in, out}, 3);
            const DenseKernel kernel(in, out);
            Tensor all({rows, out});
            Tensor all_gradients({rows, in});
            kernel.forward(rows, input.data(), weight.data(), nullptr, {}, all.data());
            kernel.data_gradient(rows, output_gradient.data(), weight.data(), false, all_gradients.data());
            for (std::int64_t n = 0; n < rows; ++n) {
                Tensor one({out});
                Tensor gradient({in});
                kernel.forward(1, input.data() + n * in, weight.data(), nullptr, {}, one.data());
                kernel.data_gradient(1, output_gradient.data() + n * out, weight.data(), false,
                                     gradient.data());
                ASSERT_EQ(std::memcmp(one.data(), all.data() + n * out, one.values().size_bytes()), 0)
                    << in << " to " << out << ", row " << n;
                ASSERT_EQ(std::memcmp(gradient.data(), all_gradients.data() + n * in,
                                      gradient.values().size_bytes()),
                          0)
                    << out << " to " << in << ", row " << n;
            }
        }
    }
}

TEST(Normalisation, AHandWorkedBatch) {
    // Two channels over four rows: (1, 10), (3, 10), (5, 30), (7, 30): means 4 and 20, variances 5 and 100.
    const NormalisationShape shape{.pixels = 2, .channels = 2, .epsilon = 0.0F};
    const std::vector<float> input = {1, 10, 3, 10, 5, 30, 7, 30};
    BatchStatistics statistics;
    measure_statistics(shape, 2, input.data(), statistics);
    EXPECT_THAT(statistics.mean, testing::ElementsAre(4.0, 20.0));
    EXPECT_THAT(statistics.variance, testing::ElementsAre(5.0, 100.0));
    const std::vector<float> scale = {1, 2};
    const std::vector<float> shift = {0, 1};
    std::vector<float> output(8);
    normalise(shape, 2, input.data(), statistics, scale.data(), shift.data(), nullptr, {}, output.data());
    EXPECT_NEAR(output[0], -3 / std::sqrt(5.0), 1e-6);
    EXPECT_FLOAT_EQ(output[1], -1.0F);
    EXPECT_FLOAT_EQ(output[7], 3.0F);
}

TEST(Bfloat16, RoundsToTheNearestValueAndHalvesToTheEvenOne) {
    const float infinity = std::numeric_limits<float>::infinity();
    const std::vector<float> values = {
        0.0F,         -0.0F,       1.0F,     1.0F + 0x1p-8F, 1.0F + 0x3p-8F, 1.0F + 0x1.01p-8F,
        -3.14159274F, 0x1.ffp127F, infinity, -infinity};
    const std::vector<float> expected = {0.0F,           -0.0F,      1.0F,     1.0F,     1.0F + 0x4p-8F,
                                         1.0F + 0x2p-8F, -3.140625F, infinity, infinity, -infinity};
    std::vector<std::uint16_t> narrow(values.size());
    std::vector<float> back(values.size());
    narrow_to_bfloat16(std::ssize(values), values.data(), narrow.data());
    widen_bfloat16(std::ssize(values), narrow.data(), back.data());
    EXPECT_EQ(back, expected);
    EXPECT_TRUE(std::signbit(back[1]));
    const float no_number = std::bit_cast<float>(0x7F800001U);
    narrow_to_bfloat16(1, &no_number, narrow.data());
    widen_bfloat16(1, narrow.data(), back.data());
    EXPECT_TRUE(std::isnan(back[0]));
}

TEST(Normalisation, ALargeCommonOffsetCostsNoDigits) {
    const NormalisationShape shape{.pixels = 1000, .channels = 1};
    Tensor input = random_tensor({1000}, 3, 0.5);
    double mean = 0;
    for (float& v : input.values()) v += 10'000.0F;
    for (const float v : input.values()) mean += v / 1000.0;
    double variance = 0;
    for (const float v : input.values()) variance += (v - mean) * (v - mean) / 1000.0;
    BatchStatistics statistics;
    measure_statistics(shape, 1, input.data(), statistics);
    EXPECT_NEAR(statistics.mean[0], mean, 1e-9);
    EXPECT_NEAR(statistics.variance[0], variance, 1e-9);
}

TEST(Pooling, TheFirstOfEqualValuesWinsAndNotANumberOnlyWhereThereIsNoOther) {
    const float infinity = std::numeric_limits<float>::infinity();
    const float none = std::nanf("");
    // One row of windows of two pixels; two channels.
    const PoolingShape shape{.height = 1, .width = 8, .channels = 2, .kernel_width = 2, .stride_width = 2};
    const std::vector<float> input = {none, 5, 3,         5,         none, -infinity, none, -infinity,
                                      2,    1, -infinity, -infinity, 4,    none,      7,    6};
    std::vector<float> output(8);
    std::vector<std::int32_t> winners(8);
    max_pool(shape, 1, input.data(), output.data(), winners.data());
    EXPECT_EQ(output[0], 3.0F);
    EXPECT_EQ(output[1], 5.0F);
    EXPECT_TRUE(std::isnan(output[2]));
    EXPECT_EQ(output[3], -infinity);
    EXPECT_THAT(std::vector<float>(output.begin() + 4, output.end()), testing::ElementsAre(2, 1, 7, 6));
    EXPECT_THAT(winners, testing::ElementsAre(2, 1, 4, 5, 8, 9, 14, 15));
    std::vector<float> alone(8);
    max_pool(shape, 1, input.data(), alone.data(), nullptr);
    EXPECT_EQ(std::memcmp(alone.data(), output.data(), 8 * sizeof(float)), 0);
}

TEST(Pooling, TheAverageOfAMapReplacesWhatWasThere) {
    const std::vector<float> input = {1, 10, 2, 20, 3, 30, 6, 60};  // two images of two pixels, two channels
    std::vector<float> output(4, 7.0F);
    global_average_pool(2, 2, 2, input.data(), output.data());
    EXPECT_THAT(output, testing::ElementsAre(1.5F, 15, 4.5F, 45));
    std::vector<float> gradient(8, 7.0F);
    global_average_pool_backward(2, 2, 2, output.data(), false, gradient.data());
    EXPECT_THAT(gradient, testing::ElementsAre(0.75F, 7.5F, 0.75F, 7.5F, 2.25F, 22.5F, 2.25F, 22.5F));
    global_average_pool_backward(2, 2, 2, output.data(), true, gradient.data());
    EXPECT_THAT(gradient, testing::ElementsAre(1.5F, 15, 1.5F, 15, 4.5F, 45, 4.5F, 45));
}

TEST(Pooling, HandWorkedWindows) {
    const PoolingShape shape{
        .height = 2, .width = 3, .channels = 1, .kernel_height = 2, .kernel_width = 2, .pad_left = 1};
    const std::vector<float> image = {1, 5, 2,  //
                                      4, 3, 9};
    std::vector<float> output(3);
    std::vector<std::int32_t> winners(3);
    max_pool(shape, 1, image.data(), output.data(), winners.data());
    EXPECT_THAT(output, testing::ElementsAre(4, 5, 9));
    EXPECT_THAT(winners, testing::ElementsAre(3, 1, 5));
    std::vector<float> gradient(6);
    max_pool_backward(shape, 1, std::vector<float>{1, 10, 100}.data(), winners.data(), false,
                      gradient.data());
    EXPECT_THAT(gradient, testing::ElementsAre(0, 10, 0, 1, 0, 100));
    average_pool(shape, 1, image.data(), output.data());
    EXPECT_THAT(output, testing::ElementsAre(2.5F, 3.25F, 4.75F));
    PoolingShape counting = shape;
    counting.count_padding = true;
    average_pool(counting, 1, image.data(), output.data());
    EXPECT_THAT(output, testing::ElementsAre(1.25F, 3.25F, 4.75F));
}

TEST(Dropout, TheGradientPassesWhereTheValueDid) {
    const Tensor input({1, 1000}, std::vector<float>(1000, 2.0F));
    std::vector<float> output(1000);
    std::vector<std::uint8_t> kept(1000);
    const std::int64_t item = 5;
    dropout({0.5, 1, 1, 1, &item}, 1, 1000, input.data(), output.data(), kept.data());
    std::vector<float> gradient(1000, 1.0F);
    const std::vector<float> ones(1000, 1.0F);
    dropout_backward(0.5, 1000, kept.data(), ones.data(), true, gradient.data());
    for (std::size_t i = 0; i < 1000; ++i) EXPECT_EQ(gradient[i], 1.0F + output[i] / 2.0F);
}

TEST(WholeNumbers, DivideAsTheirNamesSay) {
    for (std::int64_t a = -20; a <= 20; ++a)
        for (std::int64_t b = 1; b <= 7; ++b) {
            const double exact = static_cast<double>(a) / static_cast<double>(b);
            EXPECT_EQ(static_cast<double>(divide_down(a, b)), std::floor(exact));
            EXPECT_EQ(static_cast<double>(divide_up(a, b)), std::ceil(exact));
            EXPECT_EQ(round_up(a, b) % b, 0);
        }
}

TEST(Scratch, LeasesAreApartAndAligned) {
    const Scratch first(1000);
    const Scratch second(10);
    const Scratch third(5000);
    for (const Scratch* lease : {&first, &second, &third})
        EXPECT_EQ(reinterpret_cast<std::uintptr_t>(lease->data()) % 64, 0U);
    std::fill_n(first.data(), 1000, 1.0F);
    std::fill_n(second.data(), 10, 2.0F);
    std::fill_n(third.data(), 5000, 3.0F);
    EXPECT_EQ(std::count(first.data(), first.data() + 1000, 1.0F), 1000);
    EXPECT_EQ(std::count(second.data(), second.data() + 10, 2.0F), 10);
}

TEST(Scratch, AReturnedBlockIsLeasedAgain) {
    float* place = nullptr;
    {
        const Scratch first(123'456);
        place = first.data();
    }
    const Scratch again(123'456);
    EXPECT_EQ(again.data(), place);
}

TEST(Dropout, KeepsTheExpectedShareAndTheSameMaskForTheSameKey) {
    const Tensor input({2, 5000}, std::vector<float>(10'000, 1.0F));
    std::vector<float> output(10'000);
    std::vector<std::uint8_t> mask(10'000);
    const std::vector<std::int64_t> items = {8, 9};
    dropout({0.25, 1, 2, 3, items.data()}, 2, 5000, input.data(), output.data(), mask.data());
    double kept = 0;
    for (const float v : output) {
        EXPECT_TRUE(v == 0.0F || v == 4.0F / 3.0F);
        kept += v > 0;
    }
    EXPECT_NEAR(kept / 10'000, 0.75, 0.02);
    std::vector<float> alone(5000);
    dropout({0.25, 1, 2, 3, items.data() + 1}, 1, 5000, input.data(), alone.data(), mask.data());
    EXPECT_TRUE(std::equal(alone.begin(), alone.end(), output.begin() + 5000));
}

}  // namespace
}  // namespace jevrin
