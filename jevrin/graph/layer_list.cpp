#include "jevrin/graph/layer_list.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/network_parts.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

class ListBuilder {
  public:
    explicit ListBuilder(const Shape& input) : network_{input, {}}, shape_(input) {
        last_ = network_.add("image", Input{}, {});
    }

    void add(const Layer& layer, const std::string& name) {
        layer_ = &layer;
        name_ = name;
        if (layer.inputs != 0 && layer.inputs != shape_.back())
            clash(fmt::format("is written for {}", plural(layer.inputs, "input")));
        const std::size_t before = network_.nodes.size();
        const std::size_t input = last_;
        last_ = build(layer, name);
        before_ = fmt::format("{} ({})", name, name_of(layer.kind));
        // What the layer's own nodes make of the shape, and whether they can.
        try {
            std::vector<Shape> shapes(network_.nodes.size());
            shapes[input] = shape_;
            for (std::size_t i = before; i < network_.nodes.size(); ++i) {
                std::vector<Shape> inputs;
                for (const std::size_t in : network_.nodes[i].inputs) inputs.push_back(shapes[in]);
                shapes[i] = infer_shape(network_.nodes[i], inputs);
            }
            shape_ = shapes[last_];
        } catch (const InputError& error) {
            fail(error.what());
        }
    }

    Network network() && { return std::move(network_); }

  private:
    [[noreturn]] void fail(const std::string& reason) const {
        if (layer_->place.empty()) throw InputError(reason, ErrorPlace::part);
        throw InputError::in_file(layer_->place, reason);
    }

    [[noreturn]] void clash(const std::string& needs) const {
        const std::string giver = before_.empty() ? "the image has" : fmt::format("layer {} gives", before_);
        fail(fmt::format("layer '{}' ({}) {}; {} {}", name_, name_of(layer_->kind), needs, giver,
                         to_string(shape_)));
    }
    std::int64_t image_channels() const {
        if (shape_.size() != 3) clash("needs a map [height, width, channels]; move it before the flatten");
        return shape_[2];
    }

    std::size_t build(const Layer& layer, const std::string& name) {
        const std::int64_t stride = layer.stride == 0 ? 1 : layer.stride;
        switch (layer.kind) {
            case LayerKind::convolution: {
                const std::int64_t channels = image_channels();
                if (channels % layer.groups != 0 || layer.width % layer.groups != 0)
                    clash(fmt::format("cannot cut its channels into {} groups", layer.groups));
                const std::int64_t pad = layer.dilation * (layer.kernel - 1) / 2;
                const Window window{layer.kernel, layer.kernel, stride, stride,         pad,
                                    pad,          pad,          pad,    layer.dilation, layer.dilation};
                return network_.add(
                    name + ".convolution", Convolution{window, layer.groups, {}}, {last_},
                    {Tensor({layer.kernel, layer.kernel, channels / layer.groups, layer.width}),
                     Tensor({layer.width})});
            }
            case LayerKind::normalisation:
                return network_parts::normalisation(network_, name + ".normalisation", last_, shape_.back());
            case LayerKind::layer_normalisation:
                return network_parts::layer_normalisation(network_, name + ".normalisation", last_,
                                                          shape_.back());
            case LayerKind::group_normalisation: {
                Tensor scale({shape_.back()});
                scale.fill(1.0F);
                return network_.add(name + ".normalisation", GroupNormalisation{layer.groups}, {last_},
                                    {std::move(scale), Tensor({shape_.back()})});
            }
            case LayerKind::activation:
                return network_.add(name + ".activation", Activation{{layer.function}}, {last_});
            case LayerKind::max_pooling:
            case LayerKind::average_pooling: {
                image_channels();
                const std::int64_t step = layer.stride == 0 ? layer.kernel : layer.stride;
                const Window window{layer.kernel, layer.kernel, step, step};
                return layer.kind == LayerKind::max_pooling
                           ? network_.add(name + ".maximum", MaxPooling{window}, {last_})
                           : network_.add(name + ".average", AveragePooling{window}, {last_});
            }
            case LayerKind::global_average: {
                image_channels();
                const std::size_t x = network_.add(name + ".average", GlobalAveragePooling{}, {last_});
                return network_.add(name + ".flatten", Flatten{}, {x});
            }
            case LayerKind::dropout:
                return network_.add(name + ".dropout", Dropout{layer.rate}, {last_});
            case LayerKind::flatten:
                return network_.add(name + ".flatten", Flatten{}, {last_});
            case LayerKind::dense:
                if (shape_.size() != 1) clash("needs a vector; put a flatten or a global average before it");
                return network_parts::dense(network_, name + ".dense", last_, shape_[0], layer.width);
            case LayerKind::residual_block:
                return network_parts::residual_block(network_, name, last_, image_channels(), layer.width,
                                                     stride);
        }
        return last_;
    }

    Network network_;
    Shape shape_;  // of the last layer's output
    std::size_t last_ = 0;
    const Layer* layer_ = nullptr;
    std::string name_;
    std::string before_;  // the layer before, for messages
};

}  // namespace

const EnumNames<LayerKind>& names_of(LayerKind) {
    using K = LayerKind;
    static const EnumNames<K> names("kind", {{K::convolution, "convolution"},
                                             {K::normalisation, "normalisation"},
                                             {K::layer_normalisation, "layer normalisation"},
                                             {K::group_normalisation, "group normalisation"},
                                             {K::activation, "activation"},
                                             {K::max_pooling, "max pooling"},
                                             {K::average_pooling, "average pooling"},
                                             {K::global_average, "global average"},
                                             {K::dropout, "dropout"},
                                             {K::flatten, "flatten"},
                                             {K::dense, "dense"},
                                             {K::residual_block, "residual block"}});
    return names;
}

Layer layer_of(LayerKind kind) {
    const bool pools = kind == LayerKind::max_pooling || kind == LayerKind::average_pooling;
    return {.kind = kind, .kernel = pools ? 2 : Layer{}.kernel};
}

Network layer_network(const LayerList& list, const Shape& input) {
    ListBuilder builder(input);
    for (std::size_t i = 0; i < list.layers.size(); ++i) {
        const Layer& layer = list.layers[i];
        builder.add(layer, layer.name.empty() ? fmt::format("layer{}", i + 1) : layer.name);
    }
    return std::move(builder).network();
}

}  // namespace jevrin::inline v1
