// The libraries that decode images.
#pragma once

#include <map>
#include <string>

namespace jevrin::inline v1 {

// Their versions, by name.
std::map<std::string, std::string> image_libraries();

}  // namespace jevrin::inline v1
