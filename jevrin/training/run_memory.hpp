// The memory that training needs.
#pragma once

#include "jevrin/execution/pass.hpp"
#include "jevrin/graph/graph.hpp"

#include <cstddef>

namespace jevrin::inline v1 {

// The memory of a run beside its images and features while it trains from this node on: steps, evaluations,
// weights, momentum, the best weights.
PassMemory run_memory(const Network& network, std::size_t first_trained, KeptActivations kept);

}  // namespace jevrin::inline v1
