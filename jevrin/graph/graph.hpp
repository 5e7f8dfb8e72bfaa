// A network as data: a list of named nodes, each an operator with its inputs and parameters.
//
// Nodes stand in the order of computation; inputs are indices of earlier nodes, node 0 is the input image or
// feature and the last node is the output. Shapes are those of one item, [height, width, channels] for images
// and [features] for vectors. Names carry the structure: "stage2.block1.convolution2" belongs to stage
// "stage2".
//
//     Network network = residual_backbone({.widths = {16, 32}, .blocks = {2}}, {64, 64, 3});
//     append_head(network, {.hidden = {64}}, 6);
//     initialise(network, 0, /*seed=*/1);
//     for (const Shape& shape : infer_shapes(network)) ...
#pragma once

#include "jevrin/graph/operators.hpp"
#include "jevrin/tensor/tensor.hpp"

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct Node {
    std::string name;
    Operator op;
    std::vector<std::size_t> inputs;
    std::vector<Tensor> parameters;
    // By parameter: a name that the same parameter of other nodes has too (shared_parameters.hpp); may be
    // shorter than the parameters.
    std::vector<std::string> shared = {};
    // What training does with it; model files say nothing about this.
    bool frozen = false;       // works as in inference: no parameter and no statistic changes
    double rate_factor = 1.0;  // of the learning rate
    // Where it stands in a network that was read from a file, see find_stages(); empty: its name says it.
    std::string module = {};
    std::string stage = {};
};

// Convolutions and dense layers of a network at most; checking and compiling take time with each.
inline constexpr std::int64_t most_weighted_layers = 4096;

struct Network {
    Shape input;  // of one item
    std::vector<Node> nodes;

    // Adds a node and returns its index.
    std::size_t add(std::string name, Operator op, std::vector<std::size_t> inputs,
                    std::vector<Tensor> parameters = {});
};

// What a parameter is: statistics follow the data, decayed ones take part in weight decay.
enum class ParameterKind { weight, bias, normalisation, statistic };
ParameterKind parameter_kind(const Operator& op, std::size_t index);

// "convolution", "batch normalisation", ...
std::string operator_name(const Operator& op);

// The shape of each node's output for one item. InputError names the layer, the shape it gets and what it
// needs.
std::vector<Shape> infer_shapes(const Network& network);

// The same for one node that is not the input, from the shapes it gets.
Shape infer_shape(const Node& node, const std::vector<Shape>& inputs);

// Numbers of a node that training may change: statistics are not counted.
std::int64_t parameters_of(const Node& node);
// The same of all nodes from one on; what nodes share counts once.
std::int64_t parameter_count(const Network& network, std::size_t first_node = 0);

// Whether its 3x3 convolutions use transformed tiles where they serve.
void set_winograd(Network& network, bool winograd);

// Multiplications for one item, forward, from a node on: convolutions, dense layers and matrix products.
std::int64_t multiplication_count(const Network& network, std::size_t first_node = 0);

// The same of one node; shapes are those of infer_shapes().
std::int64_t multiplications_of(const Network& network, std::size_t node, const std::vector<Shape>& shapes);

}  // namespace jevrin::inline v1
