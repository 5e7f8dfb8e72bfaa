#include "jevrin/training/checkpoint.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>

// The layout: a line "jevrin checkpoint 2 LENGTH", LENGTH bytes of JSON, the float32 numbers of all lists in
// the order the JSON names them, then the 32 hexadecimal digits of the content hash of everything before.

namespace jevrin::inline v1 {
namespace {

const std::string magic = "jevrin checkpoint 2 ";
constexpr std::size_t hash_length = 32;

std::vector<Shape> shapes_of(const std::vector<Tensor>& tensors) {
    std::vector<Shape> shapes;
    for (const Tensor& tensor : tensors) shapes.push_back(tensor.shape());
    return shapes;
}

bool same_bits(const std::vector<Tensor>& a, const std::vector<Tensor>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const Tensor& one, const Tensor& other) {
        return one.shape() == other.shape() &&
               std::memcmp(one.data(), other.data(), one.values().size_bytes()) == 0;
    });
}

// The best weights are written once when they are those of the last epoch: then this names the list.
Json best_parameters_json(const TrainingState& state) {
    if (!state.best_parameters.empty() && same_bits(state.best_parameters, state.parameters))
        return "parameters";
    if (!state.best_parameters.empty() && same_bits(state.best_parameters, state.averages)) return "averages";
    return shapes_of(state.best_parameters);
}

Json to_json(const EpochSums& sums) {
    return {{"first_step", sums.first_step},
            {"objective", sums.objective},
            {"loss", sums.loss},
            {"labelled", sums.counts.labelled},
            {"predicted", sums.counts.predicted},
            {"right", sums.counts.correct},
            {"looks", sums.layers.looks},
            {"gradients", sums.layers.gradients},
            {"updates", sums.layers.updates},
            {"alive", sums.layers.alive},
            {"data_seconds", sums.data_seconds},
            {"compute_seconds", sums.compute_seconds}};
}

EpochSums sums_from_json(const Json& json) {
    const auto number = [&](const char* key) { return json.at(key).get<double>(); };
    const auto integers = [&](const char* key) { return json.at(key).get<std::vector<std::int64_t>>(); };
    return {.first_step = json.at("first_step").get<std::int64_t>(),
            .objective = number("objective"),
            .loss = number("loss"),
            .counts = {integers("labelled"), integers("predicted"), integers("right")},
            .layers = {.looks = json.at("looks").get<std::int64_t>(),
                       .gradients = json.at("gradients").get<std::vector<double>>(),
                       .updates = json.at("updates").get<std::vector<double>>(),
                       .alive = json.at("alive").get<std::vector<std::string>>()},
            .data_seconds = number("data_seconds"),
            .compute_seconds = number("compute_seconds")};
}

Json to_json(const PlateauWatch& plateau) {
    return {{"factor", plateau.factor},
            {"lowest", plateau.lowest},
            {"seen", plateau.seen},
            {"waited", plateau.waited}};
}

PlateauWatch plateau_from_json(const Json& json) {
    return {json.at("factor").get<double>(), json.at("lowest").get<double>(), json.at("seen").get<bool>(),
            json.at("waited").get<std::int64_t>()};
}

class FloatReader {
  public:
    explicit FloatReader(std::string_view bytes) : bytes_(bytes) {}
    std::vector<float> read(std::size_t count) {
        require(count);
        std::vector<float> values(count);
        take(values.data(), count);
        return values;
    }
    std::vector<Tensor> read_tensors(const std::vector<Shape>& shapes) {
        std::vector<Tensor> tensors;
        for (const Shape& shape : shapes) {
            require(static_cast<std::size_t>(element_count(shape)));
            tensors.emplace_back(shape);
            take(tensors.back().data(), tensors.back().values().size());
        }
        return tensors;
    }

  private:
    // Before room is made for them.
    void require(std::size_t count) const {
        if (bytes_.size() / sizeof(float) < count) throw InputError("numbers are missing");
    }
    void take(float* values, std::size_t count) {
        if (count == 0) return;
        std::memcpy(values, bytes_.data(), count * sizeof(float));
        bytes_.remove_prefix(count * sizeof(float));
    }

    std::string_view bytes_;
};

// Calls take() with all pieces of a checkpoint, in order.
template <typename Take>
void make_checkpoint(const TrainingState& state, const Take& take) {
    std::vector<std::array<std::int64_t, 3>> moments;  // first, second, steps
    for (const Moments& m : state.moments)
        moments.push_back({std::ssize(m.first), std::ssize(m.second), m.steps});
    const Json best = best_parameters_json(state);
    const Json header = {{"epochs_done", state.epochs_done},
                         {"steps_done", state.steps_done},
                         {"best_epoch", state.best_epoch},
                         {"parameters", shapes_of(state.parameters)},
                         {"moments", moments},
                         {"averages", shapes_of(state.averages)},
                         {"best_parameters", best},
                         {"plateau", to_json(state.plateau)},
                         {"sums", to_json(state.sums)},
                         {"note", state.note},
                         {"owner", state.owner}};
    const std::string text = json_text(header);
    const std::string head = fmt::format("{}{}\n{}", magic, text.size(), text);
    std::vector<std::span<const std::byte>> pieces = {std::as_bytes(std::span(head))};
    const auto add = [&](std::span<const float> values) { pieces.push_back(std::as_bytes(values)); };
    for (const Tensor& tensor : state.parameters) add(tensor.values());
    for (const Moments& m : state.moments) {
        add(m.first);
        add(m.second);
    }
    for (const Tensor& tensor : state.averages) add(tensor.values());
    if (best.is_array())
        for (const Tensor& tensor : state.best_parameters) add(tensor.values());
    ContentHasher hasher;
    for (const auto piece : pieces) hasher.add(piece);
    const std::string hash = hasher.hash().text();
    pieces.push_back(std::as_bytes(std::span(hash)));
    take(std::span<const std::span<const std::byte>>(pieces));
}

}  // namespace

void write_checkpoint(const std::filesystem::path& path, const TrainingState& state) {
    make_checkpoint(state, [&](auto pieces) { write_file(path, pieces); });
}

std::vector<std::byte> checkpoint_bytes(const TrainingState& state) {
    std::vector<std::byte> bytes;
    make_checkpoint(state, [&](auto pieces) {
        for (const auto piece : pieces) bytes.insert(bytes.end(), piece.begin(), piece.end());
    });
    return bytes;
}

TrainingState read_checkpoint(const std::filesystem::path& path) {
    return read_checkpoint(read_text(path), path.string());
}

TrainingState read_checkpoint(std::string_view bytes, const std::string& name) {
    const auto damaged = [&](const char* how) {
        return InputError(
            fmt::format("{}: this checkpoint is damaged ({}); delete it to train the run from its beginning",
                        printable(name), how));
    };
    if (bytes.size() < magic.size() + hash_length || !bytes.starts_with(magic)) throw damaged("no header");
    const std::string_view content(bytes.data(), bytes.size() - hash_length);
    if (content_hash(content) != bytes.substr(content.size())) throw damaged("its hash does not match");
    try {
        const std::size_t line_end = content.find('\n');
        const std::size_t length =
            std::stoul(std::string(content.substr(magic.size(), line_end - magic.size())));
        const auto header = parse_json(content.substr(line_end + 1, length));
        const auto integer = [&](const char* key) { return header.at(key).get<std::int64_t>(); };
        const auto shapes = [&](const char* key) { return header.at(key).get<std::vector<Shape>>(); };
        FloatReader reader(content.substr(line_end + 1 + length));
        TrainingState state{.epochs_done = integer("epochs_done"), .steps_done = integer("steps_done")};
        state.parameters = reader.read_tensors(shapes("parameters"));
        for (const auto& [first, second, steps] :
             header.at("moments").get<std::vector<std::array<std::int64_t, 3>>>()) {
            std::vector<float> m = reader.read(static_cast<std::size_t>(first));
            state.moments.push_back({std::move(m), reader.read(static_cast<std::size_t>(second)), steps});
        }
        state.averages = reader.read_tensors(shapes("averages"));
        state.plateau = plateau_from_json(header.at("plateau"));
        state.sums = sums_from_json(header.at("sums"));
        state.best_epoch = integer("best_epoch");
        const Json& best = header.at("best_parameters");
        state.best_parameters = best == "parameters" ? state.parameters
                                : best == "averages" ? state.averages
                                                     : reader.read_tensors(shapes("best_parameters"));
        state.note = header.at("note").get<std::string>();
        if (header.contains("owner")) state.owner = header.at("owner").get<std::string>();
        return state;
    } catch (const std::exception&) {
        throw damaged("its header is invalid");
    }
}

}  // namespace jevrin::inline v1
