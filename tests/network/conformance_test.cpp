// The open conformance cases of the model format (Debian package libonnx-testdata), for the operators that
// are read.
//
// A case gives weights as inputs; they are moved into the file, as in a real model. What is supported must
// give the expected numbers; what is not must be refused in words, never computed wrongly.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/network/inference.hpp"
#include "jevrin/network/model_file.hpp"

#include <onnx/onnx_pb.h>

#include <cmath>
#include <cstring>

namespace jevrin {
namespace {

const std::filesystem::path cases = "/usr/share/libonnx-testdata/data/node";

onnx::TensorProto read_tensor(const std::filesystem::path& file) {
    onnx::TensorProto tensor;
    EXPECT_TRUE(tensor.ParseFromString(read_text(file))) << file;
    return tensor;
}

std::vector<float> floats_of(const onnx::TensorProto& tensor) {
    if (!tensor.has_raw_data()) return {tensor.float_data().begin(), tensor.float_data().end()};
    std::vector<float> values(tensor.raw_data().size() / sizeof(float));
    std::memcpy(values.data(), tensor.raw_data().data(), tensor.raw_data().size());
    return values;
}

// [batch, channels, pixels] to [batch, pixels, channels], or back.
std::vector<float> reorder(const std::vector<float>& values, const Shape& first, bool to_last) {
    if (first.size() != 4) return values;
    const std::int64_t channels = first[1];
    const std::int64_t pixels = first[2] * first[3];
    std::vector<float> result(values.size());
    for (std::int64_t n = 0; n < first[0]; ++n)
        for (std::int64_t c = 0; c < channels; ++c)
            for (std::int64_t p = 0; p < pixels; ++p) {
                const auto a = static_cast<std::size_t>((n * channels + c) * pixels + p);
                const auto b = static_cast<std::size_t>((n * pixels + p) * channels + c);
                result[to_last ? b : a] = values[to_last ? a : b];
            }
    return result;
}

class Conformance : public testing::TestWithParam<std::string> {
  protected:
    // The case as a model file with its weights inside.
    Model read_case() {
        const std::filesystem::path directory = cases / GetParam();
        onnx::ModelProto proto;
        EXPECT_TRUE(proto.ParseFromString(read_text(directory / "model.onnx")));
        // Global pooling has not changed since operator set 1, in which its cases are written.
        if (proto.opset_import(0).version() < 7) proto.mutable_opset_import(0)->set_version(7);
        for (int i = 1; i < proto.graph().input_size(); ++i) {
            onnx::TensorProto weight =
                read_tensor(directory / "test_data_set_0" / ("input_" + std::to_string(i) + ".pb"));
            weight.set_name(proto.graph().input(i).name());
            *proto.mutable_graph()->add_initializer() = weight;
        }
        write_file(directory_ / "case.onnx", proto.SerializeAsString());
        return read_model(directory_ / "case.onnx");
    }
    test::TemporaryDirectory directory_;
};

using Supported = Conformance;
TEST_P(Supported, GivesTheExpectedNumbers) {
    const Model model = read_case();
    const auto data = cases / GetParam() / "test_data_set_0";
    const onnx::TensorProto input = read_tensor(data / "input_0.pb");
    const onnx::TensorProto output = read_tensor(data / "output_0.pb");
    const Shape in(input.dims().begin(), input.dims().end());
    const Shape out(output.dims().begin(), output.dims().end());
    Inference inference(model.network, in[0]);
    const std::vector<float> image = reorder(floats_of(input), in, true);
    const auto result = inference.run(in[0], image);
    const std::vector<float> ours = reorder({result.begin(), result.end()}, out, false);
    const std::vector<float> expected = floats_of(output);
    ASSERT_EQ(ours.size(), expected.size());
    for (std::size_t i = 0; i < ours.size(); ++i)
        ASSERT_NEAR(ours[i], expected[i], 1e-5 + 1e-5 * std::abs(expected[i])) << "place " << i;
    // And what we write of it computes the same.
    write_model(directory_ / "written.onnx", model);
    Inference again(read_model(directory_ / "written.onnx").network, in[0]);
    const auto repeated = again.run(in[0], image);
    EXPECT_EQ(reorder({repeated.begin(), repeated.end()}, out, false), ours);
}
INSTANTIATE_TEST_SUITE_P(
    Onnx, Supported,
    testing::Values("test_basic_conv_with_padding", "test_basic_conv_without_padding",
                    "test_conv_with_strides_and_asymmetric_padding", "test_conv_with_strides_no_padding",
                    "test_conv_with_strides_padding", "test_batchnorm_epsilon", "test_batchnorm_example",
                    "test_maxpool_2d_default", "test_maxpool_2d_pads", "test_maxpool_2d_precomputed_pads",
                    "test_maxpool_2d_precomputed_strides", "test_maxpool_2d_strides",
                    "test_averagepool_2d_default", "test_averagepool_2d_pads",
                    "test_averagepool_2d_pads_count_include_pad", "test_averagepool_2d_precomputed_pads",
                    "test_averagepool_2d_precomputed_pads_count_include_pad",
                    "test_averagepool_2d_precomputed_strides", "test_averagepool_2d_strides",
                    "test_globalaveragepool", "test_globalaveragepool_precomputed", "test_flatten_axis1",
                    "test_flatten_default_axis", "test_gemm_default_no_bias", "test_gemm_default_scalar_bias",
                    "test_gemm_default_single_elem_vector_bias", "test_gemm_default_vector_bias",
                    "test_gemm_default_zero_bias", "test_gemm_transposeB", "test_identity"),
    [](const auto& one) { return one.param; });

using Refused = Conformance;
TEST_P(Refused, NamesItsNode) {
    EXPECT_THAT(test::message_of<InputError>([&] { infer_shapes(read_case().network); }),
                testing::HasSubstr("case.onnx: "));
}
INSTANTIATE_TEST_SUITE_P(Onnx, Refused,
                         testing::Values("test_conv_with_autopad_same",
                                         "test_batchnorm_epsilon_training_mode",
                                         "test_batchnorm_example_training_mode", "test_maxpool_2d_ceil",
                                         "test_maxpool_2d_dilations", "test_maxpool_2d_same_upper",
                                         "test_maxpool_1d_default", "test_maxpool_3d_default",
                                         "test_averagepool_2d_ceil", "test_averagepool_2d_same_lower",
                                         "test_averagepool_3d_default", "test_flatten_axis0",
                                         "test_flatten_axis2", "test_gemm_alpha", "test_gemm_beta",
                                         "test_gemm_all_attributes", "test_gemm_default_matrix_bias",
                                         "test_gemm_transposeA", "test_sigmoid", "test_softmax_axis_0"),
                         [](const auto& one) { return one.param; });

}  // namespace
}  // namespace jevrin
