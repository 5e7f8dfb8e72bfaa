// The [network] table: a family from the literature with its settings, or a list of layers.
#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/shared_tables.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <map>

namespace jevrin {
namespace {

constexpr std::int64_t widest = 65'536;
constexpr std::int64_t largest_kernel = 63;

// One of some words; InputError names them all.
template <typename Meaning>
Meaning word_of(TomlReader& reader, const std::string& key, const std::map<std::string, Meaning>& meanings,
                std::optional<std::string> otherwise) {
    const std::string word = reader.text(key, std::move(otherwise));
    return reader.at(key, [&] {
        if (const auto found = meanings.find(word); found != meanings.end()) return found->second;
        std::vector<std::string> words;
        for (const auto& [name, meaning] : meanings) words.push_back(name);
        throw InputError(fmt::format("{} is '{}'{}; it may be {}", key, printable(word),
                                     did_you_mean(word, words), fmt::join(words, ", ")));
    });
}

const std::map<std::string, FunctionKind> functions = {
    {"relu", FunctionKind::relu},         {"leaky relu", FunctionKind::leaky_relu},
    {"elu", FunctionKind::elu},           {"sigmoid", FunctionKind::sigmoid},
    {"tanh", FunctionKind::tanh},         {"gelu", FunctionKind::gelu},
    {"silu", FunctionKind::silu},         {"hard swish", FunctionKind::hard_swish},
    {"softplus", FunctionKind::softplus},
};

const std::map<std::string, LayerKind> layer_kinds = {
    {"convolution", LayerKind::convolution},
    {"normalisation", LayerKind::normalisation},
    {"layer normalisation", LayerKind::layer_normalisation},
    {"group normalisation", LayerKind::group_normalisation},
    {"activation", LayerKind::activation},
    {"max pooling", LayerKind::max_pooling},
    {"average pooling", LayerKind::average_pooling},
    {"global average", LayerKind::global_average},
    {"dropout", LayerKind::dropout},
    {"flatten", LayerKind::flatten},
    {"dense", LayerKind::dense},
    {"residual block", LayerKind::residual_block},
};

std::vector<std::int64_t> widths_of(TomlReader& reader, const std::string& key,
                                    const std::vector<std::int64_t>& otherwise, std::int64_t high = widest) {
    const auto stated = reader.integers(key, 1, high);
    if (!reader.has(key)) return otherwise;
    reader.at(key, [&] {
        if (stated.empty() || stated.size() > 64)
            throw InputError(fmt::format("'{}' needs 1 to 64 numbers", key));
    });
    return stated;
}

// A number for all stages, or one for each of them.
std::vector<std::int64_t> for_stages(TomlReader& reader, const std::string& key, std::size_t stages,
                                     std::int64_t otherwise, std::int64_t high) {
    if (!reader.has(key) || !reader.holds_list(key)) return {reader.integer(key, otherwise, 1, high)};
    const auto stated = reader.integers(key, 1, high);
    reader.at(key, [&] {
        if (stated.size() != stages)
            throw InputError(
                fmt::format("'{}' has {} numbers and there are {} stages", key, stated.size(), stages));
    });
    return stated;
}

ResidualSettings read_residual(TomlReader& reader) {
    ResidualSettings s;
    s.widths = widths_of(reader, "widths", s.widths, 4096);
    s.blocks = for_stages(reader, "blocks", s.widths.size(), 1, 64);
    s.block = word_of<ResidualBlock>(
        reader, "block", {{"basic", ResidualBlock::basic}, {"bottleneck", ResidualBlock::bottleneck}},
        "basic");
    s.stem_stride = reader.integer("stem_stride", s.stem_stride, 1, 4);
    s.stem_kernel = reader.integer("stem_kernel", s.stem_kernel, 1, largest_kernel);
    s.stem_pool = reader.truth("stem_pool", s.stem_pool);
    return s;
}

PlainSettings read_plain(TomlReader& reader) {
    PlainSettings s;
    s.widths = widths_of(reader, "widths", s.widths, 4096);
    s.convolutions = reader.integer("convolutions", s.convolutions, 1, 16);
    return s;
}

PerceptronSettings read_perceptron(TomlReader& reader) {
    PerceptronSettings s;
    s.hidden = widths_of(reader, "hidden", s.hidden);
    s.activation = read_function(reader, "activation");
    s.dropout = reader.number("dropout", s.dropout, 0.0, 0.99);
    return s;
}

DenselyConnectedSettings read_densely_connected(TomlReader& reader) {
    DenselyConnectedSettings s;
    s.stem_width = reader.integer("stem_width", s.stem_width, 1, 4096);
    s.growth = reader.integer("growth", s.growth, 1, 1024);
    s.layers = widths_of(reader, "depths", s.layers, 256);
    return s;
}

InvertedResidualSettings read_inverted_residual(TomlReader& reader) {
    InvertedResidualSettings s;
    s.stem_width = reader.integer("stem_width", s.stem_width, 1, 4096);
    s.stem_stride = reader.integer("stem_stride", s.stem_stride, 1, 4);
    s.last_width = reader.integer("last_width", s.last_width, 1, widest);
    if (!reader.has("stages")) {
        reader.mention("stages");
        return s;
    }
    s.stages.clear();
    for (TomlReader& table : reader.tables("stages")) {
        InvertedStage stage;
        stage.width = table.integer("width", std::nullopt, 1, 4096);
        stage.blocks = table.integer("blocks", stage.blocks, 1, 64);
        stage.stride = table.integer("stride", stage.stride, 1, 4);
        stage.expansion = table.integer("expansion", stage.expansion, 1, 16);
        stage.kernel = table.integer("kernel", stage.kernel, 1, largest_kernel);
        stage.squeeze = table.truth("squeeze", stage.squeeze);
        stage.activation = table.has("activation") ? read_function(table, "activation") : stage.activation;
        table.finish();
        s.stages.push_back(stage);
    }
    return s;
}

VisionTransformerSettings read_vision_transformer(TomlReader& reader) {
    VisionTransformerSettings s;
    s.patch = reader.integer("patch", s.patch, 1, 1024);
    s.width = reader.integer("width", s.width, 1, 8192);
    s.depth = reader.integer("depth", s.depth, 1, 128);
    s.heads = reader.integer("heads", s.heads, 1, 256);
    reader.at("heads", [&] {
        if (s.width % s.heads != 0)
            throw InputError(fmt::format("{} heads do not divide a width of {}", s.heads, s.width));
    });
    return s;
}

bool is_one_of(const Layer& layer, std::initializer_list<LayerKind> kinds) {
    return std::find(kinds.begin(), kinds.end(), layer.kind) != kinds.end();
}

Layer read_layer(TomlReader& reader) {
    Layer layer;
    layer.place = reader.place();
    layer.kind = word_of<LayerKind>(reader, "kind", layer_kinds, std::nullopt);
    layer.name = reader.text("name", "");
    reader.at("name", [&] {
        if (printable(layer.name) != layer.name || layer.name.find_first_of("./:") != std::string::npos)
            throw InputError("a layer's name may not hold '.', '/', ':' or control characters");
    });
    const auto kind = [&](std::initializer_list<LayerKind> kinds) { return is_one_of(layer, kinds); };
    using K = LayerKind;
    if (kind({K::convolution, K::residual_block}))
        layer.width = reader.integer("width", std::nullopt, 1, widest);
    if (kind({K::dense})) layer.width = reader.integer("width", 0, 0, widest);
    if (kind({K::convolution, K::dense, K::residual_block, K::normalisation}))
        layer.inputs = reader.integer("inputs", 0, 0, widest);
    if (kind({K::convolution})) layer.kernel = reader.integer("kernel", 3, 1, largest_kernel);
    if (kind({K::max_pooling, K::average_pooling}))
        layer.kernel = reader.integer("kernel", 2, 1, largest_kernel);
    if (kind({K::convolution, K::max_pooling, K::average_pooling, K::residual_block}))
        layer.stride = reader.integer("stride", 0, 0, largest_kernel);
    if (kind({K::convolution})) layer.dilation = reader.integer("dilation", 1, 1, largest_kernel);
    if (kind({K::convolution})) layer.groups = reader.integer("groups", 1, 1, widest);
    if (kind({K::group_normalisation})) layer.groups = reader.integer("groups", std::nullopt, 1, widest);
    if (kind({K::activation})) layer.function = read_function(reader, "function");
    if (kind({K::dropout})) layer.rate = reader.number("rate", 0.5, 0.0, 0.99);
    reader.finish();
    return layer;
}

LayerList read_layers(TomlReader& reader) {
    LayerList list;
    for (TomlReader& table : reader.tables("layers")) list.layers.push_back(read_layer(table));
    std::map<std::string, std::string> places;
    for (std::size_t i = 0; i < list.layers.size(); ++i) {
        const Layer& layer = list.layers[i];
        const std::string name = layer.name.empty() ? fmt::format("layer{}", i + 1) : layer.name;
        if (!places.emplace(name, layer.place).second)
            throw InputError(fmt::format("{}: the layer's name '{}' is taken by the one at {}", layer.place,
                                         name, places[name]));
        const bool last = i + 1 == list.layers.size();
        if (layer.kind == LayerKind::dense && layer.width == 0 && !last)
            throw InputError(
                fmt::format("{}: a dense layer needs 'width'; only the last one takes it from "
                            "the number of classes",
                            layer.place));
    }
    return list;
}

const std::map<std::string, Architecture (*)(TomlReader&)> families = {
    {"residual", [](TomlReader& r) -> Architecture { return read_residual(r); }},
    {"plain", [](TomlReader& r) -> Architecture { return read_plain(r); }},
    {"perceptron", [](TomlReader& r) -> Architecture { return read_perceptron(r); }},
    {"densely connected", [](TomlReader& r) -> Architecture { return read_densely_connected(r); }},
    {"inverted residual", [](TomlReader& r) -> Architecture { return read_inverted_residual(r); }},
    {"vision transformer", [](TomlReader& r) -> Architecture { return read_vision_transformer(r); }},
};

std::string kind_of(LayerKind wanted) {
    for (const auto& [name, kind] : layer_kinds)
        if (kind == wanted) return name;
    return "";
}

// As read_layer() reads it.
Json to_json(const Layer& layer) {
    using K = LayerKind;
    Json json = {{"kind", kind_of(layer.kind)}};
    const auto put = [&](const char* key, const auto& value, std::initializer_list<K> kinds) {
        if (is_one_of(layer, kinds)) json[key] = value;
    };
    if (!layer.name.empty()) json["name"] = layer.name;
    put("width", layer.width, {K::convolution, K::residual_block, K::dense});
    put("inputs", layer.inputs, {K::convolution, K::dense, K::residual_block, K::normalisation});
    put("kernel", layer.kernel, {K::convolution, K::max_pooling, K::average_pooling});
    put("stride", layer.stride, {K::convolution, K::max_pooling, K::average_pooling, K::residual_block});
    put("dilation", layer.dilation, {K::convolution});
    put("groups", layer.groups, {K::convolution, K::group_normalisation});
    put("function", function_name(layer.function), {K::activation});
    put("rate", layer.rate, {K::dropout});
    return json;
}

}  // namespace

FunctionKind read_function(TomlReader& reader, const std::string& key) {
    return word_of<FunctionKind>(reader, key, functions, "relu");
}

Architecture read_network(TomlReader reader) {
    if (reader.has("layers") == reader.has("family"))
        throw InputError(fmt::format("{}: a network needs either 'family' or 'layers'", reader.place()));
    Architecture network;
    if (reader.has("layers"))
        network = read_layers(reader);
    else
        network = word_of<Architecture (*)(TomlReader&)>(reader, "family", families, std::nullopt)(reader);
    reader.finish();
    return network;
}

Json to_json(const Architecture& architecture) {
        return std::visit(
        Overloaded{
            [](const ResidualSettings& s) -> Json {
                // One number stands for all stages, also in a plan.
                const Json blocks = s.blocks.size() == 1 ? Json(s.blocks.front()) : Json(s.blocks);
                return {{"family", "residual"},
                        {"widths", s.widths},
                        {"blocks", blocks},
                        {"block", s.block == ResidualBlock::basic ? "basic" : "bottleneck"},
                        {"stem_stride", s.stem_stride},
                        {"stem_kernel", s.stem_kernel},
                        {"stem_pool", s.stem_pool}};
            },
            [](const PlainSettings& s) -> Json {
                return {{"family", "plain"}, {"widths", s.widths}, {"convolutions", s.convolutions}};
            },
            [](const PerceptronSettings& s) -> Json {
                return {{"family", "perceptron"},
                        {"hidden", s.hidden},
                        {"activation", function_name(s.activation)},
                        {"dropout", s.dropout}};
            },
            [](const DenselyConnectedSettings& s) -> Json {
                return {{"family", "densely connected"},
                        {"stem_width", s.stem_width},
                        {"growth", s.growth},
                        {"depths", s.layers}};
            },
            [](const InvertedResidualSettings& s) -> Json {
                Json json = {{"family", "inverted residual"},
                             {"stem_width", s.stem_width},
                             {"stem_stride", s.stem_stride},
                             {"last_width", s.last_width}};
                for (const InvertedStage& stage : s.stages)
                    json["stages"].push_back({{"width", stage.width},
                                              {"blocks", stage.blocks},
                                              {"stride", stage.stride},
                                              {"expansion", stage.expansion},
                                              {"kernel", stage.kernel},
                                              {"squeeze", stage.squeeze},
                                              {"activation", function_name(stage.activation)}});
                return json;
            },
            [](const VisionTransformerSettings& s) -> Json {
                return {{"family", "vision transformer"},
                        {"patch", s.patch},
                        {"width", s.width},
                        {"depth", s.depth},
                        {"heads", s.heads}};
            },
            [](const LayerList& list) -> Json {
                Json json;
                for (const Layer& layer : list.layers) json["layers"].push_back(to_json(layer));
                return json;
            },
        },
        architecture);
}

}  // namespace jevrin
