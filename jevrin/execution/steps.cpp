#include "jevrin/execution/steps.hpp"

#include "jevrin/base/overloaded.hpp"

#include <stdexcept>

namespace jevrin::inline v1 {

using namespace operators;

std::unique_ptr<Step> make_step(const Node& node, const StepShapes& shapes) {
    return std::visit(Overloaded{
                          [](const Input&) -> std::unique_ptr<Step> {
                              throw std::logic_error("only the first node of a network is its input");
                          },
                          [&](const auto& op) { return step_of(op, node, shapes); },
                      },
                      node.op);
}

}  // namespace jevrin::inline v1
