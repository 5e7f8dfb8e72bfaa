// The reference of all keys of plans and recipes, made from their descriptions.
#pragma once

#include <string>

namespace jevrin::inline v1 {

// Markdown: a heading and a table of keys for each table of a plan or recipe. docs/formats.md holds it; a
// test keeps the two together.
std::string settings_reference();

}  // namespace jevrin::inline v1
