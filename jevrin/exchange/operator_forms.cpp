#include "jevrin/exchange/operator_forms.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

const std::map<std::string, OperatorForm>& operator_forms() {
    static const std::vector<std::string> window = {"auto_pad",     "dilations", "group",
                                                    "kernel_shape", "pads",      "strides"};
    static const std::vector<std::string> pooling = {"auto_pad",  "ceil_mode",     "count_include_pad",
                                                     "dilations", "kernel_shape",  "pads",
                                                     "p",         "storage_order", "strides"};
    static const std::vector<std::string> reduction = {"axes", "keepdims", "noop_with_empty_axes"};
    static const std::vector<std::string> normalisation = {"epsilon", "momentum", "spatial", "training_mode",
                                                           "is_test"};
    static const std::map<std::string, OperatorForm> forms = {
        {"Abs", {1, {6, 13}, {}}},
        {"Add", {7, {13, 14}, {}}},
        {"And", {7, {}, {}}},
        {"Attention",
         {23,
          {24},
          {"is_causal", "kv_num_heads", "q_num_heads", "qk_matmul_output_mode", "scale", "softcap",
           "softmax_precision"}}},
        {"AveragePool", {1, {7, 10, 11, 19, 22}, pooling}},
        {"BatchNormalization", {1, {6, 7, 9, 14, 15}, normalisation}},
        {"Cast", {6, {9, 13, 19, 21, 23, 24}, {"round_mode", "saturate", "to"}}},
        {"CastLike", {15, {19, 21, 23, 24}, {"round_mode", "saturate"}}},
        {"Ceil", {1, {6, 13}, {}}},
        {"Celu", {12, {}, {"alpha"}}},
        {"Clip", {1, {6, 11, 12, 13}, {"max", "min"}}},
        {"Concat", {1, {4, 11, 13}, {"axis"}}},
        {"Constant",
         {1,
          {9, 11, 12, 13, 19, 21, 23, 24},
          {"sparse_value", "value", "value_float", "value_floats", "value_int", "value_ints", "value_string",
           "value_strings"}}},
        {"ConstantOfShape", {9, {20, 21, 23, 24}, {"value"}}},
        {"Conv", {1, {11, 22}, window}},
        {"ConvTranspose",
         {1,
          {11, 22},
          {"auto_pad", "dilations", "group", "kernel_shape", "output_padding", "output_shape", "pads",
           "strides"}}},
        {"Cos", {7, {22}, {}}},
        {"CumSum", {11, {14}, {"exclusive", "reverse"}}},
        {"DepthToSpace", {1, {11, 13}, {"blocksize", "mode"}}},
        {"DequantizeLinear", {10, {13, 19, 21, 23, 24}, {"axis", "block_size", "output_dtype"}}},
        {"Div", {7, {13, 14}, {}}},
        {"Dropout", {1, {6, 7, 10, 12, 13, 22}, {"is_test", "ratio", "seed"}}},
        {"Einsum", {12, {}, {"equation"}}},
        {"Elu", {1, {6, 22}, {"alpha"}}},
        {"Equal", {7, {11, 13, 19}, {}}},
        {"Erf", {9, {13}, {}}},
        {"Exp", {1, {6, 13}, {}}},
        {"Expand", {8, {13}, {}}},
        {"Flatten", {1, {9, 11, 13, 21, 23, 24}, {"axis"}}},
        {"Floor", {1, {6, 13}, {}}},
        {"Gather", {1, {11, 13}, {"axis"}}},
        {"Gelu", {20, {}, {"approximate"}}},
        {"Gemm", {7, {9, 11, 13}, {"alpha", "beta", "transA", "transB"}}},
        {"GlobalAveragePool", {1, {22}, {}}},
        {"GlobalLpPool", {2, {22}, {"p"}}},
        {"GlobalMaxPool", {1, {22}, {}}},
        {"Greater", {7, {9, 13}, {}}},
        {"GreaterOrEqual", {12, {16}, {}}},
        {"GroupNormalization", {18, {21}, {"epsilon", "num_groups", "stash_type"}}},
        {"HardSigmoid", {1, {6, 22}, {"alpha", "beta"}}},
        {"HardSwish", {14, {22}, {}}},
        {"Identity", {1, {13, 14, 16, 19, 21, 23, 24}, {}}},
        {"If", {1, {11, 13, 16, 19, 21, 23, 24}, {"else_branch", "then_branch"}}},
        {"InstanceNormalization", {1, {6, 22}, {"epsilon"}}},
        {"LRN", {1, {13}, {"alpha", "beta", "bias", "size"}}},
        {"LayerNormalization", {17, {}, {"axis", "epsilon", "stash_type"}}},
        {"LeakyRelu", {1, {6, 16}, {"alpha"}}},
        {"Less", {7, {9, 13}, {}}},
        {"LessOrEqual", {12, {16}, {}}},
        {"Log", {1, {6, 13}, {}}},
        {"LogSoftmax", {1, {11, 13}, {"axis"}}},
        {"LpNormalization", {1, {22}, {"axis", "p"}}},
        {"LpPool", {2, {11, 18, 22}, pooling}},
        {"MatMul", {1, {9, 13}, {}}},
        {"Max", {1, {6, 8, 12, 13}, {}}},
        {"MaxPool", {1, {8, 10, 11, 12, 22}, pooling}},
        {"Mean", {1, {6, 8, 13}, {}}},
        {"MeanVarianceNormalization", {9, {13}, {"axes"}}},
        {"Min", {1, {6, 8, 12, 13}, {}}},
        {"Mish", {18, {22}, {}}},
        {"Mod", {10, {13}, {"fmod"}}},
        {"Mul", {7, {13, 14}, {}}},
        {"Neg", {1, {6, 13}, {}}},
        {"Not", {1, {}, {}}},
        {"Or", {7, {}, {}}},
        {"PRelu", {7, {9, 16}, {}}},
        {"Pad", {2, {11, 13, 18, 19, 21, 23, 24}, {"mode", "pads", "value"}}},
        {"Pow", {7, {12, 13, 15}, {}}},
        {"QuantizeLinear",
         {10, {13, 19, 21, 23, 24}, {"axis", "block_size", "output_dtype", "precision", "saturate"}}},
        {"RMSNormalization", {23, {}, {"axis", "epsilon", "stash_type"}}},
        {"Range", {11, {}, {}}},
        {"Reciprocal", {1, {6, 13}, {}}},
        {"ReduceL1", {1, {11, 13, 18}, reduction}},
        {"ReduceL2", {1, {11, 13, 18}, reduction}},
        {"ReduceLogSum", {1, {11, 13, 18}, reduction}},
        {"ReduceLogSumExp", {1, {11, 13, 18}, reduction}},
        {"ReduceMax", {1, {11, 12, 13, 18, 20}, reduction}},
        {"ReduceMean", {1, {11, 13, 18}, reduction}},
        {"ReduceMin", {1, {11, 12, 13, 18, 20}, reduction}},
        {"ReduceProd", {1, {11, 13, 18}, reduction}},
        {"ReduceSum", {1, {11, 13}, reduction}},
        {"ReduceSumSquare", {1, {11, 13, 18}, reduction}},
        {"Relu", {1, {6, 13, 14}, {}}},
        {"Reshape", {1, {5, 13, 14, 19, 21, 23, 24}, {"allowzero", "shape"}}},
        {"Resize",
         {10,
          {11, 13, 18, 19},
          {"antialias", "axes", "coordinate_transformation_mode", "cubic_coeff_a", "exclude_outside",
           "extrapolation_value", "keep_aspect_ratio_policy", "mode", "nearest_mode"}}},
        {"Round", {11, {22}, {}}},
        {"Selu", {1, {6, 22}, {"alpha", "gamma"}}},
        {"Shape", {1, {13, 15, 19, 21, 23, 24}, {"end", "start"}}},
        {"Sigmoid", {1, {6, 13}, {}}},
        {"Sign", {9, {13}, {}}},
        {"Sin", {7, {22}, {}}},
        {"Size", {1, {13, 19, 21, 23, 24}, {}}},
        {"Slice", {1, {10, 11, 13}, {"axes", "ends", "starts"}}},
        {"Softmax", {1, {11, 13}, {"axis"}}},
        {"Softplus", {1, {22}, {}}},
        {"Softsign", {1, {22}, {}}},
        {"SpaceToDepth", {1, {13}, {"blocksize"}}},
        {"Split", {2, {11, 13, 18}, {"axis", "num_outputs", "split"}}},
        {"Sqrt", {1, {6, 13}, {}}},
        {"Squeeze", {1, {11, 13, 21, 23, 24}, {"axes"}}},
        {"Sub", {7, {13, 14}, {}}},
        {"Sum", {1, {6, 8, 13}, {}}},
        {"Swish", {24, {}, {"alpha"}}},
        {"Tanh", {1, {6, 13}, {}}},
        {"ThresholdedRelu", {10, {22}, {"alpha"}}},
        {"Tile", {6, {13}, {}}},
        {"Transpose", {1, {13, 21, 23, 24}, {"perm"}}},
        {"Trilu", {14, {}, {"upper"}}},
        {"Unsqueeze", {1, {11, 13, 21, 23, 24}, {"axes"}}},
        {"Upsample", {7, {9, 10}, {"mode", "scales"}}},
        {"Where", {9, {16}, {}}},
        {"Xor", {7, {}, {}}},
    };
    return forms;
}

void require_form(const GraphNode& node) {
    const auto found = operator_forms().find(node.type());
    if (found == operator_forms().end()) return;  // refused elsewhere, with all that are not understood
    const OperatorForm& form = found->second;
    if (node.opset() < form.first)
        node.fail(
            fmt::format("its form in operator set {} is not supported, those from set {} on are; export "
                        "it for a later set",
                        node.opset(), form.first));
    if (node.opset() <= newest_opset) return;
    for (const auto& attribute : node.attributes())
        if (std::ranges::find(form.attributes, attribute.name()) == form.attributes.end())
            node.fail(
                fmt::format("its attribute '{}' is not known up to operator set {}; export it for that "
                            "set",
                            printable(attribute.name()), newest_opset));
}

}  // namespace jevrin::inline v1
