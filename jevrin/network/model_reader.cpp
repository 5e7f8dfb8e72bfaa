#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/network/model_file.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <onnx/onnx_pb.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <limits>
#include <optional>
#include <set>

namespace jevrin {
namespace {

static_assert(std::endian::native == std::endian::little, "raw tensor data is little-endian");

const char* const supported_operators[] = {"Conv",        "BatchNormalization",
                                           "Relu",        "MaxPool",
                                           "AveragePool", "GlobalAveragePool",
                                           "Flatten",     "Gemm",
                                           "Add",         "Dropout",
                                           "Identity"};

// Dimensions beyond this are refused before any memory is taken.
constexpr std::int64_t largest_dimension = 1 << 20;

class Reader {
  public:
    Reader(const onnx::ModelProto& model, std::string file) : graph_(model.graph()), file_(std::move(file)) {
        check_opset(model);
        check_operators();
        for (const auto& tensor : graph_.initializer()) weights_.emplace(tensor.name(), &tensor);
    }

    Network read() {
        read_input();
        for (const auto& node : graph_.node()) read_node(node);
        if (graph_.output_size() != 1)
            fail(fmt::format("it has {} outputs; a classifier has one", graph_.output_size()));
        const std::size_t output = value(graph_.output(0).name(), "the output of the model");
        // Nodes after the output serve nothing that Jevrin uses.
        network_.nodes.resize(output + 1);
        try {
            infer_shapes(network_);
        } catch (const InputError& error) {
            fail(error.what());
        }
        return std::move(network_);
    }

  private:
    [[noreturn]] void fail(const std::string& what) const {
        throw InputError(fmt::format("{}: {}", file_, what));
    }
    [[noreturn]] void fail(const onnx::NodeProto& node, const std::string& what) const {
        fail(fmt::format("node '{}' ({}): {}", printable(name_of(node)), printable(node.op_type()), what));
    }

    static std::string name_of(const onnx::NodeProto& node) {
        return node.name().empty() && node.output_size() > 0 ? node.output(0) : node.name();
    }

    void check_opset(const onnx::ModelProto& model) const {
        for (const auto& opset : model.opset_import())
            if (opset.domain().empty() || opset.domain() == "ai.onnx") {
                if (opset.version() < 7 || opset.version() > 17)
                    fail(fmt::format(
                        "it uses operator set {}; 7 to 17 are understood: export it again for one of them",
                        opset.version()));
                return;
            }
        fail("it is not a model file: no operator set is named; give an ONNX file");
    }

    void check_operators() const {
        std::vector<std::string> unsupported;
        for (const auto& node : graph_.node()) {
            const bool known = std::find(std::begin(supported_operators), std::end(supported_operators),
                                         node.op_type()) != std::end(supported_operators) &&
                               (node.domain().empty() || node.domain() == "ai.onnx");
            if (!known)
                unsupported.push_back(
                    fmt::format("{} at '{}'", printable(node.op_type()), printable(name_of(node))));
        }
        if (!unsupported.empty())
            fail(fmt::format("{} of its nodes use operators that are not supported: {}", unsupported.size(),
                             fmt::join(unsupported, ", ")));
    }

    void read_input() {
        const onnx::ValueInfoProto* image = nullptr;
        for (const auto& input : graph_.input()) {
            if (weights_.count(input.name()) != 0) continue;  // older files list their weights as inputs
            if (image != nullptr) fail("it has more than one input; a classifier has one, the image");
            image = &input;
        }
        if (image == nullptr) fail("it has no input");
        const auto& shape = image->type().tensor_type().shape();
        if (shape.dim_size() != 4 && shape.dim_size() != 2)
            fail(fmt::format("its input has {} dimensions; [batch, channels, height, width] is needed",
                             shape.dim_size()));
        Shape first;
        for (int d = 1; d < shape.dim_size(); ++d) {
            const std::int64_t size = shape.dim(d).dim_value();
            if (size < 1 || size > largest_dimension)
                fail(fmt::format(
                    "dimension {} of its input '{}' is not stated or out of range; export it with a fixed "
                    "image size",
                    d, printable(image->name())));
            first.push_back(size);
        }
        network_.input = first.size() == 3 ? Shape{first[1], first[2], first[0]} : first;
        network_.add(image->name(), Input{}, {});
        values_[image->name()] = 0;
    }

    std::size_t value(const std::string& name, const std::string& user) const {
        const auto found = values_.find(name);
        if (found == values_.end())
            fail(fmt::format("{} needs the value '{}', which nothing before it computes", user,
                             printable(name)));
        return found->second;
    }

    Tensor weight(const onnx::NodeProto& node, int input, std::optional<std::size_t> dimensions) const {
        const std::string& name = node.input(input);
        const auto found = weights_.find(name);
        if (found == weights_.end())
            fail(node, fmt::format("its weight '{}' is not stored in the file", printable(name)));
        const onnx::TensorProto& proto = *found->second;
        if (proto.data_location() == onnx::TensorProto::EXTERNAL)
            fail(node,
                 fmt::format("its weight '{}' lies in another file; export the model with weights inside",
                             printable(name)));
        if (proto.data_type() != onnx::TensorProto::FLOAT)
            fail(node, fmt::format("its weight '{}' is not float32", printable(name)));
        Shape shape(proto.dims().begin(), proto.dims().end());
        std::int64_t count = 1;
        for (const std::int64_t size : shape) {
            if (size < 1 || size > largest_dimension ||
                count > std::numeric_limits<std::int32_t>::max() / size)
                fail(node, fmt::format("its weight '{}' has an impossible shape", printable(name)));
            count *= size;
        }
        if (dimensions && shape.size() != *dimensions)
            fail(node, fmt::format("its weight '{}' has {} dimensions and needs {}", printable(name),
                                   shape.size(), *dimensions));
        const bool raw = proto.has_raw_data();
        const std::size_t stored =
            raw ? proto.raw_data().size() : static_cast<std::size_t>(proto.float_data_size()) * sizeof(float);
        if (stored != static_cast<std::size_t>(count) * sizeof(float))
            fail(node,
                 fmt::format("its weight '{}' holds {} bytes and its shape {} needs {}", printable(name),
                             stored, to_string(shape), static_cast<std::size_t>(count) * sizeof(float)));
        Tensor tensor(std::move(shape));
        const void* from =
            raw ? static_cast<const void*>(proto.raw_data().data()) : proto.float_data().data();
        std::memcpy(tensor.data(), from, stored);
        for (const float v : tensor.values())
            if (!std::isfinite(v))
                fail(node, fmt::format("its weight '{}' holds a number that is not finite", printable(name)));
        return tensor;
    }

    const onnx::AttributeProto* attribute(const onnx::NodeProto& node, const std::string& name) const {
        for (const auto& a : node.attribute())
            if (a.name() == name) return &a;
        return nullptr;
    }
    std::int64_t int_attribute(const onnx::NodeProto& node, const std::string& name,
                               std::int64_t otherwise) const {
        const auto* a = attribute(node, name);
        return a == nullptr ? otherwise : a->i();
    }
    float float_attribute(const onnx::NodeProto& node, const std::string& name, float otherwise) const {
        const auto* a = attribute(node, name);
        return a == nullptr ? otherwise : a->f();
    }
    std::vector<std::int64_t> ints(const onnx::NodeProto& node, const std::string& name, std::size_t count,
                                   std::int64_t otherwise) const {
        const auto* a = attribute(node, name);
        if (a == nullptr) return std::vector<std::int64_t>(count, otherwise);
        std::vector<std::int64_t> result(a->ints().begin(), a->ints().end());
        if (result.size() != count)
            fail(node, fmt::format("its {} has {} numbers and needs {}", name, result.size(), count));
        for (const std::int64_t v : result)
            if (v < 0 || v > largest_dimension) fail(node, fmt::format("its {} is out of range", name));
        return result;
    }
    void require(const onnx::NodeProto& node, const std::string& name, std::int64_t expected) const {
        const std::int64_t found = int_attribute(node, name, expected);
        if (found != expected)
            fail(node, fmt::format("{} = {} is not supported; {} is", name, found, expected));
    }

    Window window(const onnx::NodeProto& node, std::int64_t kernel_height, std::int64_t kernel_width) const {
        const auto* padding = attribute(node, "auto_pad");
        if (padding != nullptr && padding->s() != "NOTSET" && padding->s() != "VALID")
            fail(node, fmt::format("auto_pad = {} is not supported; export it with stated pads",
                                   printable(padding->s())));
        if (const auto dilations = ints(node, "dilations", 2, 1);
            dilations != std::vector<std::int64_t>{1, 1})
            fail(node, "dilations other than 1 are not supported");
        require(node, "ceil_mode", 0);
        const auto strides = ints(node, "strides", 2, 1);
        const auto pads = ints(node, "pads", 4, 0);
        return {kernel_height, kernel_width, strides[0], strides[1], pads[0], pads[1], pads[2], pads[3]};
    }
    Window pooling_window(const onnx::NodeProto& node) const {
        const auto kernel = ints(node, "kernel_shape", 2, 1);
        return window(node, kernel[0], kernel[1]);
    }

    void expect_inputs(const onnx::NodeProto& node, int least, int most) const {
        if (node.input_size() < least || node.input_size() > most || node.output_size() < 1)
            fail(node,
                 fmt::format("it has {} inputs; {} to {} are expected", node.input_size(), least, most));
    }

    void read_node(const onnx::NodeProto& node) {
        const std::string& type = node.op_type();
        const std::string user = fmt::format("node '{}'", printable(name_of(node)));
        expect_inputs(node, 1, 5);
        const std::size_t first = value(node.input(0), user);
        if (type == "Identity") {
            values_[node.output(0)] = first;
        } else if (type == "Conv") {
            expect_inputs(node, 2, 3);
            read_convolution(node, first);
        } else if (type == "BatchNormalization") {
            expect_inputs(node, 5, 5);
            require(node, "training_mode", 0);
            BatchNormalisation op{float_attribute(node, "epsilon", 1e-5F),
                                  1.0F - float_attribute(node, "momentum", 0.9F)};
            std::vector<Tensor> parameters;
            for (int p = 1; p < 5; ++p) parameters.push_back(weight(node, p, 1));
            for (const Tensor& p : parameters)
                if (p.size() != parameters[0].size()) fail(node, "its parameters differ in length");
            for (const float v : parameters[3].values())
                if (v < 0) fail(node, "a stored variance is negative");
            append(node, op, {first}, std::move(parameters));
        } else if (type == "Relu") {
            append(node, relu(), {first});
        } else if (type == "MaxPool") {
            append(node, MaxPooling{pooling_window(node)}, {first});
        } else if (type == "AveragePool") {
            append(node,
                   AveragePooling{pooling_window(node), int_attribute(node, "count_include_pad", 0) != 0},
                   {first});
        } else if (type == "GlobalAveragePool") {
            append(node, GlobalAveragePooling{}, {first});
        } else if (type == "Flatten") {
            require(node, "axis", 1);
            append(node, Flatten{}, {first});
        } else if (type == "Gemm") {
            expect_inputs(node, 2, 3);
            read_dense(node, first);
        } else if (type == "Add") {
            expect_inputs(node, 2, 2);
            append(node, sum_of_two(), {first, value(node.input(1), user)});
        } else if (type == "Dropout") {
            double rate = float_attribute(node, "ratio", 0.5F);
            if (node.input_size() > 1 && !node.input(1).empty())
                rate = static_cast<double>(weight(node, 1, 0).values()[0]);
            if (!(rate >= 0.0 && rate < 1.0)) fail(node, "its ratio must be at least 0 and below 1");
            append(node, Dropout{rate}, {first});
        }
    }

    void read_convolution(const onnx::NodeProto& node, std::size_t input) {
        require(node, "group", 1);
        const Tensor stored = weight(node, 1, 4);  // [out, in, kernel_height, kernel_width]
        const Shape& s = stored.shape();
        const auto kernel = ints(node, "kernel_shape", 2, 0);
        if (attribute(node, "kernel_shape") != nullptr && (kernel[0] != s[2] || kernel[1] != s[3]))
            fail(node, fmt::format("its kernel_shape is {}x{} and its weight is {}x{}", kernel[0], kernel[1],
                                   s[2], s[3]));
        std::vector<Tensor> parameters;
        parameters.emplace_back(Shape{s[2], s[3], s[1], s[0]});
        for (std::int64_t out = 0; out < s[0]; ++out)
            for (std::int64_t in = 0; in < s[1]; ++in)
                for (std::int64_t tap = 0; tap < s[2] * s[3]; ++tap)
                    parameters[0].data()[(tap * s[1] + in) * s[0] + out] =
                        stored.data()[(out * s[1] + in) * s[2] * s[3] + tap];
        if (node.input_size() > 2 && !node.input(2).empty()) {
            parameters.push_back(weight(node, 2, 1));
            if (parameters[1].size() != s[0]) fail(node, "its bias does not match its output channels");
        }
        append(node, Convolution{window(node, s[2], s[3])}, {input}, std::move(parameters));
    }

    void read_dense(const onnx::NodeProto& node, std::size_t input) {
        require(node, "transA", 0);
        if (float_attribute(node, "alpha", 1.0F) != 1.0F || float_attribute(node, "beta", 1.0F) != 1.0F)
            fail(node, "alpha and beta other than 1 are not supported");
        Tensor stored = weight(node, 1, 2);
        std::vector<Tensor> parameters;
        if (int_attribute(node, "transB", 0) != 0) {
            const std::int64_t out = stored.shape()[0];
            const std::int64_t in = stored.shape()[1];
            parameters.emplace_back(Shape{in, out});
            for (std::int64_t o = 0; o < out; ++o)
                for (std::int64_t i = 0; i < in; ++i)
                    parameters[0].data()[i * out + o] = stored.data()[o * in + i];
        } else {
            parameters.push_back(std::move(stored));
        }
        if (node.input_size() > 2 && !node.input(2).empty()) {
            parameters.push_back(dense_bias(node, parameters[0].shape()[1]));
        }
        append(node, Dense{}, {input}, std::move(parameters));
    }

    // One number per feature, or one for all of them.
    Tensor dense_bias(const onnx::NodeProto& node, std::int64_t features) const {
        const Tensor stored = weight(node, 2, std::nullopt);
        Tensor bias({features});
        if (stored.size() == features && (stored.shape().empty() || stored.shape().back() == features))
            std::copy_n(stored.data(), features, bias.data());
        else if (stored.size() == 1)
            bias.fill(stored.data()[0]);
        else
            fail(node, fmt::format("its bias is {} and its output has {} features", to_string(stored.shape()),
                                   features));
        return bias;
    }

    void append(const onnx::NodeProto& node, Operator op, std::vector<std::size_t> inputs,
                std::vector<Tensor> parameters = {}) {
        if (values_.count(node.output(0)) != 0)
            fail(node, fmt::format("the value '{}' is computed twice", printable(node.output(0))));
        values_[node.output(0)] =
            network_.add(name_of(node), std::move(op), std::move(inputs), std::move(parameters));
    }

    const onnx::GraphProto& graph_;
    std::string file_;
    std::map<std::string, const onnx::TensorProto*> weights_;
    std::map<std::string, std::size_t> values_;
    Network network_;
};

}  // namespace

Model read_model(const std::filesystem::path& path) {
    const std::string file = printable(path.string());
    const std::vector<std::byte> bytes = read_file(path);
    onnx::ModelProto proto;
    if (bytes.empty() || bytes.size() > static_cast<std::size_t>(std::numeric_limits<int>::max()) ||
        !proto.ParseFromArray(bytes.data(), static_cast<int>(bytes.size())) || !proto.has_graph())
        throw InputError(
            fmt::format("{}: it is not a model file, or it is cut short; give a whole ONNX file", file));
    Model model;
    model.network = Reader(proto, file).read();
    for (const auto& entry : proto.metadata_props()) model.metadata[entry.key()] = entry.value();
    return model;
}

}  // namespace jevrin
