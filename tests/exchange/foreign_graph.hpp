// Models from the text form of their format, for tests of what other programs write.
#pragma once

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/exchange/model_file.hpp"

#include <fmt/format.h>
#include <onnx/defs/parser.h>
#include <onnx/onnx_pb.h>

#include <filesystem>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace jevrin::test {

inline void expect_near(const std::vector<float>& a, const std::vector<float>& b, double tolerance = 2e-5) {
    ASSERT_EQ(a.size(), b.size());
    for (std::size_t i = 0; i < a.size(); ++i) ASSERT_NEAR(a[i], b[i], tolerance) << i;
}

// A model from the format's own text form, with weights put in beside it.
class Graph {
  public:
    explicit Graph(const std::string& text, int opset = 13) {
        const std::string whole =
            fmt::format("<ir_version: 7, opset_import: [ \"\" : {} ]>\n{}", opset, text);
        const auto status = onnx::OnnxParser::Parse(model, whole.c_str());
        EXPECT_TRUE(status.IsOK()) << status.ErrorMessage();
    }
    onnx::TensorProto& weight(const std::string& name, const Shape& shape, std::span<const float> values) {
        onnx::TensorProto& tensor = *model.mutable_graph()->add_initializer();
        tensor.set_name(name);
        tensor.set_data_type(onnx::TensorProto::FLOAT);
        for (const std::int64_t size : shape) tensor.add_dims(size);
        tensor.set_raw_data(values.data(), values.size_bytes());
        return tensor;
    }
    void weight(const std::string& name, const Tensor& tensor) {
        weight(name, tensor.shape(), tensor.values());
    }
    void integers(const std::string& name, const std::vector<std::int64_t>& values) {
        onnx::TensorProto& tensor = *model.mutable_graph()->add_initializer();
        tensor.set_name(name);
        tensor.set_data_type(onnx::TensorProto::INT64);
        tensor.add_dims(std::ssize(values));
        for (const std::int64_t value : values) tensor.add_int64_data(value);
    }
    void number(const std::string& name, std::int64_t value) {
        integers(name, {value});
        model.mutable_graph()->mutable_initializer(model.graph().initializer_size() - 1)->clear_dims();
    }
    Network read(const ReadSettings& settings = {}) const {
        write_file(*directory_ / "g.onnx", model.SerializeAsString());
        return read_model(*directory_ / "g.onnx", settings).network;
    }
    std::string refusal(const ReadSettings& settings = {}) const {
        return message_of<InputError>([&] { static_cast<void>(read(settings)); });
    }
    const std::filesystem::path& directory() const { return directory_->path(); }

    onnx::ModelProto model;

  private:
    std::shared_ptr<TemporaryDirectory> directory_ = std::make_shared<TemporaryDirectory>();
};

}  // namespace jevrin::test
