#include "jevrin/base/version.hpp"

namespace jevrin::inline v1 {

const char* library_version() {
    return JEVRIN_VERSION;
}

}  // namespace jevrin::inline v1
