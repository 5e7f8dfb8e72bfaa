// Model files: ONNX (an open standard), opset 13 to 17, weights inside.
//
// In memory images are channels-last; in the file they are channels-first, as the standard wants. Reading and
// writing convert once. Facts about a model that the graph cannot hold (classes, preparation, provenance) are
// text under keys that begin with "jevrin.".
#pragma once

#include "jevrin/network/graph.hpp"

#include <filesystem>
#include <map>
#include <string>

namespace jevrin {

struct Model {
    Network network;
    std::map<std::string, std::string> metadata;
};

// InputError when the file is missing, truncated, not a model, or uses operators that are not supported; the
// message then lists all of them with their nodes. A graph must state the height and width of its image.
Model read_model(const std::filesystem::path& path);

// Writes the file whole or not at all.
void write_model(const std::filesystem::path& path, const Model& model);

}  // namespace jevrin
