// Converts a stored graph into a network, node by node. The operators are in *_operators.cpp, by family.
#pragma once

#include "jevrin/exchange/constant_folding.hpp"
#include "jevrin/exchange/graph_node.hpp"
#include "jevrin/exchange/graph_selection.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/exchange/moved_dimensions.hpp"
#include "jevrin/exchange/network_builder.hpp"
#include "jevrin/exchange/stored_model.hpp"

#include <functional>
#include <list>
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
    // Whether the settings name a node or a value of the graph, at which read() ends.
    bool ends_at_named() const { return ends_at_named_; }
    // The image size that the file states, once read() has begun; nothing when it is open or there is none.
    const std::optional<ImageSize>& stated_size() const { return stated_size_; }

    // What nodes may be, those between constants included.
    static std::vector<std::string> operator_names();

  private:
    using ReadNode = void (GraphReader::*)(const GraphNode&);
    using Table = std::map<std::string, ReadNode>;  // by the name in the file
    static const Table& operators();
    // Each family's, in its own file.
    static void put_weighted(Table& table);
    static void put_pooling(Table& table);
    static void put_pointwise(Table& table);
    static void put_moving(Table& table);
    static void put_cutting(Table& table);
    static void put_arithmetic(Table& table);
    static void put_composed(Table& table);
    static void put_products(Table& table);
    static void put_resampling(Table& table);
    static void put_quantised(Table& table);
    // One kind of stored node: by the operator it becomes, or by a name of its own. Specialised in the file
    // of its family, and reached through the table alone.
    template <typename Stored>
    void read_as(const GraphNode& node);

    static bool understands(const onnx::NodeProto& node);
    void read_input(const GraphSelection& selection);
    void read_node(const GraphNode& node);
    bool read_constant_for_each(const GraphNode& node);
    bool repeats_weights(const GraphNode& node);
    void read_choice(const GraphNode& node);

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
    // What the file calls the weights behind these inputs; empty where they are computed or left out.
    std::vector<std::string> weight_names(const GraphNode& node, std::initializer_list<int> inputs) const;
    Tensor vector_weight(const GraphNode& node, int input, std::int64_t size) const;
    // [rows, inner, taps] in the file to [taps, inner, rows].
    Tensor transposed_weight(const Weight& weight, const Shape& shape) const;

    // A tensor of the reader's own making, which counts towards what may be computed.
    Tensor new_tensor(const GraphNode& node, const Shape& shape);
    // The module that the weights of a node name, when its own name says none.
    std::string stated_module(const GraphNode& node) const;

    // A constant as a node, with an axis for each dimension named in the order of `order`, of a value of so
    // many dimensions. Weights are one node that trains, however many nodes of the file read them.
    std::size_t constant_node(const GraphNode& node, int input, std::int64_t rank,
                              const std::vector<int>& order, bool trim);
    std::size_t constant_node(const GraphNode& node, const std::string& name, const Folded& constant,
                              std::int64_t rank, const std::vector<int>& order, bool trim);
    Folded along_axis(const GraphNode& node, int input, std::int64_t rank) const;
    View constant_view(const GraphNode& node, const std::string& name, const Folded& constant);
    std::size_t fixed_number(const std::string& name, float value);

    // Adds an operator behind one view, element by element.
    View pointwise(const std::string& name, const Operator& op, const View& view);
    // The same for arithmetic with a number behind the value.
    View with_number(const std::string& name, ArithmeticKind kind, const View& view, float number);
    // The same with a constant of any shape that broadcasts to the value, or to which the value does.
    View with_constant(const GraphNode& node, const std::string& name, ArithmeticKind kind, const View& view,
                       const Folded& constant);
    int last_axis_of(const View& view, const Shape& constant) const;
    View combined(const GraphNode& node, const std::string& name, const std::string& constant_name,
                  ArithmeticKind kind, View view, const Folded& constant, bool view_first);
    // Two operands of any kind, at least one of them dynamic.
    View joined(const GraphNode& node, ArithmeticKind kind, int left, int right);
    View joined_views(const std::string& name, ArithmeticKind kind, const View& a, const View& b);

    // What the families share.
    // weights: see NetworkBuilder::add().
    View dense(const GraphNode& node, const View& input, Tensor weight, std::vector<Tensor> bias,
               std::vector<std::string> weights);
    View normalised_channels(const GraphNode& node, Operator op, std::vector<Tensor> parameters);
    View product(const GraphNode& node, const View& a, const View& b, const std::string& role = "");
    // What a window moves over: a node [height, width, channels], and its view; a row of values is an image
    // of one line.
    struct Image {
        std::size_t node = 0;
        View view;
        bool row = false;
    };
    Image image(const GraphNode& node);
    operators::Window window(const GraphNode& node, const Image& from, std::int64_t kernel_height,
                             std::int64_t kernel_width) const;
    operators::Window pooling_window(const GraphNode& node, const Image& from) const;
    // Of a convolution's weight, with a height of 1 where a row is convolved; fails unless it has 4 axes.
    Shape kernel_shape(const GraphNode& node, const Image& from, const Weight& stored) const;
    View image_result(const Image& from, std::size_t node) const;
    View reduced(const GraphNode& node, const std::string& name, ReductionKind kind, const View& view);
    View reduced_over(const GraphNode& node, const std::string& name, ReductionKind kind, const View& view,
                      const std::set<int>& gone, bool keep);
    View sliced(const GraphNode& node, const std::string& name, const View& view,
                const std::vector<SliceRange>& ranges);
    View wrapped(const GraphNode& node, View view, const std::vector<std::int64_t>& pads);
    View settled(const GraphNode& node, const View& view);
    View reshaped(const GraphNode& node, const View& view, const std::vector<std::int64_t>& stated);
    std::size_t single_axis(const GraphNode& node, View& view, int dim);

    const StoredModel& model_;
    const ReadSettings& settings_;
    std::map<std::string, GraphValue> values_;
    std::map<std::string, View> shared_;  // constants that train, by the name of their weights
    NetworkBuilder builder_;
    // The patches that a convolution cuts the image into, at the stated size and at the wanted one.
    struct PatchGrids {
        ImageSize stated;
        ImageSize wanted;
    };
    void note_patches(const operators::Window& window);
    std::optional<Folded> resampled_positions(const Folded& constant, const Shape& value) const;
    std::vector<std::int64_t> with_wanted_patches(const std::vector<std::int64_t>& shape,
                                                  const Shape& from) const;
    std::optional<PatchGrids> patches_;
    std::optional<ImageSize> stated_size_;  // of the image
    int stated_rank_ = 0;                   // dimensions of the input; with one there is no batch
    std::int64_t stated_batch_ = 0;         // 0: open
    std::int64_t folded_elements_ = 0;
    bool ends_at_named_ = false;
    std::list<StoredTensor> inner_weights_;  // of graphs inside nodes
    int depth_ = 0;                          // of such graphs
};

}  // namespace jevrin::inline v1
