// Turns a stored graph into a network, node by node. What each operator becomes stands in the graph_*.cpp
// files, by family.
#pragma once

#include "jevrin/exchange/folding.hpp"
#include "jevrin/exchange/graph_node.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/exchange/moved_dimensions.hpp"
#include "jevrin/exchange/network_builder.hpp"
#include "jevrin/exchange/stored_model.hpp"

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <variant>
#include <vector>

namespace jevrin::inline v1 {

// A value of the graph: left out, stored in the file, known, or dependent on the image.
using GraphValue = std::variant<std::monostate, const StoredTensor*, std::shared_ptr<const Folded>, View>;

class GraphReader {
  public:
    GraphReader(const StoredModel& model, const ReadSettings& settings);
    Network read();

    // What nodes may be, those between constants included.
    static std::vector<std::string> operator_names();

  private:
    using ReadNode = void (GraphReader::*)(const GraphNode&);
    static const std::map<std::string, ReadNode>& operators();

    void find_needed(const std::string& output);
    void check_operators() const;
    void read_input();
    void read_node(const GraphNode& node);
    bool read_constant_for_each(const GraphNode& node);
    std::string output_value() const;

    // Values. dynamic() fails for one that does not depend on the image.
    const GraphValue& value(const GraphNode& node, int input) const;
    bool is_dynamic(const GraphNode& node, int input) const;
    const View& dynamic(const GraphNode& node, int input) const;
    std::shared_ptr<const Folded> known(const GraphValue& value) const;  // null when it depends on the image
    std::vector<std::shared_ptr<const Folded>> known_inputs(const GraphNode& node) const;
    void set(const GraphNode& node, View view, int output = 0);
    void set(const GraphNode& node, Folded folded, int output = 0);
    Shape sizes(const View& view) const { return builder_.sizes(view, batch_prime); }
    std::int64_t rank(const View& view) const { return std::ssize(view.dims); }

    // Elements of a constant in memory order, without holding the whole of it when it is stored.
    struct Weight {
        Shape shape;
        std::function<void(std::int64_t begin, std::span<float> values)> read;
    };
    Weight weight(const GraphNode& node, int input) const;
    Tensor vector_weight(const GraphNode& node, int input, std::int64_t size) const;
    // [rows, inner, taps] in the file to [taps, inner, rows].
    Tensor transposed_weight(const Weight& weight, const Shape& shape) const;

    // A tensor of the reader's own making, which counts towards what may be computed.
    Tensor new_tensor(const GraphNode& node, const Shape& shape);
    // A constant as a node, with an axis for each dimension named in the order of `order`, of a value of so
    // many dimensions.
    std::size_t constant_node(const GraphNode& node, int input, std::int64_t rank,
                              const std::vector<int>& order, bool trim);
    std::size_t fixed_number(const std::string& name, float value);

    // Adds an operator behind one view, element by element.
    View pointwise(const std::string& name, const Operator& op, const View& view);
    // The same for arithmetic with a number behind the value.
    View with_number(const std::string& name, ArithmeticKind kind, const View& view, float number);
    // Two operands of any kind, at least one of them dynamic.
    View joined(const GraphNode& node, ArithmeticKind kind, int left, int right);
    View joined_views(const std::string& name, ArithmeticKind kind, const View& a, const View& b);

    // graph_weighted.cpp
    void read_convolution(const GraphNode& node);
    void read_gemm(const GraphNode& node);
    void read_matrix_product(const GraphNode& node);
    void read_batch_normalisation(const GraphNode& node);
    void read_layer_normalisation(const GraphNode& node);
    void read_instance_normalisation(const GraphNode& node);
    void read_parametric_relu(const GraphNode& node);
    void read_local_response(const GraphNode& node);
    View dense(const GraphNode& node, const std::string& name, const View& input, Tensor weight,
               std::vector<Tensor> bias);
    View normalised_channels(const GraphNode& node, Operator op, std::vector<Tensor> parameters);
    View product(const GraphNode& node, const View& a, const View& b);

    // graph_pooling.cpp
    void read_max_pooling(const GraphNode& node);
    void read_average_pooling(const GraphNode& node);
    void read_global_average(const GraphNode& node);
    void read_global_maximum(const GraphNode& node);
    void read_reduction(const GraphNode& node);
    std::pair<std::size_t, View> image(const GraphNode& node);
    operators::Window window(const GraphNode& node, const Shape& image, std::int64_t kernel_height,
                             std::int64_t kernel_width) const;
    operators::Window pooling_window(const GraphNode& node, const Shape& image) const;
    View image_result(const View& from, std::size_t node) const;
    View reduced(const GraphNode& node, const std::string& name, ReductionKind kind, const View& view);

    // graph_pointwise.cpp
    void read_function(const GraphNode& node);
    void read_clip(const GraphNode& node);
    void read_dropout(const GraphNode& node);
    void read_arithmetic(const GraphNode& node);
    void read_softmax(const GraphNode& node);
    void read_cast(const GraphNode& node);

    // graph_moving.cpp
    void read_identity(const GraphNode& node);
    void read_shape(const GraphNode& node);
    void read_reshape(const GraphNode& node);
    void read_flatten(const GraphNode& node);
    void read_transpose(const GraphNode& node);
    void read_squeeze(const GraphNode& node);
    void read_unsqueeze(const GraphNode& node);
    void read_concatenate(const GraphNode& node);
    void read_slice(const GraphNode& node);
    void read_split(const GraphNode& node);
    void read_gather(const GraphNode& node);
    void read_padding(const GraphNode& node);
    void read_expand(const GraphNode& node);
    void read_tile(const GraphNode& node);
    void read_space_to_depth(const GraphNode& node);
    void read_depth_to_space(const GraphNode& node);
    View sliced(const GraphNode& node, const std::string& name, const View& view,
                const std::vector<SliceRange>& ranges);
    View settled(const GraphNode& node, const View& view);
    View reshaped(const GraphNode& node, const View& view, const std::vector<std::int64_t>& stated);
    std::size_t single_axis(const GraphNode& node, View& view, int dim);

    const StoredModel& model_;
    const ReadSettings& settings_;
    std::set<std::size_t> needed_;  // nodes that the output depends on
    std::map<std::string, GraphValue> values_;
    NetworkBuilder builder_;
    int stated_rank_ = 0;            // dimensions of the input; with one there is no batch
    std::int64_t stated_batch_ = 0;  // 0: open
    std::int64_t folded_elements_ = 0;
};

}  // namespace jevrin::inline v1
