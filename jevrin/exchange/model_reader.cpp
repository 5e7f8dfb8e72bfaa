#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/constant_folding.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_seal.hpp"
#include "jevrin/exchange/operator_forms.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/rewriting.hpp"
#include "jevrin/graph/shared_parameters.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <memory>

namespace jevrin::inline v1 {
namespace {

// Sizes that networks are usually made for, tried where a file leaves its own open and does not work on every
// one.
constexpr std::int64_t usual_sizes[] = {224, 32,  64,  256, 384, 299, 96,  112, 128, 160, 192, 240,
                                        260, 288, 320, 300, 380, 448, 512, 28,  16,  8,   4};

Network network_of(const StoredModel& stored, const ReadSettings& settings) {
    GraphReader reader(stored, settings);
    Network network = rewrite(reader.read(), RewritingStage::after_reading);
    settle_shared(network);
    find_stages(network);
    if (!settings.output.empty() && !reader.ends_at_named())
        network = network_until(network, find_end(network, settings.output));
    return network;
}

// The size for which the file was made, when it works at that one.
std::optional<ImageSize> working_size(const StoredModel& stored, const ReadSettings& settings) {
    const auto works_at = [&](const std::optional<ImageSize>& size) -> std::optional<ImageSize> {
        ReadSettings other = settings;
        other.image_size = size;
        try {
            const Network network = network_of(stored, other);
            if (network.input.size() != 3) return std::nullopt;
            return ImageSize(network.input[0], network.input[1]);
        } catch (const InputError&) {
            return std::nullopt;
        }
    };
    if (const auto size = works_at(std::nullopt)) return size;
    for (const std::int64_t side : usual_sizes)
        if (const auto size = works_at(ImageSize(side))) return size;
    return std::nullopt;
}

// The network alone, where our own file has nodes around it.
struct SurroundedNetwork {
    std::string input;
    std::string output;
    std::vector<std::int64_t> shape;  // of the input, channels first, without the batch
};

std::optional<SurroundedNetwork> surrounded(const StoredModel& stored) {
    const auto stated = stored.metadata.find(network_key);
    if (stated == stored.metadata.end()) return std::nullopt;
    try {
        const Json json = parse_json(stated->second);
        return SurroundedNetwork{json.at("input").get<std::string>(), json.at("output").get<std::string>(),
                                 json.at("shape").get<std::vector<std::int64_t>>()};
    } catch (const InputError&) {
        throw InputError(fmt::format("its '{}' is damaged", network_key));
    }
}

void leave_surroundings(StoredModel& stored) {
    const std::optional<SurroundedNetwork> network = surrounded(stored);
    if (!network) return;
    std::erase_if(stored.nodes, [&](const StoredNode& node) {
        const auto& outputs = node.proto.output();
        return std::find(outputs.begin(), outputs.end(), network->input) != outputs.end();
    });
    const auto value = [](const std::string& name) {
        onnx::ValueInfoProto info;
        info.set_name(name);
        auto& tensor = *info.mutable_type()->mutable_tensor_type();
        tensor.set_elem_type(onnx::TensorProto::FLOAT);
        tensor.mutable_shape()->add_dim()->set_dim_param("batch");
        return info;
    };
    stored.inputs = {value(network->input)};
    for (const std::int64_t size : network->shape)
        stored.inputs[0].mutable_type()->mutable_tensor_type()->mutable_shape()->add_dim()->set_dim_value(
            size);
    stored.outputs = {value(network->output)};
}

}  // namespace

std::vector<float> prepared_by_file(const std::filesystem::path& path, std::span<const std::uint8_t> bytes,
                                    std::int64_t height, std::int64_t width) {
    const StoredModel stored = read_stored_model(path);
    const std::optional<SurroundedNetwork> network = surrounded(stored);
    if (!network || stored.inputs.empty())
        throw InputError(fmt::format("{}: it has nothing before its network", printable(path.string())));
    std::map<std::string, std::shared_ptr<const Folded>> values;
    values[stored.inputs[0].name()] =
        std::make_shared<const Folded>(Folded{{1, height, width, 3}, {bytes.begin(), bytes.end()}, true});
    for (const StoredNode& one : stored.nodes) {
        const GraphNode node(one);
        std::vector<std::shared_ptr<const Folded>> inputs;
        for (int i = 0; i < node.inputs(); ++i) {
            if (const auto weight = stored.weights.find(node.input(i)); weight != stored.weights.end()) {
                Folded constant{weight->second.shape(), {}, weight->second.whole()};
                constant.values.resize(static_cast<std::size_t>(weight->second.size()));
                weight->second.read(0, std::span<double>(constant.values));
                values.try_emplace(node.input(i), std::make_shared<const Folded>(std::move(constant)));
            }
            const auto known = values.find(node.input(i));
            if (known == values.end() || !can_fold(node.type()))
                throw InputError(fmt::format("{}: '{}' cannot be computed", printable(path.string()),
                                             printable(node.name())));
            inputs.push_back(known->second);
        }
        std::vector<Folded> outputs = fold(node, pointers_to(inputs));
        if (node.output() == network->input) return {outputs[0].values.begin(), outputs[0].values.end()};
        values[node.output()] = std::make_shared<const Folded>(std::move(outputs[0]));
    }
    throw InputError(fmt::format("{}: nothing makes the input of its network", printable(path.string())));
}

Model read_model(const std::filesystem::path& path, const ReadSettings& settings) {
    const std::string file = printable(path.string());
    try {
        StoredModel stored = read_stored_model(path);
        leave_surroundings(stored);
        Model model;
        model.metadata = stored.metadata;
        if (stored.opset > newest_opset)
            model.notes.push_back(
                fmt::format("it uses operator set {}, which is newer than {}; each of its operators is known "
                            "in an older form",
                            stored.opset, newest_opset));
        try {
            model.network = network_of(stored, settings);
        } catch (const InputError&) {
            const std::optional<ImageSize> made_for =
                settings.image_size ? working_size(stored, settings) : std::nullopt;
            if (!made_for || *made_for == *settings.image_size) throw;
            throw InputError(fmt::format(
                "it does not work on images of {}: it was made for {}; use that size{}",
                settings.image_size->text(), made_for->text(),
                settings.resample_positions
                    ? ""
                    : ", or, for a transformer with learned positions, set 'resample_positions'"));
        }
        return model;
    } catch (const InputError& error) {
        if (error.place() == ErrorPlace::file) throw;
        throw InputError::in_file(file, error.what());
    }
}

}  // namespace jevrin::inline v1
