// The libraries that decode images.
#pragma once

#include <map>
#include <string>

namespace jevrin {

// Their versions, by name.
std::map<std::string, std::string> image_libraries();

}  // namespace jevrin
