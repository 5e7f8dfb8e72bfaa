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
#include <span>
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

// A node of the format itself.
struct FormatNode {
    std::string type;
    std::vector<std::string> inputs;
    std::string output;  // a value, and the node's name
    std::map<std::string, std::int64_t> integers = {};
    std::map<std::string, std::vector<std::int64_t>> lists = {};  // of integers
};

// A constant of the format: integers, or numbers in float32.
struct FormatConstant {
    std::string name;
    Shape shape;
    std::vector<std::int64_t> integers = {};
    std::vector<float> numbers = {};
};

// What stands before and behind a network in a file: the file takes bytes [batch, height, width, 3], and
// gives one vector for each image.
struct Surroundings {
    std::string bytes;               // the value that the file takes
    std::vector<FormatNode> before;  // up to the network's input, by the name of its first node
    std::vector<FormatNode> after;   // from the network's output, by the name of its last node
    std::vector<FormatConstant> constants;
    std::string output;  // the value that the file gives
};

// Writes the file whole or not at all. With surroundings read_model() reads the network alone again.
void write_model(const std::filesystem::path& path, const Model& model,
                 const Surroundings* surroundings = nullptr);

// What the nodes before the network of such a file make of one image: its input, channels first. bytes:
// [height, width, 3]. Slow: every node is computed as the format defines it. InputError when it is no such
// file.
std::vector<float> prepared_by_file(const std::filesystem::path& path, std::span<const std::uint8_t> bytes,
                                    std::int64_t height, std::int64_t width);

}  // namespace jevrin::inline v1
