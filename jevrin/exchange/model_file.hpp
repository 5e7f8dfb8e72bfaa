// Model files: ONNX (an open standard). Written with operator set 17, weights inside; read from sets 1 to 24.
//
// In memory images are channels-last; in the file they are channels-first, as the standard wants. Reading and
// writing convert once. Classes, preparation and
// provenance are metadata under keys that begin with "jevrin.".
#pragma once

#include "jevrin/base/image_size.hpp"
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
    std::vector<std::string> notes = {};  // what to know of how it was read
};

struct ReadSettings {
    std::optional<ImageSize> image_size = {};  // instead of that which the file states
    // At another size than the file states, learned positions of the patches of a transformer are resampled
    // to the new grid by cubic convolution (Keys 1981, a = -0.75), as between pixel centres.
    bool resample_positions = false;
    // A node, a value, a module or a stage whose value becomes the output instead of the file's.
    std::string output = {};
};

// Reads models into our operators. From sets 1 to 6 those are read that have not changed since; beyond 24
// what is known, with a note. Constants are folded, the arithmetic with shapes that exporters leave behind is
// carried out, transpositions between channels-first and channels-last vanish. An input of one dimension is a
// single item without a batch; of four, an image, channels first (or last when only the last dimension can be
// channels).
//
// InputError when an image size does not fit, with the size that the file was made for; when the file is
// missing, truncated, not a model, or uses operators that are not supported; the message then lists all of
// them with their nodes. A graph must state the height and width of its image unless the settings do. Takes
// little more memory than the weights.
Model read_model(const std::filesystem::path& path, const ReadSettings& settings = {});

// The operators of the format that read_model() understands, by name; some of them only where they do not
// depend on the image.
std::vector<std::string> readable_operators();

// Writes the file whole or not at all.
void write_model(const std::filesystem::path& path, const Model& model);

}  // namespace jevrin::inline v1
