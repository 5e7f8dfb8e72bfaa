// Modules and stages: where a node stands in its network, by whatever says it.
//
// Files name modules in several spellings: "/layer3/layer3.0/conv1/Conv", "layer3/layer3.0" and "layer3.0"
// are the same module layer3.0 of the stage layer3. Where nodes are only numbered, the names of their weights
// ("layer3.0.conv1.weight") say where they stand; where nothing does, the structure makes stages "block1",
// "block2", ...
#pragma once

#include "jevrin/graph/graph.hpp"

#include <string>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {

// The modules that a name spells, outermost first, the last part included: "/layer3/layer3.0/conv1/Conv" is
// "layer3.0.conv1.Conv". A part that repeats the one before it ("layer3/layer3.0") counts once.
std::string module_path(std::string_view name);

// Gives every node of a network that was read from a file its module and its stage. Nodes whose module
// nothing states stand beside what they read; when most convolutions and dense layers have none, stages are
// found by structure: a block is what lies between two values that everything passes through, and blocks at
// one resolution without branches are one.
void find_stages(Network& network);

// The stage of a node, or the first module of its name: "stage2" of "stage2.block1.convolution2".
std::string stage_of(const Node& node);
// The stages in order of first appearance, without the input.
std::vector<std::string> stage_names(const Network& network);
// The nodes that are called so or belong to this stage, or to a module of this name in any spelling: in
// order, none when there is no such name. Where no layer with weights is in "conv5_block1", it is also what
// has names such as "conv5_block1_1_conv"; and a module around everything may be left out.
std::vector<std::size_t> nodes_of(const Network& network, const std::string& stage_or_node);

// The first node of a stage, or the node of that name; the boundary before which everything may be frozen.
// InputError lists the stages when there is none.
std::size_t find_boundary(const Network& network, const std::string& stage_or_node);
// The last node of a stage, or the node of that name, whose value is that of the whole stage. InputError
// likewise.
std::size_t find_end(const Network& network, const std::string& stage_or_node);

}  // namespace jevrin::inline v1
