#include "jevrin/graph/architecture.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/overloaded.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/network_parts.hpp"
#include "jevrin/graph/operator_description.hpp"
#include "jevrin/graph/shared_parameters.hpp"

#include <fmt/format.h>

#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

std::size_t add_shortcut(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                         std::int64_t out, std::int64_t stride) {
    if (in == out && stride == 1) return input;
    const std::size_t x =
        network_parts::convolution(network, name + ".shortcut.convolution", input, in, out, 1, stride);
    return network_parts::normalisation(network, name + ".shortcut.normalisation", x, out);
}

std::size_t add_bottleneck(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                           std::int64_t width, std::int64_t stride) {
    struct Part {
        std::int64_t out;
        std::int64_t kernel;
        std::int64_t stride;
    };
    std::size_t x = input;
    std::int64_t channels = in;
    int index = 0;
    for (const Part& part : {Part{width, 1, 1}, Part{width, 3, stride}, Part{4 * width, 1, 1}}) {
        const std::string number = std::to_string(++index);
        x = network_parts::convolution(network, name + ".convolution" + number, x, channels, part.out,
                                       part.kernel, part.stride);
        x = network_parts::normalisation(network, name + ".normalisation" + number, x, part.out);
        if (index < 3) x = network.add(name + ".relu" + number, relu(), {x});
        channels = part.out;
    }
    x = network.add(name + ".sum", sum_of_two(),
                    {x, add_shortcut(network, name, input, in, 4 * width, stride)});
    return network.add(name + ".relu3", relu(), {x});
}

}  // namespace

namespace network_parts {

std::size_t residual_block(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                           std::int64_t out, std::int64_t stride) {
    std::size_t x = convolution(network, name + ".convolution1", input, in, out, 3, stride);
    x = normalisation(network, name + ".normalisation1", x, out);
    x = network.add(name + ".relu1", relu(), {x});
    x = convolution(network, name + ".convolution2", x, out, out, 3, 1);
    x = normalisation(network, name + ".normalisation2", x, out);
    x = network.add(name + ".sum", sum_of_two(), {x, add_shortcut(network, name, input, in, out, stride)});
    return network.add(name + ".relu2", relu(), {x});
}

}  // namespace network_parts

Network residual_backbone(const ResidualSettings& settings, const Shape& input) {
    assert(!settings.widths.empty() && input.size() == 3);
    assert(settings.blocks.size() == 1 || settings.blocks.size() == settings.widths.size());
    Network network{input, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network_parts::convolution(network, "stem.convolution", x, input[2], settings.widths[0],
                                   settings.stem_kernel, settings.stem_stride);
    x = network_parts::normalisation(network, "stem.normalisation", x, settings.widths[0]);
    x = network.add("stem.relu", relu(), {x});
    if (settings.stem_pool) x = network.add("stem.pool", MaxPooling{{3, 3, 2, 2, 1, 1, 1, 1}}, {x});
    const bool basic = settings.block == ResidualBlock::basic;
    std::int64_t in = settings.widths[0];
    for (std::size_t stage = 0; stage < settings.widths.size(); ++stage) {
        const std::int64_t width = settings.widths[stage];
        const std::int64_t blocks = settings.blocks[settings.blocks.size() == 1 ? 0 : stage];
        for (std::int64_t block = 0; block < blocks; ++block) {
            const std::int64_t stride = stage > 0 && block == 0 ? 2 : 1;
            const std::string name = fmt::format("stage{}.block{}", stage + 1, block + 1);
            x = basic ? network_parts::residual_block(network, name, x, in, width, stride)
                      : add_bottleneck(network, name, x, in, width, stride);
            in = basic ? width : 4 * width;
        }
    }
    network_parts::global_average(network, x);
    return network;
}

Network build_backbone(const Architecture& architecture, const Shape& input) {
    return std::visit(
        Overloaded{
            [&](const ResidualSettings& s) { return residual_backbone(s, input); },
            [&](const PlainSettings& s) { return plain_backbone(s, input); },
            [&](const PerceptronSettings& s) { return perceptron_backbone(s, input); },
            [&](const DenselyConnectedSettings& s) { return densely_connected_backbone(s, input); },
            [&](const InvertedResidualSettings& s) { return inverted_residual_backbone(s, input); },
            [&](const VisionTransformerSettings& s) { return vision_transformer_backbone(s, input); },
            [&](const LayerList& s) { return layer_network(s, input); },
        },
        architecture);
}

void append_head(Network& backbone, const HeadSettings& settings, std::int64_t classes) {
    const Shape output = infer_shapes(backbone).back();
    if (output.size() != 1)
        throw InputError(
            fmt::format("layer '{}' ({}) gives {} and the head needs a vector; end with a flatten "
                        "or a global pooling",
                        printable(backbone.nodes.back().name), operator_name(backbone.nodes.back().op),
                        to_string(output)));
    std::int64_t features = output[0];
    std::size_t x = backbone.nodes.size() - 1;
    const auto add_dense = [&](const std::string& name, std::int64_t out) {
        if (settings.dropout > 0) x = backbone.add("head.dropout_" + name, Dropout{settings.dropout}, {x});
        x = network_parts::dense(backbone, "head." + name, x, features, out);
        features = out;
    };
    for (std::size_t i = 0; i < settings.hidden.size(); ++i) {
        add_dense(fmt::format("hidden{}", i + 1), settings.hidden[i]);
        const std::string activation = settings.activation == FunctionKind::relu ? "relu" : "activation";
        x = backbone.add(fmt::format("head.{}{}", activation, i + 1), Activation{{settings.activation}}, {x});
    }
    add_dense("classes", classes);
}

namespace {

// The deviation of a weight's start: He (2015) before a ReLU, Glorot (2010) on rows of tokens, 1 / fan_in in
// the last layer.
double weight_deviation(const Tensor& weight, bool tokens, bool last) {
    const std::int64_t fan_in = weight.size() / weight.shape().back();
    const std::int64_t fans = tokens ? fan_in + weight.shape().back() : fan_in;
    return std::sqrt((last ? 1.0 : 2.0) / static_cast<double>(fans));
}

}  // namespace

void initialise(Network& network, std::size_t first_node, std::uint64_t seed) {
    const std::vector<Shape> shapes = infer_shapes(network);
    for (std::size_t i = first_node; i < network.nodes.size(); ++i) {
        Node& node = network.nodes[i];
        const auto draw = [&](Tensor& parameter, double deviation) {
            RandomStream stream({seed, Purpose::weights, 0, content_number(node.name)});
            for (float& value : parameter.values()) value = static_cast<float>(deviation * stream.normal());
        };
        for (std::size_t p = 0; p < node.parameters.size(); ++p) {
            Tensor& parameter = node.parameters[p];
            switch (describe(node.op).roles.at(p)) {
                case ParameterRole::weight:
                    draw(parameter,
                         weight_deviation(parameter,
                                          std::holds_alternative<Dense>(node.op) && shapes[i].size() > 1,
                                          i + 1 == network.nodes.size()));
                    break;
                case ParameterRole::value:
                    if (std::get<Constant>(node.op).trained) draw(parameter, 0.02);
                    break;
                case ParameterRole::scale:
                case ParameterRole::variance:
                    parameter.fill(1.0F);
                    break;
                case ParameterRole::slope:
                    parameter.fill(0.25F);
                    break;
                case ParameterRole::bias:
                case ParameterRole::shift:
                case ParameterRole::mean:
                    parameter.fill(0.0F);
                    break;
            }
        }
    }
    copy_shared(network, first_node);
}

}  // namespace jevrin::inline v1
