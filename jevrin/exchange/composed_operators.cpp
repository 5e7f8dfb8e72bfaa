// Stored operators that become several of ours: activations, norms, and choices by a mask.
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct Gelu;
struct GatedActivation;
struct Celu;
struct Where;
struct NormOfVectors;
struct Standardisation;
struct RootMeanSquare;

// Masked values are set to minus infinity; the lowest number does the same in a softmax and can be stored.
double finite(double value) {
    return std::clamp(value, static_cast<double>(std::numeric_limits<float>::lowest()),
                      static_cast<double>(std::numeric_limits<float>::max()));
}

}  // namespace

template <>
void GraphReader::read_as<Gelu>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& x = dynamic(node, 0);
    const std::string& name = node.name();
    const std::string form = node.text("approximate", "none");
    if (form == "none") return set(node, pointwise(name, Activation{{FunctionKind::gelu}}, x));
    if (form != "tanh") node.fail(fmt::format("its approximation '{}' is not supported", printable(form)));
    // x (1 + tanh(sqrt(2 / pi) (x + 0.044715 x^3))) / 2
    const auto root = static_cast<float>(std::sqrt(2.0 / std::numbers::pi));
    View inner = with_number(name + ":cube", ArithmeticKind::power, x, 3.0F);
    inner = with_number(name + ":small", ArithmeticKind::multiply, inner, 0.044715F);
    inner = joined_views(name + ":inner", ArithmeticKind::add, x, inner);
    inner = with_number(name + ":scaled", ArithmeticKind::multiply, inner, root);
    inner = pointwise(name + ":tanh", Activation{{FunctionKind::tanh}}, inner);
    inner = with_number(name + ":shifted", ArithmeticKind::add, inner, 1.0F);
    inner = with_number(name + ":half", ArithmeticKind::multiply, inner, 0.5F);
    set(node, joined_views(name, ArithmeticKind::multiply, x, inner));
}

// x sigmoid(alpha x) and x tanh(softplus(x)) (Misra 2019).
template <>
void GraphReader::read_as<GatedActivation>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& x = dynamic(node, 0);
    const std::string& name = node.name();
    const float alpha = node.number("alpha", 1.0F);
    const bool swish = node.type() == "Swish";
    if (swish && alpha == 1.0F) return set(node, pointwise(name, Activation{{FunctionKind::silu}}, x));
    View gate;
    if (swish) {
        gate = with_number(name + ":scaled", ArithmeticKind::multiply, x, alpha);
        gate = pointwise(name + ":gate", Activation{{FunctionKind::sigmoid}}, gate);
    } else {
        gate = pointwise(name + ":softplus", Activation{{FunctionKind::softplus}}, x);
        gate = pointwise(name + ":gate", Activation{{FunctionKind::tanh}}, gate);
    }
    set(node, joined_views(name, ArithmeticKind::multiply, x, gate));
}

// An exponential linear unit of x / alpha, times alpha (Barron 2017).
template <>
void GraphReader::read_as<Celu>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const float alpha = node.number("alpha", 1.0F);
    if (!(alpha > 0.0F)) node.fail("its alpha must be positive");
    const View inner =
        with_number(node.name() + ":scaled", ArithmeticKind::multiply, dynamic(node, 0), 1.0F / alpha);
    set(node, pointwise(node.name(), Activation{{FunctionKind::elu, 1.0F, alpha}}, inner));
}

template <>
void GraphReader::read_as<Where>(const GraphNode& node) {
    node.expect_inputs(3, 3);
    if (is_dynamic(node, 0)) node.fail("chooses by a condition that depends on the image");
    const std::shared_ptr<const Folded> condition = known(value(node, 0));
    // The values of one side, and 0 where the other is chosen.
    const auto side = [&](int input, bool chosen) {
        const std::string name = fmt::format("{}:{}", node.name(), chosen ? "yes" : "no");
        Folded mask = *condition;
        mask.whole = false;
        mask.origin = Origin::none;
        for (double& v : mask.values) v = (v != 0.0) == chosen ? 1.0 : 0.0;
        return with_constant(node, name, ArithmeticKind::multiply, dynamic(node, input), mask);
    };
    if (is_dynamic(node, 1) && is_dynamic(node, 2))
        return set(node, joined_views(node.name(), ArithmeticKind::add, side(1, true), side(2, false)));
    const int moving = is_dynamic(node, 1) ? 1 : 2;
    const std::shared_ptr<const Folded> constant = known(value(node, 3 - moving));
    const std::optional<Shape> shape = broadcast_shape(condition->shape, constant->shape);
    if (!shape)
        node.fail(fmt::format("gets {} and {}", to_string(condition->shape), to_string(constant->shape)));
    Folded fixed{.shape = *shape, .values = {}};
    const Folded wide_condition = broadcast_to(node, *condition, *shape);
    const Folded wide = broadcast_to(node, *constant, *shape);
    for (std::size_t i = 0; i < wide.values.size(); ++i)
        fixed.values.push_back((wide_condition.values[i] != 0.0) == (moving == 2) ? finite(wide.values[i])
                                                                                  : 0.0);
    set(node, with_constant(node, node.name(), ArithmeticKind::add, side(moving, moving == 1), fixed));
}

// x divided by its norm along an axis.
template <>
void GraphReader::read_as<NormOfVectors>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& x = dynamic(node, 0);
    const std::int64_t p = node.integer("p", 2);
    if (p != 1 && p != 2) node.fail(fmt::format("its p is {}; 1 and 2 are supported", p));
    const auto axis = static_cast<int>(node.axis(node.integer("axis", -1), rank(x)));
    const std::string& name = node.name();
    const View powers = p == 1 ? pointwise(name + ":absolute", Activation{{FunctionKind::absolute}}, x)
                               : joined_views(name + ":squares", ArithmeticKind::multiply, x, x);
    View norm = reduced_over(node, name + ":sum", ReductionKind::sum, powers, {axis}, true);
    if (p == 2) norm = pointwise(name + ":norm", Activation{{FunctionKind::square_root}}, norm);
    norm = with_number(name + ":positive", ArithmeticKind::maximum, norm, 1e-30F);
    set(node, joined_views(name, ArithmeticKind::divide, x, norm));
}

// (x - mean) / deviation over some dimensions.
template <>
void GraphReader::read_as<Standardisation>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& x = dynamic(node, 0);
    const std::string& name = node.name();
    std::set<int> axes;
    for (const std::int64_t axis : node.integers("axes").value_or(std::vector<std::int64_t>{0, 2, 3}))
        axes.insert(static_cast<int>(node.axis(axis, rank(x))));
    const View mean = reduced_over(node, name + ":mean", ReductionKind::mean, x, axes, true);
    const View centred = joined_views(name + ":centred", ArithmeticKind::subtract, x, mean);
    const View squares = joined_views(name + ":squares", ArithmeticKind::multiply, centred, centred);
    View deviation = reduced_over(node, name + ":variance", ReductionKind::mean, squares, axes, true);
    deviation = pointwise(name + ":deviation", Activation{{FunctionKind::square_root}}, deviation);
    deviation = with_number(name + ":positive", ArithmeticKind::add, deviation, 1e-9F);
    set(node, joined_views(name, ArithmeticKind::divide, centred, deviation));
}

// x divided by the root of its mean square, times a scale (Zhang & Sennrich 2019).
template <>
void GraphReader::read_as<RootMeanSquare>(const GraphNode& node) {
    node.expect_inputs(2, 2);
    const View& x = dynamic(node, 0);
    const std::string& name = node.name();
    std::set<int> axes;
    for (std::int64_t d = node.axis(node.integer("axis", -1), rank(x)); d < rank(x); ++d)
        axes.insert(static_cast<int>(d));
    const View squares = joined_views(name + ":squares", ArithmeticKind::multiply, x, x);
    View mean = reduced_over(node, name + ":mean", ReductionKind::mean, squares, axes, true);
    mean = with_number(name + ":positive", ArithmeticKind::add, mean, node.number("epsilon", 1e-5F));
    mean = pointwise(name + ":root", Activation{{FunctionKind::square_root}}, mean);
    const View divided = joined_views(name + ":divided", ArithmeticKind::divide, x, mean);
    const auto scale = known(value(node, 1));
    if (!scale) node.fail("its scale depends on the image");
    set(node, with_constant(node, name, ArithmeticKind::multiply, divided, *scale));
}

void GraphReader::put_composed(Table& table) {
    table.insert({
        {"Celu", &GraphReader::read_as<Celu>},
        {"Gelu", &GraphReader::read_as<Gelu>},
        {"LpNormalization", &GraphReader::read_as<NormOfVectors>},
        {"MeanVarianceNormalization", &GraphReader::read_as<Standardisation>},
        {"Mish", &GraphReader::read_as<GatedActivation>},
        {"RMSNormalization", &GraphReader::read_as<RootMeanSquare>},
        {"Swish", &GraphReader::read_as<GatedActivation>},
        {"Where", &GraphReader::read_as<Where>},
    });
}

}  // namespace jevrin::inline v1
