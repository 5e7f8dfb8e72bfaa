// Model files: ONNX (an open standard). Written with operator set 17, weights inside.
//
// In memory images are channels-last; in the file they are channels-first, as the standard wants. Reading and
// writing convert once. Classes, preparation and
// provenance are metadata under keys that begin with "jevrin.".
#pragma once

#include "jevrin/graph/graph.hpp"

#include <cstdint>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct Model {
    Network network;
    std::map<std::string, std::string> metadata;
};

struct ReadSettings {
    std::optional<std::int64_t> image_size = {};  // height and width instead of those that the file states
    // A node, a value, a module or a stage whose value becomes the output instead of the file's.
    std::string output = {};
};

// Reads models of operator sets 7 to 17 into our operators. Constants are folded, the arithmetic with shapes
// that exporters leave behind is carried out, transpositions between channels-first and channels-last vanish.
// An input of one dimension is a single item without a batch; of four, an image, channels first (or last when
// only the last dimension can be channels).
//
// InputError when the file is missing, truncated, not a model, or uses operators that are not supported; the
// message then lists all of them with their nodes. A graph must state the height and width of its image
// unless the settings do. Takes little more memory than the weights.
Model read_model(const std::filesystem::path& path, const ReadSettings& settings = {});

// The operators of the format that read_model() understands, by name; some of them only where they do not
// depend on the image.
std::vector<std::string> readable_operators();

// Writes the file whole or not at all.
void write_model(const std::filesystem::path& path, const Model& model);

}  // namespace jevrin::inline v1
