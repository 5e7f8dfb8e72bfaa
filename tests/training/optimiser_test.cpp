// Optimisers against their published formulas and the open conformance cases; schedules; clipping.
#include "jevrin/training/optimiser.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/training/schedule.hpp"

#include <onnx/onnx_pb.h>

#include <cmath>
#include <cstring>
#include <map>

namespace jevrin {
namespace {

using test::message_of;
using testing::HasSubstr;

// One parameter of one number, with its gradient.
struct Number {
    std::vector<float> value;
    std::vector<float> gradient;
    std::vector<TrainedParameter> parameters;

    explicit Number(float start, ParameterKind kind = ParameterKind::weight)
        : value{start}, gradient{0.0F}, parameters{{value, gradient, kind}} {}
    void step(Optimiser& optimiser, float slope, double rate) {
        gradient[0] = slope;
        optimiser.step(parameters, {.learning_rate = rate});
    }
};

TEST(Optimiser, NesterovLooksAheadByHand) {
    Number x(1.0F);
    Optimiser optimiser({.momentum = 0.9, .nesterov = true, .weight_decay = 0.0}, x.parameters);
    x.step(optimiser, 0.5F, 0.1);  // m = 0.5; the step is 0.5 + 0.9 * 0.5
    EXPECT_FLOAT_EQ(x.value[0], 1.0F - 0.1F * 0.95F);
    x.step(optimiser, 0.2F, 0.1);  // m = 0.65; the step is 0.2 + 0.9 * 0.65
    EXPECT_FLOAT_EQ(x.value[0], 0.905F - 0.1F * 0.785F);
}

TEST(Optimiser, DecoupledDecayStaysOutOfTheMomentum) {
    Number x(2.0F);
    Optimiser optimiser({.momentum = 0.9, .weight_decay = 0.5, .decoupled = true}, x.parameters);
    x.step(optimiser, 1.0F, 0.1);
    EXPECT_FLOAT_EQ(x.value[0], 2.0F * (1.0F - 0.1F * 0.5F) - 0.1F);
    EXPECT_FLOAT_EQ(optimiser.moments()[0].first[0], 1.0F);
    Number shift(2.0F, ParameterKind::bias);
    Optimiser other({.momentum = 0.9, .weight_decay = 0.5, .decoupled = true}, shift.parameters);
    shift.step(other, 1.0F, 0.1);
    EXPECT_FLOAT_EQ(shift.value[0], 1.9F);  // biases do not decay
}

// Algorithm 1 of Kingma & Ba and algorithm 2 of Loshchilov & Hutter, written down in double.
double adam_in_double(bool decoupled, const std::vector<double>& slopes, double rate, double decay) {
    double x = 1.0, m = 0.0, v = 0.0;
    for (std::size_t t = 1; t <= slopes.size(); ++t) {
        const double g = slopes[t - 1] + (decoupled ? 0.0 : decay * x);
        m = 0.8 * m + 0.2 * g;
        v = 0.95 * v + 0.05 * g * g;
        const double power = static_cast<double>(t);
        if (decoupled) x -= rate * decay * x;
        x -= rate * (m / (1 - std::pow(0.8, power))) / (std::sqrt(v / (1 - std::pow(0.95, power))) + 1e-3);
    }
    return x;
}

TEST(Optimiser, AdamAndAdamWFollowTheirAlgorithms) {
    const std::vector<double> slopes = {0.5, -0.3, 0.8, 0.1, -2.0};
    for (const OptimiserKind kind : {OptimiserKind::adam, OptimiserKind::adamw}) {
        Number x(1.0F);
        Optimiser optimiser({.kind = kind, .beta1 = 0.8, .beta2 = 0.95, .epsilon = 1e-3, .weight_decay = 0.3},
                            x.parameters);
        for (const double slope : slopes) x.step(optimiser, static_cast<float>(slope), 0.05);
        EXPECT_NEAR(x.value[0], adam_in_double(kind == OptimiserKind::adamw, slopes, 0.05, 0.3), 1e-6);
        EXPECT_EQ(optimiser.moments()[0].steps, 5);
    }
}

TEST(Optimiser, TheRateOfALayerAndTheFactorOfGradientsApply) {
    Number x(1.0F);
    x.parameters[0].rate_factor = 0.5F;
    Optimiser optimiser({.momentum = 0.0, .weight_decay = 0.0}, x.parameters);
    x.gradient[0] = 4.0F;
    optimiser.step(x.parameters, {.learning_rate = 0.1, .gradient_factor = 0.25});
    EXPECT_FLOAT_EQ(x.value[0], 1.0F - 0.05F);
}

TEST(Optimiser, ManyNumbersTakeTheSameStepsOnAnyThreads) {
    std::vector<std::vector<float>> results;
    for (const int count : {1, 2, 3}) {
        set_threads(count);
        std::vector<float> value(100'000);
        std::vector<float> gradient(value.size());
        RandomStream random({1, Purpose::sample, 0, 0});
        for (std::size_t i = 0; i < value.size(); ++i) gradient[i] = static_cast<float>(random.normal());
        std::vector<TrainedParameter> parameters = {{value, gradient, ParameterKind::weight}};
        Optimiser optimiser(OptimiserSettings::usual(OptimiserKind::adamw), parameters);
        for (int step = 0; step < 3; ++step) optimiser.step(parameters, {.learning_rate = 0.01});
        value.push_back(static_cast<float>(gradient_norm(parameters)));
        results.push_back(value);
    }
    set_threads(2);
    EXPECT_EQ(results[0], results[1]);
    EXPECT_EQ(results[0], results[2]);
    EXPECT_NE(results[0][70'000], 0.0F);
}

TEST(Clipping, MakesGradientsShorterAndNeverLonger) {
    const std::vector<float> three = {3.0F};
    const std::vector<float> four = {0.0F, 4.0F};
    std::vector<float> unused(2);
    const std::vector<TrainedParameter> parameters = {{std::span(unused).first(1), three, {}},
                                                      {unused, four, {}}};
    EXPECT_DOUBLE_EQ(gradient_norm(parameters), 5.0);
    EXPECT_DOUBLE_EQ(clipping_factor(5.0, 2.0), 0.4);
    EXPECT_DOUBLE_EQ(clipping_factor(5.0, 6.0), 1.0);
    EXPECT_DOUBLE_EQ(clipping_factor(5.0, 0.0), 1.0);
}

TEST(Optimiser, NamesGoRoundAndMisspeltOnesAreHelped) {
    for (const OptimiserKind kind : {OptimiserKind::sgd, OptimiserKind::adam, OptimiserKind::adamw})
        EXPECT_EQ(value_named<OptimiserKind>(name_of(kind)), kind);
    EXPECT_THAT(message_of<InputError>([] { value_named<OptimiserKind>("adma"); }),
                HasSubstr("did you mean 'adam'"));
    EXPECT_THAT(message_of<InputError>([] { value_named<ScheduleKind>("cosin"); }),
                HasSubstr("did you mean 'cosine'"));
}

// --- the conformance cases of the open model format (Debian package libonnx-testdata) ---

struct Case {
    std::map<std::string, float> attributes;
    std::vector<std::vector<float>> inputs;
    std::vector<std::vector<float>> outputs;
};

std::vector<float> read_numbers(const std::filesystem::path& file) {
    onnx::TensorProto tensor;
    EXPECT_TRUE(tensor.ParseFromString(read_text(file))) << file;
    if (tensor.data_type() == onnx::TensorProto::INT64) {
        std::int64_t number = 0;
        std::memcpy(&number, tensor.raw_data().data(), sizeof number);
        return {static_cast<float>(number)};
    }
    std::vector<float> numbers(tensor.raw_data().size() / sizeof(float));
    std::memcpy(numbers.data(), tensor.raw_data().data(), tensor.raw_data().size());
    return numbers;
}

Case read_case(const std::string& name) {
    const std::filesystem::path directory = "/usr/share/libonnx-testdata/data/node/" + name;
    onnx::ModelProto model;
    EXPECT_TRUE(model.ParseFromString(read_text(directory / "model.onnx")));
    Case one;
    // Where a case does not state them, its numbers come from these.
    one.attributes = {{"norm_coefficient", 0.0F}, {"epsilon", 0.01F}};
    for (const auto& attribute : model.graph().node(0).attribute())
        one.attributes[attribute.name()] = attribute.f();
    const auto data = directory / "test_data_set_0";
    for (int i = 0; i < model.graph().input_size(); ++i)
        one.inputs.push_back(read_numbers(data / ("input_" + std::to_string(i) + ".pb")));
    for (int i = 0; i < model.graph().output_size(); ++i)
        one.outputs.push_back(read_numbers(data / ("output_" + std::to_string(i) + ".pb")));
    return one;
}

// Inputs: rate, step count, all values, all gradients, then all of each moment. Runs one step from there and
// holds values and moments against the outputs.
void expect_step(Case one, std::size_t count, std::size_t moments, const OptimiserSettings& settings,
                 double rate) {
    ASSERT_EQ(one.inputs.size(), 2 + count * (2 + moments));
    std::vector<TrainedParameter> parameters;
    for (std::size_t k = 0; k < count; ++k)
        parameters.push_back({one.inputs[2 + k], one.inputs[2 + count + k], ParameterKind::weight});
    Optimiser optimiser(settings, parameters);
    for (std::size_t k = 0; k < count; ++k) {
        optimiser.moments()[k].first = one.inputs[2 + 2 * count + k];
        if (moments == 2) optimiser.moments()[k].second = one.inputs[2 + 3 * count + k];
    }
    optimiser.step(parameters, {.learning_rate = rate});
    const auto expect_near = [](const std::vector<float>& ours, const std::vector<float>& theirs) {
        ASSERT_EQ(ours.size(), theirs.size());
        for (std::size_t i = 0; i < ours.size(); ++i)
            EXPECT_NEAR(ours[i], theirs[i], 1e-5F * std::max(1.0F, std::abs(theirs[i])));
    };
    for (std::size_t k = 0; k < count; ++k) {
        expect_near(one.inputs[2 + k], one.outputs[k]);
        expect_near(optimiser.moments()[k].first, one.outputs[count + k]);
        if (moments == 2) expect_near(optimiser.moments()[k].second, one.outputs[2 * count + k]);
    }
}

TEST(OptimiserConformance, Momentum) {
    for (const auto& [name, count] :
         std::map<std::string, std::size_t>{{"test_momentum", 1}, {"test_momentum_multiple", 2}}) {
        Case one = read_case(name);
        ASSERT_EQ(one.inputs[1][0], 0.0F);  // at its first step the gradient counts in full
        expect_step(
            one, count, 1,
            {.momentum = one.attributes.at("alpha"), .weight_decay = one.attributes.at("norm_coefficient")},
            one.inputs[0][0]);
    }
}

TEST(OptimiserConformance, NesterovMomentum) {
    Case one = read_case("test_nesterov_momentum");
    expect_step(one, 1, 1,
                {.momentum = one.attributes.at("alpha"),
                 .nesterov = true,
                 .weight_decay = one.attributes.at("norm_coefficient")},
                one.inputs[0][0]);
}

// The case does not correct for the first steps: with m / (1 - beta1) and v / (1 - beta2) in our first step,
// rate * (1 - beta1) / sqrt(1 - beta2) and epsilon / sqrt(1 - beta2) come to the same.
TEST(OptimiserConformance, Adam) {
    for (const auto& [name, count] :
         std::map<std::string, std::size_t>{{"test_adam", 1}, {"test_adam_multiple", 2}}) {
        Case one = read_case(name);
        ASSERT_EQ(one.inputs[1][0], 0.0F);
        const double beta1 = one.attributes.at("alpha");
        const double beta2 = one.attributes.at("beta");
        const double root = std::sqrt(1.0 - beta2);
        expect_step(one, count, 2,
                    {.kind = OptimiserKind::adam,
                     .beta1 = beta1,
                     .beta2 = beta2,
                     .epsilon = one.attributes.at("epsilon") / root,
                     .weight_decay = one.attributes.at("norm_coefficient")},
                    one.inputs[0][0] * (1.0 - beta1) / root);
    }
}

// --- schedules ---

double rate(const Schedule& schedule, std::int64_t step, double plateau = 1.0) {
    return learning_rate_at(schedule, 0.4,
                            {.step = step, .steps = 100, .steps_per_epoch = 10, .plateau_factor = plateau});
}

TEST(Schedule, EachGoesItsWay) {
    using K = ScheduleKind;
    EXPECT_DOUBLE_EQ(rate({}, 99), 0.4);
    EXPECT_DOUBLE_EQ(rate({.kind = K::cosine}, 0), 0.4);
    EXPECT_NEAR(rate({.kind = K::cosine}, 50), 0.2, 1e-12);
    EXPECT_LT(rate({.kind = K::cosine}, 99), 0.001);
    EXPECT_NEAR(rate({.kind = K::cosine, .final_fraction = 0.5}, 50), 0.3, 1e-12);
    EXPECT_NEAR(rate({.kind = K::linear}, 25), 0.3, 1e-12);
    EXPECT_NEAR(rate({.kind = K::linear, .final_fraction = 0.1}, 100), 0.04, 1e-12);
    const Schedule steps{.kind = K::step, .every = 3, .factor = 0.5};
    EXPECT_DOUBLE_EQ(rate(steps, 29), 0.4);
    EXPECT_DOUBLE_EQ(rate(steps, 30), 0.2);
    EXPECT_DOUBLE_EQ(rate(steps, 60), 0.1);
    EXPECT_DOUBLE_EQ(rate({.kind = K::plateau}, 50, 0.25), 0.1);
}

TEST(Schedule, WarmUpRisesAndTheRestFallsFromThere) {
    const Schedule schedule{.kind = ScheduleKind::cosine, .warm_up = 2.0};  // 20 steps
    EXPECT_NEAR(rate(schedule, 0), 0.4 / 21, 1e-12);
    EXPECT_NEAR(rate(schedule, 19), 0.4 * 20 / 21, 1e-12);
    EXPECT_DOUBLE_EQ(rate(schedule, 20), 0.4);
    EXPECT_NEAR(rate(schedule, 60), 0.2, 1e-12);
}

TEST(Schedule, OneCycleRisesToTheRateAndFallsToNothing) {
    const Schedule schedule{.kind = ScheduleKind::one_cycle, .rise_fraction = 0.3, .initial_fraction = 0.1};
    EXPECT_NEAR(rate(schedule, 0), 0.04, 1e-12);
    EXPECT_NEAR(rate(schedule, 15), 0.22, 1e-12);
    EXPECT_NEAR(rate(schedule, 30), 0.4, 1e-12);
    EXPECT_NEAR(rate(schedule, 65), 0.2, 1e-12);
    for (std::int64_t step = 1; step < 100; ++step)
        EXPECT_EQ(rate(schedule, step) > rate(schedule, step - 1), step <= 30) << step;
}

TEST(Schedule, PlateausWaitForTheirPatience) {
    const Schedule schedule{.kind = ScheduleKind::plateau, .factor = 0.5, .patience = 2};
    PlateauWatch watch;
    for (const double loss : {1.0, 0.9, 0.95, 0.8}) watch.observe(schedule, loss);
    EXPECT_DOUBLE_EQ(watch.factor, 1.0);
    watch.observe(schedule, 0.8);
    EXPECT_DOUBLE_EQ(watch.factor, 1.0);
    watch.observe(schedule, 0.85);
    EXPECT_DOUBLE_EQ(watch.factor, 0.5);
    watch.observe(schedule, 0.85);
    EXPECT_DOUBLE_EQ(watch.factor, 0.5);  // patience begins anew
    watch.observe(schedule, 0.85);
    EXPECT_DOUBLE_EQ(watch.factor, 0.25);
}

}  // namespace
}  // namespace jevrin
