// Names and versions of the computing libraries.
#pragma once

#include <map>
#include <string>

namespace jevrin::inline v1 {

// Their versions, by name.
std::map<std::string, std::string> compute_libraries();

}  // namespace jevrin::inline v1
