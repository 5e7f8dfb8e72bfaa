// The families of architecture.hpp beside residual networks.
#include "jevrin/base/error.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/graph/network_parts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

Window square_window(std::int64_t size) {
    return {size, size, size, size};
}

// Squeeze-and-excitation (Hu 2018): channels weighed by what their averages say.
std::size_t add_squeeze(Network& network, const std::string& name, std::size_t input, std::int64_t channels) {
    const std::int64_t squeezed = std::max<std::int64_t>(8, channels / 4);
    const auto pointwise = [&](const std::string& part, std::size_t x, std::int64_t in, std::int64_t out) {
        return network.add(name + part, Convolution{}, {x}, {Tensor({1, 1, in, out}), Tensor({out})});
    };
    std::size_t x = network.add(name + ".average", GlobalAveragePooling{}, {input});
    x = pointwise(".reduce", x, channels, squeezed);
    x = network.add(name + ".relu", relu(), {x});
    x = pointwise(".expand", x, squeezed, channels);
    x = network.add(name + ".gate", Activation{{FunctionKind::hard_sigmoid, 1.0F / 6.0F, 0.5F}}, {x});
    return network.add(name + ".scale", Arithmetic{ArithmeticKind::multiply}, {input, x});
}

std::size_t add_inverted_block(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                               const InvertedStage& stage, std::int64_t stride) {
    using network_parts::convolution_block;
    const std::int64_t expanded = in * stage.expansion;
    std::size_t x = input;
    if (stage.expansion != 1)
        x = convolution_block(network, name + ".expand", x, in, expanded, 1, 1, 1, stage.activation);
    x = convolution_block(network, name + ".depthwise", x, expanded, expanded, stage.kernel, stride, expanded,
                          stage.activation);
    if (stage.squeeze) x = add_squeeze(network, name + ".squeeze", x, expanded);
    x = convolution_block(network, name + ".project", x, expanded, stage.width, 1, 1, 1,
                          FunctionKind::identity);
    if (stride != 1 || in != stage.width) return x;
    return network.add(name + ".sum", sum_of_two(), {x, input});
}

struct AttentionShape {
    std::int64_t tokens = 0;
    std::int64_t width = 0;
    std::int64_t heads = 0;
};

// Attention of every token to every token (Vaswani 2017), head by head.
std::size_t add_attention(Network& network, const std::string& name, std::size_t input,
                          const AttentionShape& s) {
    const std::int64_t depth = s.width / s.heads;
    const std::size_t all = network_parts::dense(network, name + ".projections", input, s.width, 3 * s.width);
    const auto part_of = [&](const std::string& role, std::int64_t index) {
        return network.add(name + "." + role, Slice{{{0, 1, s.tokens}, {index * s.width, 1, s.width}}},
                           {all});
    };
    const auto heads_of = [&](const std::string& role, std::size_t x,
                              const std::vector<std::int64_t>& order) {
        const std::string part = name + "." + role;
        x = network.add(part + "_heads", Reshape{{s.tokens, s.heads, depth}}, {x});
        return network.add(part + "_by_head", Transpose{order}, {x});
    };
    const std::vector<float> factor = {1.0F / std::sqrt(static_cast<float>(depth))};
    const std::size_t scale =
        network.add(name + ".scale", Constant{.trained = false}, {}, {Tensor({1}, factor)});
    const std::size_t scaled =
        network.add(name + ".scaled", Arithmetic{ArithmeticKind::multiply}, {part_of("query", 0), scale});
    const std::size_t query = heads_of("query", scaled, {1, 0, 2});
    const std::size_t key = heads_of("key", part_of("key", 1), {1, 2, 0});
    const std::size_t value = heads_of("value", part_of("value", 2), {1, 0, 2});
    std::size_t x = network.add(name + ".scores", MatrixProduct{}, {query, key});
    x = network.add(name + ".softmax", Softmax{.axis = 2}, {x});
    x = network.add(name + ".mix", MatrixProduct{}, {x, value});
    x = network.add(name + ".by_token", Transpose{{1, 0, 2}}, {x});
    x = network.add(name + ".joined", Reshape{{s.tokens, s.width}}, {x});
    return network_parts::dense(network, name + ".output", x, s.width, s.width);
}

}  // namespace

Network plain_backbone(const PlainSettings& settings, const Shape& input) {
    Network network{input, {}};
    std::size_t x = network.add("image", Input{}, {});
    std::int64_t in = input[2];
    for (std::size_t stage = 0; stage < settings.widths.size(); ++stage) {
        const std::string name = fmt::format("stage{}", stage + 1);
        for (std::int64_t i = 0; i < settings.convolutions; ++i) {
            x = network_parts::convolution_block(network, fmt::format("{}.layer{}", name, i + 1), x, in,
                                                 settings.widths[stage], 3, 1, 1, FunctionKind::relu);
            in = settings.widths[stage];
        }
        x = network.add(name + ".pool", MaxPooling{square_window(2)}, {x});
    }
    network_parts::global_average(network, x);
    return network;
}

Network perceptron_backbone(const PerceptronSettings& settings, const Shape& input) {
    Network network{input, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network.add("row.flatten", Flatten{}, {x});
    std::int64_t in = element_count(input);
    for (std::size_t i = 0; i < settings.hidden.size(); ++i) {
        const std::string name = fmt::format("hidden{}", i + 1);
        x = network_parts::dense(network, name + ".dense", x, in, settings.hidden[i]);
        in = settings.hidden[i];
        x = network.add(name + ".activation", Activation{{settings.activation}}, {x});
        if (settings.dropout > 0) x = network.add(name + ".dropout", Dropout{settings.dropout}, {x});
    }
    return network;
}

Network densely_connected_backbone(const DenselyConnectedSettings& settings, const Shape& input) {
    Network network{input, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network_parts::convolution(network, "stem.convolution", x, input[2], settings.stem_width, 3, 1);
    std::int64_t channels = settings.stem_width;
    const auto before_convolution = [&](const std::string& name) {
        const std::size_t n = network_parts::normalisation(network, name + ".normalisation", x, channels);
        return network.add(name + ".relu", relu(), {n});
    };
    for (std::size_t stage = 0; stage < settings.layers.size(); ++stage) {
        const std::string name = fmt::format("stage{}", stage + 1);
        if (stage > 0) {
            x = network_parts::convolution(network, name + ".transition.convolution",
                                           before_convolution(name + ".transition"), channels, channels / 2,
                                           1, 1);
            channels /= 2;
            x = network.add(name + ".transition.average", AveragePooling{square_window(2)}, {x});
        }
        for (std::int64_t i = 0; i < settings.layers[stage]; ++i) {
            const std::string layer = fmt::format("{}.layer{}", name, i + 1);
            const std::size_t grown = network_parts::convolution(
                network, layer + ".convolution", before_convolution(layer), channels, settings.growth, 3, 1);
            x = network.add(layer + ".join", Concatenate{.axis = 2}, {x, grown});
            channels += settings.growth;
        }
    }
    x = before_convolution("pool");
    network_parts::global_average(network, x);
    return network;
}

Network inverted_residual_backbone(const InvertedResidualSettings& settings, const Shape& input) {
    Network network{input, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network_parts::convolution_block(network, "stem", x, input[2], settings.stem_width, 3,
                                         settings.stem_stride, 1, FunctionKind::hard_swish);
    std::int64_t in = settings.stem_width;
    for (std::size_t s = 0; s < settings.stages.size(); ++s)
        for (std::int64_t block = 0; block < settings.stages[s].blocks; ++block) {
            const InvertedStage& stage = settings.stages[s];
            x = add_inverted_block(network, fmt::format("stage{}.block{}", s + 1, block + 1), x, in, stage,
                                   block == 0 ? stage.stride : 1);
            in = stage.width;
        }
    x = network_parts::convolution_block(network, "last", x, in, settings.last_width, 1, 1, 1,
                                         FunctionKind::hard_swish);
    network_parts::global_average(network, x);
    return network;
}

Network vision_transformer_backbone(const VisionTransformerSettings& settings, const Shape& input) {
    if (input[0] % settings.patch != 0 || input[1] % settings.patch != 0)
        throw InputError(fmt::format(
            "images of {1}x{2} are not divisible into patches of {0}; choose a patch size that divides them",
            settings.patch, input[0], input[1]));
    if (settings.width % settings.heads != 0)
        throw InputError(
            fmt::format("the width {1} is not divisible by {0} heads", settings.heads, settings.width));
    const std::int64_t width = settings.width;
    const std::int64_t patches = input[0] / settings.patch * (input[1] / settings.patch);
    Network network{input, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network.add("embedding.patches", Convolution{square_window(settings.patch)}, {x},
                    {Tensor({settings.patch, settings.patch, input[2], width}), Tensor({width})});
    x = network.add("embedding.tokens", Reshape{{patches, width}}, {x});
    const std::size_t token = network.add("embedding.class", Constant{}, {}, {Tensor({1, width})});
    x = network.add("embedding.joined", Concatenate{.axis = 0}, {token, x});
    const std::size_t positions =
        network.add("embedding.positions", Constant{}, {}, {Tensor({patches + 1, width})});
    x = network.add("embedding.sum", sum_of_two(), {x, positions});
    for (std::int64_t i = 0; i < settings.depth; ++i) {
        const std::string name = fmt::format("block{}", i + 1);
        std::size_t y = network_parts::layer_normalisation(network, name + ".normalisation1", x, width);
        y = add_attention(network, name + ".attention", y, {patches + 1, width, settings.heads});
        x = network.add(name + ".sum1", sum_of_two(), {y, x});
        y = network_parts::layer_normalisation(network, name + ".normalisation2", x, width);
        y = network_parts::dense(network, name + ".dense1", y, width, 4 * width);
        y = network.add(name + ".gelu", Activation{{FunctionKind::gelu}}, {y});
        y = network_parts::dense(network, name + ".dense2", y, 4 * width, width);
        x = network.add(name + ".sum2", sum_of_two(), {y, x});
    }
    x = network_parts::layer_normalisation(network, "feature.normalisation", x, width);
    x = network.add("feature.token", Slice{{{0, 1, 1}, {0, 1, width}}}, {x});
    network.add("feature.vector", Reshape{{width}}, {x});
    return network;
}

}  // namespace jevrin::inline v1
