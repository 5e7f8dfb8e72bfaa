// The rewriting pipeline: rewrites in a fixed order, each of which keeps the function of a network
// (docs/architecture.md).
#pragma once

#include "jevrin/graph/graph.hpp"

#include <vector>

namespace jevrin::inline v1 {

enum class RewritingStage {
    after_reading,     // decomposed operators are recomposed
    before_inference,  // operators are fused where nothing else uses the value between them
};

struct Rewrite {
    const char* name;
    RewritingStage stage;
    Network (*apply)(Network network);
};
// In the order in which they are applied.
const std::vector<Rewrite>& rewrites();

// Every rewrite of a stage, one after the other.
Network rewrite(Network network, RewritingStage stage);

}  // namespace jevrin::inline v1
