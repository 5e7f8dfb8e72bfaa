#include "jevrin/execution/kept_activations.hpp"

namespace jevrin::inline v1 {

const EnumNames<KeptActivations>& names_of(KeptActivations) {
    static const EnumNames<KeptActivations> names(
        "kept activations", {{KeptActivations::float32, "float32"}, {KeptActivations::bfloat16, "bfloat16"}});
    return names;
}

}  // namespace jevrin::inline v1
