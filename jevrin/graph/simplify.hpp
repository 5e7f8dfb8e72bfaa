// Steps that an exporter spelled out, put together again.
#pragma once

#include "jevrin/graph/graph.hpp"

namespace jevrin {

// The same function with whole operators where several nodes spell one out: a product with weights and a sum
// (dense layer), the mean taken off and the deviation divided out (layer normalisation), x (1 + erf(x / sqrt
// 2)) / 2 (GELU), x sigmoid(x) (SiLU), x times hard sigmoid of x (hard swish). The new operator has the name
// of the last of the nodes it stands for; nodes that the output no longer depends on are gone.
Network simplify(Network network);

}  // namespace jevrin
