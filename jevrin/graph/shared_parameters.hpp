// Parameters that several nodes share: one tensor of a model file that they all read.
//
// Each node keeps a copy of its own, so that kernels and rewriting know nothing of this. The copies have one
// name, begin equal and stay equal: training adds up their gradients (TrainingPass).
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <set>
#include <string>

namespace jevrin::inline v1 {

// The name under which a node shares a parameter; empty when it is its own.
const std::string& shared_name(const Node& node, std::size_t parameter);

// Names remain only where two nodes or more have the same parameter: one kind, shape and content.
void settle_shared(Network& network);

// Nodes from one on no longer share with those before it, as one side trains and the other does not; they
// still share among themselves.
void part_shared_at(Network& network, std::size_t first_trained);

// Later nodes get what the first of those that share has.
void copy_shared(Network& network, std::size_t first_node);

// Counts parameters of one node after another (parameters_of()), shared ones only at the first.
class ParameterCounter {
  public:
    std::int64_t count(const Node& node);

  private:
    std::set<std::string> seen_;
};

}  // namespace jevrin::inline v1
