// The least bytes that a network moves to and from memory, for its roofline (Williams, Waterman & Patterson
// 2009): a step takes no less than its operations at the arithmetic limit, nor than its bytes at the rate of
// copying.
#pragma once

#include "jevrin/graph/graph.hpp"

namespace jevrin::bench {

// Bytes of one step or forward pass over a batch. Unfused: every operator is a pass of its own over its
// inputs and its output. Fused: normalisation, activations, sums and moved elements cost nothing beside the
// convolutions, products and pools that read and write them.
struct Traffic {
    double unfused = 0.0;
    double fused = 0.0;
};

Traffic forward_traffic(const Network& network, std::int64_t batch);
// With the parameters read twice, and eight times more where they train: gradients are written, and the
// optimiser reads and writes parameters and two moments with them.
Traffic step_traffic(const Network& network, std::int64_t batch);

}  // namespace jevrin::bench
