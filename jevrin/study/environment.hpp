// The environment of a run: versions, processor, libraries.
#pragma once

#include <string>

namespace jevrin::inline v1 {

// JSON: versions of Jevrin, the compiler and the libraries that can change a number, processor, cores,
// threads.
std::string environment_json();

}  // namespace jevrin::inline v1
