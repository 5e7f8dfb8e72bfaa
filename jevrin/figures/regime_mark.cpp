#include "jevrin/figures/regime_mark.hpp"

#include "jevrin/base/enumeration.hpp"

namespace jevrin::inline v1 {

int regime_mark(Regime regime) {
    switch (regime) {
        case Regime::scratch:
            return 9;
        case Regime::frozen:
            return 7;
        case Regime::partial:
            return 5;
    }
    unhandled(regime);
}

std::string regime_sign(Regime regime) {
    switch (regime) {
        case Regime::scratch:
            return "\u25b2";
        case Regime::frozen:
            return "\u25cf";
        case Regime::partial:
            return "\u25a0";
    }
    unhandled(regime);
}

}  // namespace jevrin::inline v1
