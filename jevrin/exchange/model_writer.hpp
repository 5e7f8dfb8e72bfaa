// Writes a network as an ONNX graph, node by node. The operators are in *_operators.cpp, by family.
#pragma once

#include "jevrin/graph/graph.hpp"
#include "jevrin/graph/operator_table.hpp"

#include <onnx/onnx_pb.h>

#include <algorithm>
#include <map>
#include <numeric>
#include <set>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// How a value lies in the file: as in memory, or as an image with its channels first.
enum class Layout { plain, channels_first };

// Where a dimension of [height, width, channels] is in [channels, height, width].
inline std::int64_t first_axis(std::int64_t axis) {
    return (axis + 1) % 3;
}

class ModelWriter {
  public:
    explicit ModelWriter(const Network& network) : network_(network), shapes_(infer_shapes(network)) {
        for (const Node& node : network.nodes) names_.insert(node.name);
    }
    void write(onnx::GraphProto& graph);

  private:
    const std::string& name(std::size_t node) const { return network_.nodes[node].name; }
    Shape file_shape(std::size_t node, Layout layout) const;
    void describe(onnx::ValueInfoProto& info, std::size_t node) const;
    // A name for a value beside those of the network.
    std::string fresh(const std::string& base);
    onnx::NodeProto& add(const std::string& type, const std::string& called,
                         const std::vector<std::string>& inputs);
    // A step on the way to a node, under a name of its own.
    onnx::NodeProto& add_step(const std::string& type, std::size_t node, const std::string& role,
                              const std::vector<std::string>& inputs);
    static void fill(onnx::TensorProto& tensor, const std::string& called, const Shape& shape,
                     std::span<const float> values);
    std::string add_weight(const std::string& called, const Shape& shape, std::span<const float> values);
    // The same for a parameter as it is stored; one that nodes share is written once.
    std::string add_own_or_shared(std::size_t i, std::size_t p, const std::string& called,
                                  const Tensor& stored);
    std::string add_integers(const std::string& called, const std::vector<std::int64_t>& values);
    std::string add_number(std::size_t node, const std::string& role, float value);
    static void set_ints(onnx::NodeProto& proto, const std::string& called,
                         const std::vector<std::int64_t>& values);
    static void set_int(onnx::NodeProto& proto, const std::string& called, std::int64_t value);
    static void set_float(onnx::NodeProto& proto, const std::string& called, float value);
    static void set_window(onnx::NodeProto& proto, const operators::Window& w);
    // The name of a node's value in a layout; a transposition is written when it lies otherwise.
    std::string as(std::size_t node, Layout wanted);
    // A constant is one item in the file; where each image needs one of its own it is repeated.
    std::string batched(std::size_t node);
    bool is_constant(std::size_t node) const;
    // Whether a value may keep its channels first for an operator that works on any layout.
    bool is_first(std::size_t node) const { return layouts_[node] == Layout::channels_first; }
    std::int64_t file_axis(std::size_t node, std::int64_t axis, Layout layout) const;
    onnx::NodeProto& add_same_layout(const std::string& type, std::size_t i);
    onnx::NodeProto& add_image(const std::string& type, std::size_t i);
    onnx::NodeProto& add_plain(const std::string& type, std::size_t i);
    // Under the name of its role.
    void add_parameter(onnx::NodeProto& proto, std::size_t i, std::size_t p);
    void write_node(std::size_t i);
    // What one operator becomes, specialised in the file of its family. It is reached through the table
    // alone, into which each family puts its operators.
    template <typename Op>
    void write(std::size_t i, const Op& op);
    using Table = OperatorTable<void (*)(ModelWriter&, std::size_t)>;
    static void put_ends(Table& table);
    static void put_weighted(Table& table);
    static void put_pointwise(Table& table);
    static void put_pooling(Table& table);
    static void put_moving(Table& table);
    static void put_cutting(Table& table);
    static void put_arithmetic(Table& table);
    static void put_products(Table& table);
    template <typename... Ops>
    static void put(Table& table) {
        (table.put<Ops>([](ModelWriter& writer, std::size_t i) {
            writer.write(i, std::get<Ops>(writer.network_.nodes[i].op));
        }),
         ...);
    }
    [[noreturn]] void refuse(std::size_t i) const;
    // Channels are the second dimension in the file: images turn to channels-first, rows of tokens on their
    // side and back.
    template <typename WriteOn>
    void write_by_channels(std::size_t i, WriteOn write_on) {
        const std::size_t input = network_.nodes[i].inputs[0];
        if (shapes_[i].size() == 3) {
            layouts_[i] = Layout::channels_first;
            write_on(as(input, Layout::channels_first), name(i));
        } else if (shapes_[i].size() == 1) {
            write_on(batched(input), name(i));
        } else {
            std::vector<std::int64_t> to(shapes_[i].size() + 1);
            std::iota(to.begin(), to.end(), std::int64_t{0});
            std::vector<std::int64_t> back = to;
            std::rotate(to.begin() + 1, to.end() - 1, to.end());
            std::rotate(back.begin() + 1, back.begin() + 2, back.end());
            onnx::NodeProto& turned = add_step("Transpose", i, "layout", {batched(input)});
            set_ints(turned, "perm", to);
            const std::string normalised = fresh(name(i) + ":turned");
            write_on(turned.name(), normalised);
            set_ints(add("Transpose", name(i), {normalised}), "perm", back);
        }
    }
    // The inputs of a node in the layout of most of them.
    Layout common_layout(std::size_t i) const;

    const Network& network_;
    std::vector<Shape> shapes_;
    std::vector<Layout> layouts_;
    std::set<std::string> names_;
    std::map<std::size_t, std::string> turned_;
    std::map<std::size_t, std::string> repeated_;
    struct WrittenParameter {
        std::size_t node = 0;
        std::size_t parameter = 0;
        std::string name;
    };
    std::map<std::string, WrittenParameter> shared_;
    std::string batch_;
    onnx::GraphProto* graph_ = nullptr;
};

}  // namespace jevrin::inline v1
