// The rewriting pipeline: passes in a fixed order, each of which keeps the function of a network.
//
// docs/architecture.md draws where it stands on a model's way from its file to a pass.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <vector>

namespace jevrin::inline v1 {

enum class RewritingStage {
    after_reading,     // what an exporter spelled out becomes whole operators
    before_inference,  // what training needs apart melts together; only where nothing else uses the value
                       // between
};

struct RewritingPass {
    const char* name;
    RewritingStage stage;
    Network (*apply)(Network network);
};
// In the order in which they are applied.
const std::vector<RewritingPass>& rewriting_passes();

// Every pass of a stage, one after the other.
Network rewrite(Network network, RewritingStage stage);

}  // namespace jevrin::inline v1
