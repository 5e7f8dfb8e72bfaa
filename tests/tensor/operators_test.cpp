// Operators by hand-worked cases and random sweeps against their definitions; their gradients are checked in
// tests/network.
#include "support/support.hpp"
#include "tensor/reference.hpp"

#include "jevrin/base/random.hpp"
#include "jevrin/tensor/arithmetic.hpp"
#include "jevrin/tensor/group_normalisation.hpp"
#include "jevrin/tensor/matrix_product.hpp"
#include "jevrin/tensor/normalisation.hpp"
#include "jevrin/tensor/pointwise.hpp"
#include "jevrin/tensor/rearrangement.hpp"
#include "jevrin/tensor/reduction.hpp"
#include "jevrin/tensor/softmax.hpp"
#include "jevrin/tensor/transposition.hpp"
#include "jevrin/tensor/vector_math.hpp"

#include <fmt/format.h>

#include <array>
#include <limits>
#include <numeric>

namespace jevrin {
namespace {

using test::Doubles;
using test::random_tensor;

constexpr float infinity = std::numeric_limits<float>::infinity();

TEST(VectorMath, StaysWithinItsStatedErrors) {
    for (int i = -40'000; i <= 40'000; ++i) {
        const float x = static_cast<float>(i) * 2e-3F;  // -80 to 80
        const auto exact = static_cast<double>(x);
        EXPECT_LE(std::abs(fast_exp(x) / std::exp(exact) - 1), 2e-7) << x;
        EXPECT_LE(std::abs(fast_tanh(x) - std::tanh(exact)), 5e-7 * std::abs(std::tanh(exact)) + 1e-12) << x;
        EXPECT_LE(std::abs(fast_erf(x) - std::erf(exact)), 3e-7) << x;
        EXPECT_LE(std::abs(fast_sigmoid(x) - 1 / (1 + std::exp(-exact))), 2e-7) << x;
    }
}

TEST(VectorMath, HasTheRightLimits) {
    EXPECT_EQ(fast_exp(-1000.0F), 0.0F);
    EXPECT_GT(fast_exp(1000.0F), 3e38F);
    EXPECT_EQ(fast_exp(0.0F), 1.0F);
    EXPECT_TRUE(std::isnan(fast_exp(std::nanf(""))));
    EXPECT_EQ(fast_tanh(infinity), 1.0F);
    EXPECT_EQ(fast_tanh(-infinity), -1.0F);
    EXPECT_EQ(fast_erf(-50.0F), -1.0F);
    EXPECT_EQ(fast_sigmoid(-infinity), 0.0F);
}

TEST(Pointwise, HandWorkedValues) {
    const auto value = [](const Function& function, float x) {
        float y = 0;
        apply(function, 1, &x, &y);
        return y;
    };
    EXPECT_EQ(value({FunctionKind::relu}, -2), 0.0F);
    EXPECT_EQ(value({FunctionKind::clip, 0, 6}, 7.5F), 6.0F);
    EXPECT_FLOAT_EQ(value({FunctionKind::leaky_relu, 0.1F}, -2), -0.2F);
    EXPECT_FLOAT_EQ(value({FunctionKind::hard_sigmoid, 0.2F, 0.5F}, 1), 0.7F);
    EXPECT_FLOAT_EQ(value({FunctionKind::hard_swish}, 1), 2.0F / 3.0F);
    EXPECT_EQ(value({FunctionKind::hard_swish}, 4), 4.0F);
    EXPECT_EQ(value({FunctionKind::hard_swish}, -3), 0.0F);
    EXPECT_NEAR(value({FunctionKind::silu}, 1), 0.7310585786, 1e-6);
    EXPECT_NEAR(value({FunctionKind::gelu}, 1), 0.8413447461, 1e-6);  // the normal distribution below 1
    EXPECT_FLOAT_EQ(value({FunctionKind::square_root}, 9), 3.0F);
}

TEST(Functions, HaveTheSlopeOfOneSideWhereTheyBend) {
    struct Place {
        Function function;
        float x, value, slope;
    };
    const Place places[] = {{{FunctionKind::relu}, 0, 0, 0},
                            {{FunctionKind::relu}, 2, 2, 1},
                            {{FunctionKind::clip, 1, 6}, 1, 1, 0},
                            {{FunctionKind::clip, 1, 6}, 1.5F, 1.5F, 1},
                            {{FunctionKind::clip, 1, 6}, 6, 6, 0},
                            {{FunctionKind::clip, 1, 6}, 7, 6, 0},
                            {{FunctionKind::leaky_relu, 0.25F}, 0, 0, 1},
                            {{FunctionKind::leaky_relu, 0.25F}, -4, -1, 0.25F},
                            {{FunctionKind::hard_sigmoid, 0.25F, 0.5F}, -2, 0, 0},
                            {{FunctionKind::hard_sigmoid, 0.25F, 0.5F}, 0, 0.5F, 0.25F},
                            {{FunctionKind::hard_sigmoid, 0.25F, 0.5F}, 2, 1, 0},
                            {{FunctionKind::hard_swish}, -3, 0, 0},
                            {{FunctionKind::hard_swish}, 0, 0, 0.5F},
                            {{FunctionKind::hard_swish}, 3, 3, 1},
                            {{FunctionKind::absolute}, 0, 0, 0},
                            {{FunctionKind::absolute}, -2, 2, -1},
                            {{FunctionKind::absolute}, 2, 2, 1},
                            {{FunctionKind::elu, 0.5F, 2}, 0, 0, 2},
                            {{FunctionKind::thresholded_relu, 1}, 1, 0, 0},
                            {{FunctionKind::thresholded_relu, 1}, 1.5F, 1.5F, 1},
                            {{FunctionKind::softsign}, 1, 0.5F, 0.25F},
                            {{FunctionKind::round}, 2.5F, 2, 0},
                            {{FunctionKind::round}, 3.5F, 4, 0},
                            {{FunctionKind::identity}, -3, -3, 1}};
    for (const auto& [function, x, value, slope] : places) {
        SCOPED_TRACE(fmt::format("{} at {}", name_of(function.kind), x));
        float y = 0;
        apply(function, 1, &x, &y);
        EXPECT_FLOAT_EQ(y, value);
        const float known = slope_needs_input(function) ? x : y;
        const float gradient = 3;
        float down = 10;
        apply_backward(function, 1, &known, &gradient, true, &down);
        EXPECT_FLOAT_EQ(down, 10 + 3 * slope);
        apply_backward(function, 1, &known, &gradient, false, &down);
        EXPECT_FLOAT_EQ(down, 3 * slope);
    }
}

TEST(Transposition, AgreesWithItsDefinitionForEverySizeAndStride) {
    RandomStream random({31, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 200; ++round) {
        const std::int64_t rows = 1 + random.below(40);
        const std::int64_t columns = 1 + random.below(40);
        const std::int64_t from_stride = columns + random.below(5);
        const std::int64_t to_stride = rows + random.below(5);
        const Tensor from = random_tensor({rows * from_stride}, round);
        Tensor to({columns * to_stride});
        to.fill(7.0F);
        transpose(rows, columns, from.data(), from_stride, to.data(), to_stride);
        for (std::int64_t c = 0; c < columns; ++c)
            for (std::int64_t r = 0; r < to_stride; ++r)
                ASSERT_EQ(to.data()[c * to_stride + r], r < rows ? from.data()[r * from_stride + c] : 7.0F)
                    << rows << "x" << columns;
    }
}

TEST(MatrixProduct, AllThreeFunctionsAgreeWithTheDefinitionInBothForms) {
    RandomStream random({32, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 80; ++round) {
        const std::int64_t count = 1 + random.below(4);
        const std::int64_t m = 1 + random.below(30);
        const std::int64_t k = 1 + random.below(70);
        const std::int64_t n = 1 + random.below(90);
        const Tensor a = random_tensor({count * m * k}, round);
        const Tensor b = random_tensor({count * k * n}, round + 100);
        const Tensor g = random_tensor({count * m * n}, round + 200);
        Doubles c(static_cast<std::size_t>(count * m * n), 0);
        Doubles da(static_cast<std::size_t>(count * m * k), 0);
        Doubles db(static_cast<std::size_t>(count * k * n), 0);
        for (std::int64_t i = 0; i < count * m; ++i)
            for (std::int64_t j = 0; j < k; ++j)
                for (std::int64_t l = 0; l < n; ++l) {
                    const auto at_a = static_cast<std::size_t>(i * k + j);
                    const auto at_b = static_cast<std::size_t>((i / m * k + j) * n + l);
                    const auto at_c = static_cast<std::size_t>(i * n + l);
                    const auto x = static_cast<double>(a.values()[at_a]);
                    const auto y = static_cast<double>(b.values()[at_b]);
                    const auto slope = static_cast<double>(g.values()[at_c]);
                    c[at_c] += x * y;
                    da[at_a] += slope * y;
                    db[at_b] += slope * x;
                }
        for (const ProductForm form : {ProductForm::fastest, ProductForm::portable}) {
            const MatrixProductKernel kernel(m, k, n, form);
            Tensor product({count * m * n});
            kernel.forward(count, a.data(), b.data(), product.data());
            EXPECT_LT(test::worst_difference(product.values(), c), 1e-5);
            Tensor left({count * m * k});
            kernel.left_gradient(count, b.data(), g.data(), false, left.data());
            EXPECT_LT(test::worst_difference(left.values(), da), 1e-5);
            Tensor right({count * k * n});
            kernel.right_gradient(count, a.data(), g.data(), false, right.data());
            kernel.right_gradient(count, a.data(), g.data(), true, right.data());
            Doubles twice = db;
            for (double& v : twice) v *= 2;
            EXPECT_LT(test::worst_difference(right.values(), twice), 1e-5);
        }
    }
}

TEST(Softmax, SumsToOneWithoutOverflowAndItsLogarithmIsExact) {
    const std::vector<float> logits = {1000, 1001, -1000, -50, -51, -52};
    std::vector<float> shares(6);
    softmax({2, 3, 1}, logits.data(), shares.data());
    EXPECT_NEAR(shares[1], 0.7310585786, 1e-6);
    EXPECT_EQ(shares[2], 0.0F);
    EXPECT_NEAR(shares[3], 0.6652409558, 1e-6);
    log_softmax({2, 3, 1}, logits.data(), shares.data());
    EXPECT_NEAR(shares[1], -0.3132616875, 1e-6);
    EXPECT_NEAR(shares[2], -2001.3132616875, 1e-3);
}

TEST(Softmax, WorksAlongAMiddleDimension) {
    const std::vector<float> logits = {0, 5, 0, 5, 0, 5};  // [1, 3, 2]: two distributions of three
    std::vector<float> shares(6);
    softmax({1, 3, 2}, logits.data(), shares.data());
    for (const float s : shares) EXPECT_NEAR(s, 1.0 / 3.0, 1e-6);
}

TEST(Softmax, AgreesWithItsDefinitionOverManyShapes) {
    RandomStream random({33, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 100; ++round) {
        const SoftmaxShape s{1 + random.below(6), 1 + random.below(40), 1 + random.below(4)};
        const Tensor x = random_tensor({s.outer * s.length * s.inner}, round, 3.0);
        Tensor shares({x.size()});
        Tensor logarithms({x.size()});
        softmax(s, x.data(), shares.data());
        log_softmax(s, x.data(), logarithms.data());
        for (std::int64_t o = 0; o < s.outer; ++o)
            for (std::int64_t i = 0; i < s.inner; ++i) {
                const auto place = [&](std::int64_t k) { return (o * s.length + k) * s.inner + i; };
                double sum = 0;
                for (std::int64_t k = 0; k < s.length; ++k)
                    sum += std::exp(static_cast<double>(x.data()[place(k)]));
                for (std::int64_t k = 0; k < s.length; ++k) {
                    const double share = std::exp(static_cast<double>(x.data()[place(k)])) / sum;
                    EXPECT_NEAR(shares.data()[place(k)], share, 1e-6);
                    EXPECT_NEAR(logarithms.data()[place(k)], std::log(share), 2e-6 * (1 - std::log(share)));
                }
            }
    }
}

TEST(Normalisation, JoinedWithReluItIsTheSameAsBothInTurn) {
    RandomStream random({34, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 40; ++round) {
        const NormalisationShape shape{.pixels = 1 + random.below(30), .channels = 1 + random.below(80)};
        const std::int64_t batch = 2 + random.below(12);
        const std::int64_t size = batch * shape.pixels * shape.channels;
        const Tensor x = random_tensor({size}, round);
        const Tensor g = random_tensor({size}, round + 100);
        const Tensor scale = random_tensor({shape.channels}, round + 200);
        const Tensor shift = random_tensor({shape.channels}, round + 300);
        BatchStatistics statistics;
        measure_statistics(shape, batch, x.data(), statistics);
        Tensor joined({size});
        Tensor separate({size});
        normalise(shape, batch, x.data(), statistics, scale.data(), shift.data(), nullptr,
                  {FunctionKind::relu}, joined.data());
        normalise(shape, batch, x.data(), statistics, scale.data(), shift.data(), nullptr, {},
                  separate.data());
        Tensor masked({size});
        for (std::int64_t i = 0; i < size; ++i) {
            EXPECT_EQ(joined.data()[i], std::max(separate.data()[i], 0.0F));
            masked.data()[i] = separate.data()[i] > 0 ? g.data()[i] : 0.0F;
        }
        Tensor dx[2] = {Tensor({size}), Tensor({size})};
        Tensor parameters[2] = {Tensor({2, shape.channels}), Tensor({2, shape.channels})};
        for (const int way : {0, 1})
            normalise_backward(
                shape, batch, x.data(), statistics, StatisticsKind::of_batch, scale.data(), shift.data(),
                {way == 0 ? FunctionKind::relu : FunctionKind::identity}, nullptr,
                way == 0 ? g.data() : masked.data(),
                {dx[way].data(), false, parameters[way].data(), parameters[way].data() + shape.channels});
        for (std::int64_t i = 0; i < size; ++i) EXPECT_EQ(dx[0].data()[i], dx[1].data()[i]);
        for (std::int64_t i = 0; i < 2 * shape.channels; ++i)
            EXPECT_EQ(parameters[0].data()[i], parameters[1].data()[i]);
    }
}

TEST(Arithmetic, KnowsWhichShapesFitTogether) {
    EXPECT_EQ(broadcast_shape({3, 4, 5}, {5}), (Shape{3, 4, 5}));
    EXPECT_EQ(broadcast_shape({3, 1, 5}, {4, 1}), (Shape{3, 4, 5}));
    EXPECT_EQ(broadcast_shape({}, {2}), (Shape{2}));
    EXPECT_EQ(broadcast_shape({3, 4}, {3}), std::nullopt);
}

TEST(Arithmetic, AHandWorkedBroadcast) {
    const std::vector<float> image = {1, 2, 3, 4};  // [2, 2]
    const std::vector<float> column = {10, 20};     // [2, 1]
    std::vector<float> out(4);
    const ArithmeticKernel kernel(ArithmeticKind::multiply, {2, 2}, {2, 1});
    kernel.forward(1, image.data(), column.data(), out.data());
    EXPECT_THAT(out, testing::ElementsAre(10, 20, 60, 80));
    std::vector<float> image_gradient(4, 1.0F);
    std::vector<float> column_gradient(2);
    const std::vector<float> ones(4, 1.0F);
    kernel.backward(1, image.data(), column.data(), ones.data(), {image_gradient.data(), true},
                    {column_gradient.data(), false});
    EXPECT_THAT(image_gradient, testing::ElementsAre(11, 11, 21, 21));
    EXPECT_THAT(column_gradient, testing::ElementsAre(3, 7));
}

TEST(Rearrangement, HandWorkedMoves) {
    const std::vector<float> image = {1, 2, 3, 4, 5, 6};  // [2, 3]
    std::vector<float> turned(6);
    Rearrangement::transpose({2, 3}, std::array<std::int64_t, 2>{1, 0})
        .forward(1, image.data(), turned.data());
    EXPECT_THAT(turned, testing::ElementsAre(1, 4, 2, 5, 3, 6));
    std::vector<float> padded(12);
    const std::array<std::int64_t, 2> none = {0, 0};
    const std::array<std::int64_t, 2> columns = {0, 2};
    Rearrangement::pad({2, 3}, columns, none, PaddingKind::reflect, 0)
        .forward(1, image.data(), padded.data());
    EXPECT_THAT(std::vector(padded.begin(), padded.begin() + 10),
                testing::ElementsAre(3, 2, 1, 2, 3, 6, 5, 4, 5, 6));
    std::vector<float> gradient(6);
    Rearrangement::gather({2, 3}, 1, std::array<std::int64_t, 3>{0, 0, 2})
        .backward(1, std::vector<float>{1, 10, 100, 2, 20, 200}.data(), false, gradient.data());
    EXPECT_THAT(gradient, testing::ElementsAre(11, 0, 100, 22, 0, 200));
}

// Where each element of the output comes from, by moving the places of the input themselves.
void check_rearrangement(const Rearrangement& moves, std::int64_t input_size, std::int64_t output_size) {
    constexpr std::int64_t batch = 3;
    std::vector<float> places(static_cast<std::size_t>(batch * input_size));
    std::iota(places.begin(), places.end(), 0.0F);
    std::vector<float> moved(static_cast<std::size_t>(batch * output_size));
    moves.forward(batch, places.data(), moved.data());
    std::vector<float> gradient(moved.size());
    for (std::size_t i = 0; i < gradient.size(); ++i) gradient[i] = static_cast<float>(i % 97) - 40.0F;
    for (const float begin : {0.0F, 5.0F}) {
        std::vector<float> expected(places.size(), begin);
        for (std::size_t i = 0; i < moved.size(); ++i)
            expected[static_cast<std::size_t>(moved[i])] += gradient[i];
        std::vector<float> sums(places.size(), begin);
        moves.backward(batch, gradient.data(), begin > 0.0F, sums.data());
        EXPECT_EQ(sums, expected);
    }
}

TEST(Rearrangement, TranspositionsOfAnyShapeMoveEachElementToItsPlaceAndItsGradientBack) {
    RandomStream random({7, Purpose::sample, 0, 0});
    for (int round = 0; round < 200; ++round) {
        Shape shape;
        std::vector<std::int64_t> permutation;
        for (std::uint64_t d = 0; d < 1 + random.below(4); ++d) {
            shape.push_back(static_cast<std::int64_t>(1 + random.below(20)));
            permutation.insert(permutation.begin() + static_cast<std::ptrdiff_t>(random.below(d + 1)),
                               static_cast<std::int64_t>(d));
        }
        SCOPED_TRACE(fmt::format("{} by {}", to_string(shape), fmt::join(permutation, ",")));
        const Rearrangement moves = Rearrangement::transpose(shape, permutation);
        const std::int64_t size = element_count(shape);
        check_rearrangement(moves, size, size);
        std::vector<float> places(static_cast<std::size_t>(size));
        std::iota(places.begin(), places.end(), 0.0F);
        std::vector<float> moved(places.size());
        moves.forward(1, places.data(), moved.data());
        for (std::int64_t i = 0; i < size; ++i) {
            std::vector<std::int64_t> at(shape.size());
            std::int64_t rest = i;
            for (std::size_t d = shape.size(); d-- > 0;) {
                const auto from = static_cast<std::size_t>(permutation[d]);
                at[from] = rest % shape[from];
                rest /= shape[from];
            }
            std::int64_t source = 0;
            for (std::size_t d = 0; d < shape.size(); ++d) source = source * shape[d] + at[d];
            ASSERT_EQ(moved[static_cast<std::size_t>(i)], static_cast<float>(source));
        }
    }
}

TEST(Rearrangement, SlicesAndListsGiveGradientsBackWithoutAnyThatWereNotTaken) {
    const std::vector<Stretch> stretches = {{.start = 1, .step = 2, .count = 4},
                                            {.start = 9, .step = -2, .count = 5},
                                            {.start = 0, .step = 1, .count = 7}};
    check_rearrangement(Rearrangement::slice({9, 10, 7}, stretches), 9 * 10 * 7, 4 * 5 * 7);
    const std::vector<std::int64_t> list = {2, 3, 4, 4, 0, 2};
    for (const std::int64_t axis : {0, 1, 2})
        check_rearrangement(Rearrangement::gather({5, 6, 7}, axis, list), 5 * 6 * 7,
                            5 * 6 * 7 / (5 + axis) * 6);
    const std::vector<std::int64_t> every = {1, 0, 1};
    check_rearrangement(Rearrangement::gather({40, 2, 900}, 1, every), 40 * 2 * 900, 40 * 3 * 900);
}

TEST(Reduction, SumsKeepDigitsThatFloatsWouldLose) {
    // 2^24 and a thousand ones: adding the ones to a float one by one would lose every one of them.
    std::vector<float> values(1001, 1.0F);
    values[0] = 16'777'216.0F;
    float sum = 0;
    const ReductionKernel kernel(ReductionKind::sum, {1001}, std::array<std::int64_t, 1>{0});
    kernel.forward(1, values.data(), &sum, nullptr);
    EXPECT_EQ(sum, 16'778'216.0F);
    std::vector<float> sums(1);
    sum_rows(1001, 1, values.data(), sums.data());
    EXPECT_EQ(sums[0], 16'778'216.0F);
}

TEST(GroupNormalisation, ALargeCommonOffsetCostsNoDigits) {
    std::vector<float> values = {100'001, 100'003, 100'005, 100'007};  // mean 100004, deviation sqrt 5
    const std::vector<float> scale(4, 1.0F);
    const std::vector<float> shift(4, 0.0F);
    normalise_groups({.channels = 4, .epsilon = 0.0F}, 1, values.data(), scale.data(), shift.data(),
                     values.data(), nullptr);
    EXPECT_NEAR(values[0], -3 / std::sqrt(5.0), 1e-6);
    EXPECT_NEAR(values[3], 3 / std::sqrt(5.0), 1e-6);
}

}  // namespace
}  // namespace jevrin
