#include "jevrin/base/descriptor.hpp"

#include <unistd.h>

namespace jevrin::inline v1 {

void Descriptor::close() {
    if (is_open()) ::close(std::exchange(value_, -1));
}

}  // namespace jevrin::inline v1
