#include "jevrin/graph/descriptions.hpp"

#include "jevrin/base/overloaded.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t widest = 65'536;
constexpr std::int64_t widest_map = 4096;
constexpr std::int64_t largest_kernel = 63;
constexpr std::size_t most_stages = 64;

// The activations that a plan may ask for.
constexpr FunctionKind activations[] = {
    FunctionKind::relu,    FunctionKind::leaky_relu, FunctionKind::elu,
    FunctionKind::sigmoid, FunctionKind::tanh,       FunctionKind::gelu,
    FunctionKind::silu,    FunctionKind::hard_swish, FunctionKind::softplus};

std::vector<std::string> activation_names() {
    std::vector<std::string> names;
    for (const FunctionKind kind : activations) names.push_back(name_of(kind));
    return names;
}

template <typename S>
Setting<S>& activation(Description<S>& d, const std::string& key, FunctionKind S::*member) {
    return d.custom(
        key, detail::one_of_words(activation_names()),
        [member](TableReader& reader, const std::string& k, S& s) {
            const std::string word = reader.text(k);
            s.*member =
                reader.at(k, [&] { return activations[detail::find_name(k, activation_names(), word)]; });
        },
        [member](const S& s) { return Json(name_of(s.*member)); });
}

// One number for each stage.
template <typename S>
Setting<S>& widths(Description<S>& d, const std::string& key, std::vector<std::int64_t> S::*member,
                   std::int64_t high) {
    return d.custom(
        key, fmt::format("list of 1 to {} integers from 1 to {}", most_stages, high),
        [=](TableReader& reader, const std::string& k, S& s) {
            s.*member = reader.integers(k, 1, high);
            reader.at(k, [&] {
                if ((s.*member).empty() || (s.*member).size() > most_stages)
                    throw InputError(fmt::format("'{}' needs 1 to {} numbers", k, most_stages));
            });
        },
        [member](const S& s) { return Json(s.*member); });
}

Description<ResidualSettings> describe_residual() {
    using R = ResidualSettings;
    constexpr std::int64_t most_blocks = 64;
    Description<R> d;
    widths(d, "widths", &R::widths, widest_map).means("channels of each stage");
    d.custom(
         "blocks", "integer from 1 to 64, or one for each stage",
         [](TableReader& reader, const std::string& k, R& r) {
             r.blocks = reader.holds_list(k) ? reader.integers(k, 1, most_blocks)
                                             : std::vector{reader.integer(k, std::nullopt, 1, most_blocks)};
         },
         // One number stands for all stages, also in a plan.
         [](const R& r) { return r.blocks.size() == 1 ? Json(r.blocks.front()) : Json(r.blocks); })
        .means("residual blocks of each stage");
    d.word("block", &R::block)
        .means("basic: two 3x3 convolutions; bottleneck: 1x1, 3x3, 1x1 with expansion 4");
    d.integer("stem_stride", &R::stem_stride, 1, 4).means("stride of the first convolution");
    d.integer("stem_kernel", &R::stem_kernel, 1, largest_kernel).means("kernel of the first convolution");
    d.boolean("stem_pool", &R::stem_pool).means("3x3 max pooling with stride 2 after the first convolution");
    d.check("blocks", [](const TableReader& reader, const R& r) {
        if (reader.holds_list("blocks") && r.blocks.size() != r.widths.size())
            throw InputError(fmt::format("'blocks' has {} numbers and there are {} stages", r.blocks.size(),
                                         r.widths.size()));
    });
    return d;
}

Description<PlainSettings> describe_plain() {
    Description<PlainSettings> d;
    widths(d, "widths", &PlainSettings::widths, widest_map).means("channels of each stage");
    d.integer("convolutions", &PlainSettings::convolutions, 1, 16).means("convolutions of each stage");
    return d;
}

Description<PerceptronSettings> describe_perceptron() {
    using P = PerceptronSettings;
    Description<P> d;
    widths(d, "hidden", &P::hidden, widest).means("features of each dense layer");
    activation(d, "activation", &P::activation).means("activation after each hidden layer");
    d.number("dropout", &P::dropout, 0.0, 0.99).means("dropout rate after each hidden layer");
    return d;
}

Description<DenselyConnectedSettings> describe_densely_connected() {
    using D = DenselyConnectedSettings;
    Description<D> d;
    d.integer("stem_width", &D::stem_width, 1, widest_map).means("channels of the first convolution");
    d.integer("growth", &D::growth, 1, 1024).means("growth rate: channels that each layer adds");
    widths(d, "depths", &D::layers, 256).means("layers of each stage");
    return d;
}

Description<InvertedStage> describe_inverted_stage() {
    using S = InvertedStage;
    Description<S> d;
    d.integer("width", &S::width, 1, widest_map).required().means("output channels");
    d.integer("blocks", &S::blocks, 1, 64).means("number of blocks");
    d.integer("stride", &S::stride, 1, 4).means("stride of the first block");
    d.integer("expansion", &S::expansion, 1, 16).means("expansion factor inside a block");
    d.integer("kernel", &S::kernel, 1, largest_kernel).means("kernel of the depthwise convolution");
    d.boolean("squeeze", &S::squeeze)
        .means("squeeze-and-excitation, with a quarter of the expanded channels");
    activation(d, "activation", &S::activation).means("activation of the stage");
    return d;
}

Description<InvertedResidualSettings> describe_inverted_residual() {
    using I = InvertedResidualSettings;
    Description<I> d;
    d.integer("stem_width", &I::stem_width, 1, widest_map).means("channels of the first convolution");
    d.integer("stem_stride", &I::stem_stride, 1, 4).means("stride of the first convolution");
    d.integer("last_width", &I::last_width, 1, widest).means("channels before global average pooling");
    auto& stages = d.custom(
        "stages", "list of tables",
        [](TableReader& reader, const std::string& k, I& i) {
            i.stages.clear();
            for (const TableReader& table : reader.tables(k))
                i.stages.push_back(read_settings(table, InvertedStage{}));
        },
        [](const I& i) {
            Json list = Json::array();
            for (const InvertedStage& stage : i.stages) list.push_back(complete_json(stage));
            return list;
        });
    stages.means("stages; default: three small ones");
    stages.info.shows_default = false;
    stages.inner = [] { return description_of(InvertedStage{}).infos(); };
    return d;
}

Description<VisionTransformerSettings> describe_vision_transformer() {
    using V = VisionTransformerSettings;
    Description<V> d;
    d.integer("patch", &V::patch, 1, 1024).unit("pixels").means("side of a patch");
    d.integer("width", &V::width, 1, 8192).means("embedding dimension");
    d.integer("depth", &V::depth, 1, 128).means("number of transformer blocks");
    d.integer("heads", &V::heads, 1, 256).means("attention heads");
    d.check("heads", [](const TableReader&, const V& v) {
        if (v.width % v.heads != 0)
            throw InputError(fmt::format("the width {} is not divisible by {} heads", v.width, v.heads));
    });
    return d;
}

Description<Layer> describe_layer() {
    using K = LayerKind;
    const auto of = [](std::initializer_list<K> kinds) {
        return [kinds = std::vector<K>(kinds)](const Layer& layer) {
            return std::find(kinds.begin(), kinds.end(), layer.kind) != kinds.end();
        };
    };
    Description<Layer> d;
    d.kind<K>("kind", &Layer::kind, layer_of,
              [](const Layer& layer) { return fmt::format("a layer of kind '{}'", name_of(layer.kind)); })
        .required()
        .means("kind of layer");
    d.text("name", &Layer::name).if_stated().means("name of its stage; default: layer1, layer2, ...");
    d.integer("width", &Layer::width, 1, widest)
        .required()
        .only_for("convolution, residual block", of({K::convolution, K::residual_block}))
        .means("output channels");
    d.integer("width", &Layer::width, 0, widest)
        .only_for("dense", of({K::dense}))
        .means("output features; 0, for the last layer only: the number of classes");
    d.integer("inputs", &Layer::inputs, 0, widest)
        .only_for("convolution, dense, residual block, normalisation",
                  of({K::convolution, K::dense, K::residual_block, K::normalisation}))
        .means("expected input channels or features; 0: not checked");
    d.integer("kernel", &Layer::kernel, 1, largest_kernel)
        .only_for("convolution, pooling", of({K::convolution, K::max_pooling, K::average_pooling}))
        .unit("pixels")
        .means("kernel size; default for pooling: 2");
    d.integer("stride", &Layer::stride, 0, largest_kernel)
        .only_for("convolution, pooling, residual block",
                  of({K::convolution, K::max_pooling, K::average_pooling, K::residual_block}))
        .unit("pixels")
        .means("stride; 0: 1, for pooling the kernel size");
    d.integer("dilation", &Layer::dilation, 1, largest_kernel)
        .only_for("convolution", of({K::convolution}))
        .unit("pixels");
    d.integer("groups", &Layer::groups, 1, widest).only_for("convolution", of({K::convolution}));
    d.integer("groups", &Layer::groups, 1, widest)
        .required()
        .only_for("group normalisation", of({K::group_normalisation}));
    activation(d, "function", &Layer::function).only_for("activation", of({K::activation}));
    d.number("rate", &Layer::rate, 0.0, 0.99).only_for("dropout", of({K::dropout})).means("dropout rate");
    d.check("name", [](const TableReader&, const Layer& layer) {
        if (printable(layer.name) != layer.name || layer.name.find_first_of("./:") != std::string::npos)
            throw InputError("the name of a layer must not contain '.', '/', ':' or control characters");
    });
    return d;
}

LayerList read_layers(TableReader& reader) {
    LayerList list;
    for (TableReader& table : reader.tables("layers")) {
        if (std::ssize(list.layers) == most_weighted_layers)
            throw InputError(
                fmt::format("{}: the network has more than {} layers; at most so many are supported",
                            table.place(), most_weighted_layers));
        list.layers.push_back(read_settings(table, Layer{}));
        list.layers.back().place = table.place();
    }
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

struct Family {
    std::string name;
    Architecture defaults;
};

const std::vector<Family>& families() {
    static const std::vector<Family> list = {
        {"residual", ResidualSettings{}},
        {"plain", PlainSettings{}},
        {"perceptron", PerceptronSettings{}},
        {"densely connected", DenselyConnectedSettings{}},
        {"inverted residual", InvertedResidualSettings{}},
        {"vision transformer", VisionTransformerSettings{}},
    };
    return list;
}

const std::string& family_name(const Architecture& architecture) {
    for (const Family& family : families())
        if (family.defaults.index() == architecture.index()) return family.name;
    unhandled(static_cast<int>(architecture.index()));
}

// The settings of a family in one of the two forms, behind its name.
template <typename Form>
Json architecture_json(const Architecture& architecture, Form form) {
    Json json;
    if (const auto* list = std::get_if<LayerList>(&architecture)) {
        for (const Layer& layer : list->layers) json["layers"].push_back(form(layer));
        return json;
    }
    json["family"] = family_name(architecture);
    std::visit(
        Overloaded{[](const LayerList&) {}, [&](const auto& settings) { json.update(form(settings)); }},
        architecture);
    return json;
}

}  // namespace

const EnumNames<ResidualBlock>& names_of(ResidualBlock) {
    static const EnumNames<ResidualBlock> names(
        "block", {{ResidualBlock::basic, "basic"}, {ResidualBlock::bottleneck, "bottleneck"}});
    return names;
}

const Description<ResidualSettings>& description_of(const ResidualSettings&) {
    static const Description<ResidualSettings> description = describe_residual();
    return description;
}
const Description<PlainSettings>& description_of(const PlainSettings&) {
    static const Description<PlainSettings> description = describe_plain();
    return description;
}
const Description<PerceptronSettings>& description_of(const PerceptronSettings&) {
    static const Description<PerceptronSettings> description = describe_perceptron();
    return description;
}
const Description<DenselyConnectedSettings>& description_of(const DenselyConnectedSettings&) {
    static const Description<DenselyConnectedSettings> description = describe_densely_connected();
    return description;
}
const Description<InvertedStage>& description_of(const InvertedStage&) {
    static const Description<InvertedStage> description = describe_inverted_stage();
    return description;
}
const Description<InvertedResidualSettings>& description_of(const InvertedResidualSettings&) {
    static const Description<InvertedResidualSettings> description = describe_inverted_residual();
    return description;
}
const Description<VisionTransformerSettings>& description_of(const VisionTransformerSettings&) {
    static const Description<VisionTransformerSettings> description = describe_vision_transformer();
    return description;
}
const Description<Layer>& description_of(const Layer&) {
    static const Description<Layer> description = describe_layer();
    return description;
}
const Description<HeadSettings>& description_of(const HeadSettings&) {
    static const Description<HeadSettings> description = [] {
        Description<HeadSettings> d;
        d.integers("hidden", &HeadSettings::hidden, 1, widest).means("features of hidden dense layers");
        activation(d, "activation", &HeadSettings::activation).means("after each of them");
        d.number("dropout", &HeadSettings::dropout, 0.0, 0.99).means("before every dense layer");
        return d;
    }();
    return description;
}

Architecture read_architecture(TableReader reader) {
    if (reader.has("layers") == reader.has("family"))
        throw InputError(fmt::format("{}: a network needs either 'family' or 'layers'", reader.place()));
    if (reader.has("layers")) {
        LayerList list = read_layers(reader);
        reader.finish();
        return list;
    }
    std::vector<std::string> names;
    for (const Family& family : families()) names.push_back(family.name);
    const std::string stated = reader.text("family");
    Architecture network =
        families()[reader.at("family", [&] { return detail::find_name("family", names, stated); })].defaults;
    std::visit(Overloaded{[](LayerList&) {},
                          [&](auto& settings) { description_of(settings).read_into(reader, settings); }},
               network);
    reader.finish();
    return network;
}

Json complete_json(const Architecture& architecture) {
    return architecture_json(architecture, [](const auto& settings) { return complete_json(settings); });
}

Json canonical_json(const Architecture& architecture) {
    return architecture_json(architecture, [](const auto& settings) { return canonical_json(settings); });
}

std::vector<std::pair<std::string, std::vector<SettingInfo>>> family_infos() {
    std::vector<std::pair<std::string, std::vector<SettingInfo>>> infos;
    for (const Family& family : families())
        std::visit(Overloaded{[](const LayerList&) {},
                              [&](const auto& settings) {
                                  infos.emplace_back(family.name, description_of(settings).infos());
                              }},
                   family.defaults);
    return infos;
}

template class Description<HeadSettings>;

}  // namespace jevrin::inline v1
