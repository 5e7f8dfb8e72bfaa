#include "support/exported_model.hpp"

#include "support/exporter.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>

#include <cmath>

namespace jevrin::test {

const char* name_of(ExportedFamily family) {
    static const char* const names[] = {"plain",
                                        "residual",
                                        "densely_connected",
                                        "inverted_residual",
                                        "transformer",
                                        "windowed_transformer",
                                        "mixer",
                                        "large_kernel"};
    return names[static_cast<std::size_t>(family)];
}

const char* name_of(NamingStyle style) {
    static const char* const names[] = {"modules", "flat", "numbered", "anonymous"};
    return names[static_cast<std::size_t>(style)];
}

namespace {

std::string numbered(int number) {
    return std::to_string(number);
}

// Each family: what is made before the pooling (or the choice of a token), and the pooling itself.
class Family {
  public:
    Family(Exporter& to, std::int64_t size) : e(to), size_(size) {}

    std::string plain() {
        std::string x = e.input();
        e.inside("features", [&] {
            std::int64_t in = 3;
            int layer = 0;
            for (const std::int64_t out : {8, 8, 16}) {
                x = e.convolution(x, numbered(layer++), in, out, 3, 1, 1, true);
                x = e.inside(numbered(layer++), [&] { return e.node("Relu", {x}); });
                x = e.inside(numbered(layer++), [&] { return e.max_pooling(x, 2, 2); });
                in = out;
            }
            return x;
        });
        return x;
    }
    std::string plain_features(const std::string& map) {
        return e.inside("classifier", [&] {
            const std::int64_t places = size_ / 8 * (size_ / 8);
            const std::string x = e.dense(e.flatten(map), "0", 16 * places, 24, false);
            return e.inside("1", [&] { return e.node("Relu", {x}); });
        });
    }

    std::string residual() {
        std::string x = e.convolution_block(e.input(), "stem", 3, 8, 3, 2, 1, "Relu");
        std::int64_t in = 8;
        for (int stage = 1; stage <= 2; ++stage)
            x = e.inside(fmt::format("layer{}", stage), [&] {
                for (int block = 0; block < 2; ++block)
                    x = e.inside(numbered(block), [&] {
                        const std::int64_t out = 8 * stage;
                        const std::int64_t stride = stage == 2 && block == 0 ? 2 : 1;
                        std::string y = e.convolution(x, "conv1", in, out, 3, stride);
                        y = e.activation(e.batch_normalisation(y, "bn1", out), "Relu");
                        y = e.batch_normalisation(e.convolution(y, "conv2", out, out, 3), "bn2", out);
                        std::string around = x;
                        if (in != out)
                            around = e.inside("downsample", [&] {
                                return e.batch_normalisation(e.convolution(x, "0", in, out, 1, stride), "1",
                                                             out);
                            });
                        in = out;
                        return e.activation(e.node("Add", {y, around}), "Relu");
                    });
                return x;
            });
        return x;
    }

    std::string densely_connected() {
        std::string x = e.inside("features", [&] {
            std::string y = e.convolution(e.input(), "conv0", 3, 8, 3, 2);
            std::int64_t in = 8;
            for (int block = 1; block <= 2; ++block) {
                y = e.inside(fmt::format("denseblock{}", block), [&] {
                    for (int layer = 1; layer <= 2; ++layer)
                        y = e.inside(fmt::format("denselayer{}", layer), [&] {
                            std::string z = e.activation(e.batch_normalisation(y, "norm1", in), "Relu");
                            z = e.convolution(z, "conv1", in, 16, 1);
                            z = e.activation(e.batch_normalisation(z, "norm2", 16), "Relu");
                            z = e.convolution(z, "conv2", 16, 4, 3);
                            in += 4;
                            return e.node("Concat", {y, z}, {attribute("axis", std::int64_t{1})});
                        });
                    return y;
                });
                if (block == 2) break;
                y = e.inside("transition1", [&] {
                    std::string z = e.activation(e.batch_normalisation(y, "norm", in), "Relu");
                    z = e.convolution(z, "conv", in, 8, 1);
                    in = 8;
                    return e.node(
                        "AveragePool", {z},
                        {attribute("kernel_shape", Integers{2, 2}), attribute("strides", Integers{2, 2})});
                });
            }
            return e.batch_normalisation(y, "norm5", in);
        });
        return e.node("Relu", {x});
    }

    std::string inverted_residual() {
        std::string x = e.inside("features", [&] {
            std::string y = e.convolution_block(e.input(), "0", 3, 8, 3, 2, 1, "HardSwish");
            std::int64_t in = 8;
            int place = 1;
            for (const std::int64_t stride : {1, 2, 1})
                y = e.inside(numbered(place++), [&] {
                    const std::int64_t wide = 2 * in;
                    const std::int64_t out = stride == 2 ? 12 : in;
                    std::string z = e.convolution_block(y, "expand", in, wide, 1, 1, 1, "HardSwish");
                    z = e.convolution_block(z, "depthwise", wide, wide, 3, stride, wide, "HardSwish");
                    z = e.inside("se", [&] {
                        std::string gate = e.global_average(z);
                        gate = e.activation(e.convolution(gate, "fc1", wide, 4, 1, 1, 1, true), "Relu");
                        gate = e.convolution(gate, "fc2", 4, wide, 1, 1, 1, true);
                        gate = e.node("HardSigmoid", {gate}, {attribute("alpha", 1.0F / 6.0F)});
                        return e.node("Mul", {gate, z});
                    });
                    z = e.convolution_block(z, "project", wide, out, 1, 1, 1, "");
                    const bool around = stride == 1;
                    in = out;
                    return around ? e.node("Add", {y, z}) : z;
                });
            return e.convolution_block(y, numbered(place), in, 20, 1, 1, 1, "HardSwish");
        });
        return x;
    }

    static constexpr std::int64_t width = 16;
    static constexpr std::int64_t heads = 2;

    std::string attention(const std::string& x, std::int64_t tokens,
                          const std::function<std::string(std::string)>& bias) {
        constexpr std::int64_t depth = width / heads;
        const Values parts = e.split(e.dense(x, "qkv", width, 3 * width, true), 2, {width, width, width});
        Values turned;
        for (const std::string& part : parts)
            turned.push_back(e.transpose(e.reshape(part, {-1, tokens, heads, depth}), {0, 2, 1, 3}));
        std::string scores = e.node("MatMul", {turned[0], e.transpose(turned[1], {0, 1, 3, 2})});
        scores = e.node("Mul", {scores, e.number(1.0F / std::sqrt(static_cast<float>(depth)))});
        if (bias) scores = bias(scores);
        const std::string mixed = e.node("MatMul", {e.softmax(scores), turned[2]});
        const std::string joined = e.reshape(e.transpose(mixed, {0, 2, 1, 3}), {-1, tokens, width});
        return e.dense(joined, "proj", width, width, true);
    }
    std::string perceptron(const std::string& x, std::int64_t in, std::int64_t hidden) {
        return e.dense(e.gelu(e.dense(x, "fc1", in, hidden, true)), "fc2", hidden, in, true);
    }
    std::string patches(std::int64_t patch) {
        const std::string map = e.inside(
            "patch_embed", [&] { return e.convolution(e.input(), "proj", 3, width, patch, patch, 1, true); });
        const std::int64_t tokens = size_ / patch * (size_ / patch);
        return e.transpose(e.reshape(map, {-1, width, tokens}), {0, 2, 1});
    }

    std::string transformer() {
        const std::int64_t tokens = size_ / 8 * (size_ / 8) + 1;
        std::string x = patches(8);
        // The class token, once for each image.
        const std::string shape = e.node("Shape", {x});
        const std::string batch =
            e.node("Gather", {shape, e.integers({0})}, {attribute("axis", std::int64_t{0})});
        const std::string target =
            e.node("Concat", {batch, e.integers({1, width})}, {attribute("axis", std::int64_t{0})});
        const std::string token = e.node("Expand", {e.weight("cls_token", {1, 1, width}, 0.3), target});
        x = e.node("Concat", {token, x}, {attribute("axis", std::int64_t{1})});
        x = e.node("Add", {x, e.weight("pos_embed", {1, tokens, width}, 0.3)});
        e.inside("blocks", [&] {
            for (int block = 0; block < 2; ++block)
                x = e.inside(numbered(block), [&] {
                    const std::string mixed = e.inside("attn", [&] {
                        return attention(e.layer_normalisation(x, "norm1", width), tokens, {});
                    });
                    x = e.node("Add", {x, mixed});
                    const std::string wide = e.inside("mlp", [&] {
                        return perceptron(e.layer_normalisation(x, "norm2", width), width, 2 * width);
                    });
                    return e.node("Add", {x, wide});
                });
            return x;
        });
        return e.layer_normalisation(x, "norm", width);
    }
    std::string class_token(const std::string& tokens) {
        return e.node("Gather", {tokens, e.integer(0)}, {attribute("axis", std::int64_t{1})});
    }

    // Windows of 4 x 4 tokens, in every second block moved by two; biases by relative position.
    std::string windowed_transformer() {
        const std::int64_t side = size_ / 4;
        const std::int64_t window = 4;
        const std::int64_t windows = side / window;
        const std::int64_t tokens = window * window;
        std::string x = e.layer_normalisation(patches(4), "patch_norm", width);
        e.inside("layers", [&] {
            for (int block = 0; block < 2; ++block)
                x = e.inside(numbered(block), [&] {
                    std::string y = e.layer_normalisation(x, "norm1", width);
                    y = e.reshape(y, {-1, side, side, width});
                    const auto rolled = [&](std::string map, std::int64_t by) {
                        for (const std::int64_t axis : {1, 2}) {
                            const std::int64_t cut = by > 0 ? by : side + by;
                            map =
                                e.node("Concat", {e.slice(map, axis, cut, side), e.slice(map, axis, 0, cut)},
                                       {attribute("axis", axis)});
                        }
                        return map;
                    };
                    if (block == 1) y = rolled(y, window / 2);
                    y = e.transpose(e.reshape(y, {-1, windows, window, windows, window, width}),
                                    {0, 1, 3, 2, 4, 5});
                    y = e.reshape(y, {-1, tokens, width});
                    y = e.inside("attn", [&] {
                        const std::string table = e.weight("relative_position_bias_table",
                                                           {(2 * window - 1) * (2 * window - 1), heads}, 0.3);
                        Integers index;
                        for (std::int64_t a = 0; a < tokens; ++a)
                            for (std::int64_t b = 0; b < tokens; ++b)
                                index.push_back((a / window - b / window + window - 1) * (2 * window - 1) +
                                                a % window - b % window + window - 1);
                        std::string bias = e.node("Gather", {table, e.integers(index)},
                                                  {attribute("axis", std::int64_t{0})});
                        bias = e.transpose(e.reshape(bias, {tokens, tokens, heads}), {2, 0, 1});
                        bias = unsqueezed(bias);
                        return attention(y, tokens, [&](const std::string& scores) {
                            return e.node("Add", {scores, bias});
                        });
                    });
                    y = e.transpose(e.reshape(y, {-1, windows, windows, window, window, width}),
                                    {0, 1, 3, 2, 4, 5});
                    y = e.reshape(y, {-1, side, side, width});
                    if (block == 1) y = rolled(y, -window / 2);
                    x = e.node("Add", {x, e.reshape(y, {-1, side * side, width})});
                    const std::string wide = e.inside("mlp", [&] {
                        return perceptron(e.layer_normalisation(x, "norm2", width), width, 2 * width);
                    });
                    return e.node("Add", {x, wide});
                });
            return x;
        });
        return e.layer_normalisation(x, "norm", width);
    }
    std::string unsqueezed(const std::string& x) {
        if (e.opset() < 13) return e.node("Unsqueeze", {x}, {attribute("axes", Integers{0})});
        return e.node("Unsqueeze", {x, e.integers({0})});
    }

    std::string mixer() {
        const std::int64_t tokens = size_ / 8 * (size_ / 8);
        std::string x = patches(8);
        e.inside("blocks", [&] {
            for (int block = 0; block < 2; ++block)
                x = e.inside(numbered(block), [&] {
                    std::string y = e.transpose(e.layer_normalisation(x, "norm1", width), {0, 2, 1});
                    y = e.inside("mlp_tokens", [&] { return perceptron(y, tokens, 12); });
                    x = e.node("Add", {x, e.transpose(y, {0, 2, 1})});
                    y = e.layer_normalisation(x, "norm2", width);
                    y = e.inside("mlp_channels", [&] { return perceptron(y, width, 2 * width); });
                    return e.node("Add", {x, y});
                });
            return x;
        });
        return e.layer_normalisation(x, "norm", width);
    }

    std::string large_kernel() {
        std::string x =
            e.inside("stem", [&] { return e.convolution(e.input(), "0", 3, width, 4, 4, 1, true); });
        e.inside("stages", [&] {
            for (int stage = 0; stage < 2; ++stage)
                x = e.inside(numbered(stage), [&] {
                    const std::int64_t channels = width;
                    if (stage > 0)
                        x = e.inside("downsample", [&] {
                            std::string y = e.transpose(x, {0, 2, 3, 1});
                            y = e.transpose(e.layer_normalisation(y, "0", channels), {0, 3, 1, 2});
                            return e.convolution(y, "1", channels, channels, 2, 2, 1, true);
                        });
                    return e.inside("block", [&] {
                        std::string y = e.convolution(x, "dwconv", channels, channels, 7, 1, channels, true);
                        y = e.layer_normalisation(e.transpose(y, {0, 2, 3, 1}), "norm", channels);
                        y = e.dense(e.gelu(e.dense(y, "pwconv1", channels, 2 * channels, true)), "pwconv2",
                                    2 * channels, channels, true);
                        y = e.node("Mul", {e.weight("gamma", {channels}, 0.1, 0.5), y});
                        return e.node("Add", {x, e.transpose(y, {0, 3, 1, 2})});
                    });
                });
            return x;
        });
        return x;
    }

    Exporter& e;

  private:
    std::int64_t size_;
};

}  // namespace

std::int64_t feature_width(ExportedFamily family) {
    switch (family) {
        case ExportedFamily::plain:
            return 24;
        case ExportedFamily::inverted_residual:
            return 20;
        default:
            return 16;
    }
}

void write_exported_model(const std::filesystem::path& file, const ExportSettings& settings) {
    Exporter e(settings.style, settings.opset, settings.size);
    Family family(e, settings.size);
    std::string values;
    std::function<std::string()> features = [&] { return e.flatten(e.global_average(values)); };
    switch (settings.family) {
        case ExportedFamily::plain:
            values = family.plain();
            features = [&] { return family.plain_features(values); };
            break;
        case ExportedFamily::residual:
            values = family.residual();
            break;
        case ExportedFamily::densely_connected:
            values = family.densely_connected();
            break;
        case ExportedFamily::inverted_residual:
            values = family.inverted_residual();
            break;
        case ExportedFamily::transformer:
            values = family.transformer();
            features = [&] { return family.class_token(values); };
            break;
        case ExportedFamily::windowed_transformer:
            values = family.windowed_transformer();
            features = [&] { return e.mean(values, {1}, false); };
            break;
        case ExportedFamily::mixer:
            values = family.mixer();
            features = [&] { return e.mean(values, {1}, false); };
            break;
        case ExportedFamily::large_kernel:
            values = family.large_kernel();
            features = [&] {
                return e.layer_normalisation(e.mean(values, {-2, -1}, false), "norm", Family::width);
            };
            break;
    }
    std::string output = values;
    if (settings.end != ExportedEnd::values) output = features();
    if (settings.end == ExportedEnd::classes) {
        const std::string name = settings.family == ExportedFamily::plain ? "classifier" : "fc";
        if (name == "fc")
            output = e.dense(output, name, feature_width(settings.family), 7, false);
        else
            output = e.inside(name,
                              [&] { return e.dense(output, "3", feature_width(settings.family), 7, false); });
    }
    write_file(file, e.finish(output));
}

}  // namespace jevrin::test
