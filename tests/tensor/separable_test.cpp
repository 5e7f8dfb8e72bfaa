// Depthwise convolutions with 1x1 convolutions around them, in strips, against plain loops.
#include "jevrin/tensor/separable.hpp"

#include "support/support.hpp"
#include "tensor/reference.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"

#include <array>
#include <cstring>

namespace jevrin {
namespace {

using test::Doubles;
using test::random_tensor;
using test::widen;
using test::worst_difference;

constexpr Function relu{FunctionKind::relu};

struct Case {
    SeparableShape shape;
    std::int64_t batch = 1;
    bool adds = false;

    std::int64_t channels() const { return shape.depthwise.groups; }
    std::int64_t in() const { return shape.input_channels(); }
    std::int64_t out() const { return shape.output_channels(); }
    std::int64_t out_size() const {
        return batch * shape.depthwise.out_height() * shape.depthwise.out_width() * out();
    }
};

// The arguments of one call.
class Values {
  public:
    Values(const Case& one, std::uint64_t seed)
        : case_(one),
          input(random_tensor({one.batch * one.shape.depthwise.height * one.shape.depthwise.width * one.in()},
                              seed)),
          expand(random_tensor({one.in() * one.channels()}, seed + 1)),
          expand_bias(random_tensor({one.channels()}, seed + 2)),
          depthwise(random_tensor({one.shape.depthwise.weight_count()}, seed + 3)),
          depthwise_bias(random_tensor({one.channels()}, seed + 4)),
          project(random_tensor({one.channels() * one.out()}, seed + 5)),
          project_bias(random_tensor({one.out()}, seed + 6)),
          added(random_tensor({one.out_size()}, seed + 7)) {}

    Doubles expected() const {
        const ConvolutionShape& s = case_.shape.depthwise;
        const auto rectified = [](Doubles values) {
            for (double& v : values) v = std::max(v, 0.0);
            return values;
        };
        Doubles x = widen(input.values());
        const auto single = [&](std::int64_t height, std::int64_t width, std::int64_t from, std::int64_t to,
                                const Tensor& weight, const Tensor& bias) {
            return test::reference_convolution(
                {.height = height, .width = width, .in_channels = from, .out_channels = to}, case_.batch, x,
                widen(weight.values()), widen(bias.values()));
        };
        if (case_.shape.in_channels > 0)
            x = rectified(single(s.height, s.width, case_.in(), case_.channels(), expand, expand_bias));
        x = rectified(test::reference_convolution(s, case_.batch, x, widen(depthwise.values()),
                                                  widen(depthwise_bias.values())));
        if (case_.shape.out_channels > 0)
            x = single(s.out_height(), s.out_width(), case_.channels(), case_.out(), project, project_bias);
        for (std::size_t i = 0; i < x.size() && case_.adds; ++i) x[i] += added.values()[i];
        return x;
    }

    std::vector<float> computed(std::int64_t first, std::int64_t batch,
                                ProductForm form = ProductForm::fastest) const {
        const SeparableKernel kernel(case_.shape, form);
        std::vector<float> packed_expand(expand.values().size());
        std::vector<float> packed_project(project.values().size());
        const bool expands = case_.shape.in_channels > 0;
        const bool projects = case_.shape.out_channels > 0;
        const std::int64_t in_size = input.size() / case_.batch;
        const std::int64_t out_size = case_.out_size() / case_.batch;
        std::vector<float> output(static_cast<std::size_t>(batch * out_size), -1.0F);
        kernel.forward(batch, input.data() + first * in_size,
                       {expands ? kernel.pack_expansion(expand.data(), packed_expand.data()) : nullptr,
                        expand_bias.data(), relu},
                       {depthwise.data(), depthwise_bias.data(), relu},
                       {projects ? kernel.pack_projection(project.data(), packed_project.data()) : nullptr,
                        project_bias.data(),
                        {}},
                       case_.adds ? added.data() + first * out_size : nullptr, output.data());
        return output;
    }

  private:
    Case case_;
    Tensor input;
    Tensor expand;
    Tensor expand_bias;
    Tensor depthwise;
    Tensor depthwise_bias;
    Tensor project;
    Tensor project_bias;
    Tensor added;
};

Case random_case(RandomStream& random) {
    for (;;) {
        const std::int64_t channels = std::array<std::int64_t, 6>{2, 5, 16, 24, 70, 144}[random.below(6)];
        const ConvolutionShape s{.height = 1 + random.below(30),
                                 .width = 1 + random.below(random.below(3) == 0 ? 60 : 12),
                                 .in_channels = channels,
                                 .out_channels = channels,
                                 .kernel_height = 1 + random.below(5),
                                 .kernel_width = 1 + random.below(5),
                                 .stride_height = 1 + random.below(3),
                                 .stride_width = 1 + random.below(3),
                                 .pad_top = random.below(6),  // whole rows of nothing but zeros among them
                                 .pad_left = random.below(4),
                                 .pad_bottom = random.below(6),
                                 .pad_right = random.below(4),
                                 .dilation_height = 1 + random.below(4) / 3,
                                 .dilation_width = 1 + random.below(4) / 3,
                                 .groups = channels};
        const std::int64_t around[] = {0, 1, 3, 16, 24, 96};
        Case one{
            {s, around[random.below(6)], around[random.below(6)]}, 1 + random.below(5), random.below(2) == 0};
        if (one.shape.in_channels + one.shape.out_channels == 0) continue;
        if (s.height + s.pad_top + s.pad_bottom > s.dilation_height * (s.kernel_height - 1) &&
            s.width + s.pad_left + s.pad_right > s.dilation_width * (s.kernel_width - 1))
            return one;
    }
}

TEST(SeparableConvolution, AgreesWithTheDefinitionOverManyShapes) {
    RandomStream random({5, Purpose::sample, 0, 0});
    for (std::uint64_t round = 0; round < 80; ++round) {
        SCOPED_TRACE(round);
        const Case one = random_case(random);
        const Values values(one, 100 * round);
        const Doubles expected = values.expected();
        for (const ProductForm form : {ProductForm::fastest, ProductForm::portable})
            ASSERT_LT(worst_difference(values.computed(0, one.batch, form), expected), 1e-5);
    }
}

// Many strips, of which each reads rows of the one before.
TEST(SeparableConvolution, AnImageGetsTheSameBitsInEveryBatchAndOnAnyThreads) {
    const int before = threads();
    for (const std::int64_t stride : {1, 2}) {
        const ConvolutionShape s{.height = 57,
                                 .width = 60,
                                 .in_channels = 96,
                                 .out_channels = 96,
                                 .kernel_height = 5,
                                 .kernel_width = 5,
                                 .stride_height = stride,
                                 .stride_width = stride,
                                 .pad_top = 2,
                                 .pad_left = 2,
                                 .pad_bottom = 2,
                                 .pad_right = 2,
                                 .groups = 96};
        const Case one{{s, 16, 24}, 3, true};
        const Values values(one, 7);
        set_threads(1);
        const std::vector<float> all = values.computed(0, 3);
        if (stride == 2) {
            EXPECT_LT(worst_difference(all, values.expected()), 1e-5);
        }
        const std::size_t size = all.size() / 3;
        for (const int count : {1, 2, 3, 5}) {
            set_threads(count);
            EXPECT_EQ(values.computed(0, 3) == all, true) << count;
            for (std::size_t n = 0; n < 3; ++n)
                EXPECT_EQ(std::memcmp(values.computed(static_cast<std::int64_t>(n), 1).data(),
                                      all.data() + n * size, size * sizeof(float)),
                          0)
                    << count;
        }
    }
    set_threads(before);
}

}  // namespace
}  // namespace jevrin
