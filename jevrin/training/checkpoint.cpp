#include "jevrin/training/checkpoint.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <cstring>

// The layout: a line "jevrin checkpoint 1 LENGTH", LENGTH bytes of JSON, the float32 numbers of all tensors
// in the order the JSON names them, then the 32 hexadecimal digits of the content hash of everything before.

namespace jevrin {
namespace {

const std::string magic = "jevrin checkpoint 1 ";
constexpr std::size_t hash_length = 32;

void append_floats(std::string& bytes, const float* values, std::size_t count) {
    bytes.append(reinterpret_cast<const char*>(values), count * sizeof(float));
}

std::vector<Shape> shapes_of(const std::vector<Tensor>& tensors) {
    std::vector<Shape> shapes;
    for (const Tensor& tensor : tensors) shapes.push_back(tensor.shape());
    return shapes;
}

class FloatReader {
  public:
    explicit FloatReader(std::string_view bytes) : bytes_(bytes) {}
    void read(float* values, std::size_t count) {
        if (bytes_.size() < count * sizeof(float)) throw InputError("numbers are missing");
        if (count == 0) return;
        std::memcpy(values, bytes_.data(), count * sizeof(float));
        bytes_.remove_prefix(count * sizeof(float));
    }
    std::vector<Tensor> read_tensors(const std::vector<Shape>& shapes) {
        std::vector<Tensor> tensors;
        for (const Shape& shape : shapes) {
            tensors.emplace_back(shape);
            read(tensors.back().data(), tensors.back().values().size());
        }
        return tensors;
    }

  private:
    std::string_view bytes_;
};

}  // namespace

void write_checkpoint(const std::filesystem::path& path, const TrainingState& state) {
    std::vector<std::size_t> velocity_sizes;
    for (const auto& velocity : state.velocities) velocity_sizes.push_back(velocity.size());
    const nlohmann::json header = {{"epochs_done", state.epochs_done},
                                   {"best_epoch", state.best_epoch},
                                   {"parameters", shapes_of(state.parameters)},
                                   {"velocities", velocity_sizes},
                                   {"best_parameters", shapes_of(state.best_parameters)},
                                   {"note", state.note}};
    const std::string text = header.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
    std::string bytes = fmt::format("{}{}\n{}", magic, text.size(), text);
    for (const Tensor& tensor : state.parameters) append_floats(bytes, tensor.data(), tensor.values().size());
    for (const auto& velocity : state.velocities) append_floats(bytes, velocity.data(), velocity.size());
    for (const Tensor& tensor : state.best_parameters)
        append_floats(bytes, tensor.data(), tensor.values().size());
    bytes += content_hash(bytes);
    write_file(path, bytes);
}

TrainingState read_checkpoint(const std::filesystem::path& path) {
    const std::string bytes = read_text(path);
    const auto damaged = [&](const char* how) {
        return InputError(
            fmt::format("{}: this checkpoint is damaged ({}); delete it to train the run from its beginning",
                        printable(path.string()), how));
    };
    if (bytes.size() < magic.size() + hash_length || !bytes.starts_with(magic)) throw damaged("no header");
    const std::string_view content(bytes.data(), bytes.size() - hash_length);
    if (content_hash(content) != bytes.substr(content.size())) throw damaged("its hash does not match");
    try {
        const std::size_t line_end = content.find('\n');
        const std::size_t length =
            std::stoul(std::string(content.substr(magic.size(), line_end - magic.size())));
        const auto header = nlohmann::json::parse(content.substr(line_end + 1, length));
        TrainingState state;
        state.epochs_done = header.at("epochs_done");
        state.best_epoch = header.at("best_epoch");
        state.note = header.at("note");
        FloatReader reader(content.substr(line_end + 1 + length));
        state.parameters = reader.read_tensors(header.at("parameters").get<std::vector<Shape>>());
        for (const std::size_t size : header.at("velocities").get<std::vector<std::size_t>>()) {
            state.velocities.emplace_back(size);
            reader.read(state.velocities.back().data(), size);
        }
        state.best_parameters = reader.read_tensors(header.at("best_parameters").get<std::vector<Shape>>());
        return state;
    } catch (const std::exception&) {
        throw damaged("its header is not understood");
    }
}

}  // namespace jevrin
