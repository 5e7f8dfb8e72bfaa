// The plan of the smallest study, trained in a tenth of a second.
#pragma once

#include <fmt/format.h>

#include <string>

namespace jevrin::test {

// A plan with one small candidate; images lines and training lines are added.
inline std::string tiny_plan(const std::string& name, const std::string& images = "",
                             const std::string& training = "") {
    return fmt::format(R"(name = "{}"
seeds = [1]
[images]
from = "images"
size = 8
{}
[training]
epochs = 2
{}
[[candidate]]
name = "tiny"
regime = "scratch"
network = {{ family = "plain", widths = [4] }}
)",
                       name, images, training);
}

}  // namespace jevrin::test
