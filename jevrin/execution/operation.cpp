#include "jevrin/execution/operation.hpp"

namespace jevrin::inline v1 {

std::unique_ptr<Operation> make_operation(const Node& node, const OperationShapes& shapes) {
    static const OperationTable table = [] {
        OperationTable steps("step");
        put_weighted_operations(steps);
        put_normalising_operations(steps);
        put_pointwise_operations(steps);
        put_pooling_operations(steps);
        put_moving_operations(steps);
        return steps;
    }();
    return table.at(node.op)(node, shapes);
}

}  // namespace jevrin::inline v1
