#include "jevrin/network/steps.hpp"

#include <cassert>

namespace jevrin {

std::unique_ptr<Step> make_step(const Node& node, const StepShapes& shapes) {
    using Make = std::unique_ptr<Step> (*)(const Node&, const StepShapes&);
    const Make make = std::visit(Overloaded{
                                     [](const Input&) -> Make { return nullptr; },
                                     [](const Constant&) -> Make { return make_weighted_step; },
                                     [](const Convolution&) -> Make { return make_weighted_step; },
                                     [](const MatrixProduct&) -> Make { return make_weighted_step; },
                                     [](const Dense&) -> Make { return make_weighted_step; },
                                     [](const BatchNormalisation&) -> Make { return make_normalising_step; },
                                     [](const LayerNormalisation&) -> Make { return make_normalising_step; },
                                     [](const GroupNormalisation&) -> Make { return make_normalising_step; },
                                     [](const Softmax&) -> Make { return make_normalising_step; },
                                     [](const Activation&) -> Make { return make_pointwise_step; },
                                     [](const ParametricRelu&) -> Make { return make_pointwise_step; },
                                     [](const Arithmetic&) -> Make { return make_pointwise_step; },
                                     [](const Dropout&) -> Make { return make_pointwise_step; },
                                     [](const MaxPooling&) -> Make { return make_pooling_step; },
                                     [](const AveragePooling&) -> Make { return make_pooling_step; },
                                     [](const GlobalAveragePooling&) -> Make { return make_pooling_step; },
                                     [](const Reduction&) -> Make { return make_pooling_step; },
                                     [](const Concatenate&) -> Make { return make_moving_step; },
                                     [](const Slice&) -> Make { return make_moving_step; },
                                     [](const Padding&) -> Make { return make_moving_step; },
                                     [](const Transpose&) -> Make { return make_moving_step; },
                                     [](const Reshape&) -> Make { return make_moving_step; },
                                     [](const Flatten&) -> Make { return make_moving_step; },
                                     [](const Gather&) -> Make { return make_moving_step; },
                                 },
                                 node.op);
    assert(make != nullptr);
    return make(node, shapes);
}

}  // namespace jevrin
