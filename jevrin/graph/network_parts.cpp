#include "jevrin/graph/network_parts.hpp"

namespace jevrin::inline v1::network_parts {

using namespace operators;

std::size_t convolution(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                        std::int64_t out, std::int64_t kernel, std::int64_t stride, std::int64_t groups) {
    const std::int64_t pad = kernel / 2;
    const Window window{kernel, kernel, stride, stride, pad, pad, pad, pad};
    return network.add(name, Convolution{window, groups}, {input},
                       {Tensor({kernel, kernel, in / groups, out})});
}

std::size_t normalisation(Network& network, const std::string& name, std::size_t input,
                          std::int64_t channels) {
    std::vector<Tensor> parameters(4, Tensor({channels}));
    parameters[0].fill(1.0F);
    parameters[3].fill(1.0F);
    return network.add(name, BatchNormalisation{}, {input}, std::move(parameters));
}

std::size_t layer_normalisation(Network& network, const std::string& name, std::size_t input,
                                std::int64_t width) {
    std::vector<Tensor> parameters(2, Tensor({width}));
    parameters[0].fill(1.0F);
    return network.add(name, LayerNormalisation{}, {input}, std::move(parameters));
}

std::size_t dense(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                  std::int64_t out) {
    return network.add(name, Dense{}, {input}, {Tensor({in, out}), Tensor({out})});
}

std::size_t convolution_block(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                              std::int64_t out, std::int64_t kernel, std::int64_t stride, std::int64_t groups,
                              FunctionKind activation) {
    std::size_t x = convolution(network, name + ".convolution", input, in, out, kernel, stride, groups);
    x = normalisation(network, name + ".normalisation", x, out);
    if (activation == FunctionKind::identity) return x;
    return network.add(name + ".activation", Activation{{activation}}, {x});
}

std::size_t global_average(Network& network, std::size_t input) {
    const std::size_t x = network.add("pool.average", GlobalAveragePooling{}, {input});
    return network.add("pool.flatten", Flatten{}, {x});
}

}  // namespace jevrin::inline v1::network_parts
