// Pieces that the architectures share; each returns the index of the last node it adds.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <string>

namespace jevrin::inline v1::network_parts {

// Square kernels with the padding that keeps the size at stride 1; no bias. Weights are zero.
std::size_t convolution(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                        std::int64_t out, std::int64_t kernel, std::int64_t stride, std::int64_t groups = 1);
// With scale and variance 1, shift and mean 0.
std::size_t normalisation(Network& network, const std::string& name, std::size_t input,
                          std::int64_t channels);
// Over the last dimension.
std::size_t layer_normalisation(Network& network, const std::string& name, std::size_t input,
                                std::int64_t width);
// With a bias.
std::size_t dense(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                  std::int64_t out);
// NAME.convolution, NAME.normalisation, NAME.activation.
std::size_t convolution_block(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                              std::int64_t out, std::int64_t kernel, std::int64_t stride, std::int64_t groups,
                              FunctionKind activation);
// Two 3x3 convolutions and the way around them (He 2016), in architecture.cpp.
std::size_t residual_block(Network& network, const std::string& name, std::size_t input, std::int64_t in,
                           std::int64_t out, std::int64_t stride);
// pool.average and pool.flatten.
std::size_t global_average(Network& network, std::size_t input);

}  // namespace jevrin::inline v1::network_parts
