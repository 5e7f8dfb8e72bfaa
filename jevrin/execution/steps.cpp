#include "jevrin/execution/steps.hpp"

namespace jevrin::inline v1 {

std::unique_ptr<Step> make_step(const Node& node, const StepShapes& shapes) {
    static const StepTable table = [] {
        StepTable steps("step");
        put_weighted_steps(steps);
        put_normalising_steps(steps);
        put_pointwise_steps(steps);
        put_pooling_steps(steps);
        put_moving_steps(steps);
        return steps;
    }();
    return table.at(node.op)(node, shapes);
}

}  // namespace jevrin::inline v1
