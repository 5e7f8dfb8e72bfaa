#include "jevrin/network/architecture.hpp"

#include "jevrin/base/hash.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/network/network_parts.hpp"

#include <fmt/format.h>

#include <cassert>
#include <cmath>

namespace jevrin {
namespace {

std::size_t add_block(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                      std::int64_t out, std::int64_t stride) {
    std::size_t x = network_parts::convolution(network, name + ".convolution1", input, in, out, 3, stride);
    x = network_parts::normalisation(network, name + ".normalisation1", x, out);
    x = network.add(name + ".relu1", relu(), {x});
    x = network_parts::convolution(network, name + ".convolution2", x, out, out, 3, 1);
    x = network_parts::normalisation(network, name + ".normalisation2", x, out);
    std::size_t shortcut = input;
    if (in != out || stride != 1) {
        shortcut =
            network_parts::convolution(network, name + ".shortcut.convolution", input, in, out, 1, stride);
        shortcut = network_parts::normalisation(network, name + ".shortcut.normalisation", shortcut, out);
    }
    x = network.add(name + ".sum", sum_of_two(), {x, shortcut});
    return network.add(name + ".relu2", relu(), {x});
}

}  // namespace

Network residual_backbone(const ResidualSettings& settings, const Shape& input) {
    assert(!settings.widths.empty() && input.size() == 3);
    Network network{input, {}};
    std::size_t x = network.add("image", Input{}, {});
    x = network_parts::convolution(network, "stem.convolution", x, input[2], settings.widths[0],
                                   settings.stem_kernel, settings.stem_stride);
    x = network_parts::normalisation(network, "stem.normalisation", x, settings.widths[0]);
    x = network.add("stem.relu", relu(), {x});
    if (settings.stem_pool) x = network.add("stem.pool", MaxPooling{{3, 3, 2, 2, 1, 1, 1, 1}}, {x});
    std::int64_t in = settings.widths[0];
    for (std::size_t stage = 0; stage < settings.widths.size(); ++stage) {
        const std::int64_t out = settings.widths[stage];
        for (std::int64_t block = 0; block < settings.blocks; ++block) {
            const std::int64_t stride = stage > 0 && block == 0 ? 2 : 1;
            x = add_block(network, fmt::format("stage{}.block{}", stage + 1, block + 1), x, in, out, stride);
            in = out;
        }
    }
    network_parts::global_average(network, x);
    return network;
}

void append_head(Network& backbone, const HeadSettings& settings, std::int64_t classes) {
    std::int64_t features = element_count(infer_shapes(backbone).back());
    std::size_t x = backbone.nodes.size() - 1;
    const auto add_dense = [&](const std::string& name, std::int64_t out) {
        if (settings.dropout > 0) x = backbone.add("head.dropout_" + name, Dropout{settings.dropout}, {x});
        x = network_parts::dense(backbone, "head." + name, x, features, out);
        features = out;
    };
    for (std::size_t i = 0; i < settings.hidden.size(); ++i) {
        add_dense(fmt::format("hidden{}", i + 1), settings.hidden[i]);
        x = backbone.add(fmt::format("head.relu{}", i + 1), relu(), {x});
    }
    add_dense("classes", classes);
}

void initialise(Network& network, std::size_t first_node, std::uint64_t seed) {
    for (std::size_t i = first_node; i < network.nodes.size(); ++i) {
        Node& node = network.nodes[i];
        const bool last = i + 1 == network.nodes.size();
        for (std::size_t p = 0; p < node.parameters.size(); ++p) {
            Tensor& parameter = node.parameters[p];
            const ParameterKind kind = parameter_kind(node.op, p);
            const auto* constant = std::get_if<Constant>(&node.op);
            if (constant != nullptr && !constant->trained) continue;
            if (kind != ParameterKind::weight && constant == nullptr) {
                const bool one = kind != ParameterKind::bias && (p == 0 || p == 3);  // scale and variance
                const bool slope = std::holds_alternative<ParametricRelu>(node.op);
                parameter.fill(slope ? 0.25F : one ? 1.0F : 0.0F);
                continue;
            }
            const std::int64_t fan_in = parameter.size() / parameter.shape().back();
            const double deviation =
                constant != nullptr ? 0.02 : std::sqrt((last ? 1.0 : 2.0) / static_cast<double>(fan_in));
            RandomStream stream({seed, Purpose::weights, 0, content_number(node.name)});
            for (float& value : parameter.values()) value = static_cast<float>(deviation * stream.normal());
        }
    }
}

}  // namespace jevrin
