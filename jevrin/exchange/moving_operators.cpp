// Values in another order or shape in model files: read, and written.
#include "jevrin/base/error.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"
#include "jevrin/tensor/arithmetic.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct Identity;
struct ShapeOf;
struct Squeeze;
struct Unsqueeze;
struct SpaceToDepth;
struct DepthToSpace;

}  // namespace

template <>
void GraphReader::read_as<Identity>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    set(node, dynamic(node, 0));
}

template <>
void GraphReader::read_as<ShapeOf>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const Shape all = sizes(dynamic(node, 0));
    if (node.type() == "Size") return set(node, Folded{{}, {static_cast<double>(element_count(all))}, true});
    set(node, shape_value(node, all));
}

// A vector of features is made at once: it is what boundaries and heads are attached to.
View GraphReader::settled(const GraphNode& node, const View& view) {
    if (view.dims.size() != 2 || view.dims[0] != std::vector<int>{batch_axis} || holds_batch(view.dims[1]))
        return view;
    return builder_.placed(view, builder_.place(view, {1}, node.name()), {1});
}

View GraphReader::reshaped(const GraphNode& node, const View& view, const std::vector<std::int64_t>& stated) {
    // A model exported for a fixed batch has its size in the shapes it asks for.
    const bool names_batch =
        std::any_of(stated.begin(), stated.end(), [](std::int64_t size) { return size >= batch_prime; });
    const std::int64_t batch = stated_batch_ > 0 && !names_batch ? stated_batch_ : batch_prime;
    const Shape from = builder_.sizes(view, batch);
    const std::vector<std::int64_t> wanted = with_wanted_patches(stated, from);
    return builder_.reshape(view, reshape_target(node, from, wanted, element_count(from)), batch,
                            node.name());
}

template <>
void GraphReader::read_as<Reshape>(const GraphNode& node) {
    node.expect_inputs(1, 2);
    const auto inputs = known_inputs(node);
    const auto stated = integers_of(node, "shape", 1, pointers_to(inputs));
    if (!stated) node.fail("has no target shape");
    set(node, settled(node, reshaped(node, dynamic(node, 0), *stated)));
}

template <>
void GraphReader::read_as<Flatten>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& view = dynamic(node, 0);
    const std::int64_t stated = node.integer("axis", 1);
    const std::int64_t axis = stated < 0 ? stated + rank(view) : stated;
    if (axis < 0 || axis > rank(view)) node.fail("its axis is out of range");
    const Shape all = sizes(view);
    const Shape flat = {element_count({all.begin(), all.begin() + axis}),
                        element_count({all.begin() + axis, all.end()})};
    set(node, settled(node, builder_.reshape(view, flat, batch_prime, node.name())));
}

template <>
void GraphReader::read_as<Transpose>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& view = dynamic(node, 0);
    View result = view;
    result.transpose_name = node.name();
    result.dims.clear();
    for (const std::int64_t d : permutation_of(node, rank(view)))
        result.dims.push_back(view.dims[static_cast<std::size_t>(d)]);
    set(node, result);
}

template <>
void GraphReader::read_as<Squeeze>(const GraphNode& node) {
    node.expect_inputs(1, 2);
    const View& view = dynamic(node, 0);
    const auto inputs = known_inputs(node);
    View result = view;
    result.dims.clear();
    result.reshape_name = node.name();
    const Shape all = builder_.sizes(view, stated_batch_ == 1 ? 1 : batch_prime);
    for (const std::int64_t d : squeezed(node, all, pointers_to(inputs)))
        result.dims.push_back(view.dims[static_cast<std::size_t>(d)]);
    for (std::size_t d = 0; d < view.dims.size(); ++d)
        if (holds_batch(view.dims[d]) && std::none_of(result.dims.begin(), result.dims.end(), holds_batch))
            result.dims.insert(result.dims.begin(), view.dims[d]);  // a batch of one is not dropped
    set(node, settled(node, result));
}

template <>
void GraphReader::read_as<Unsqueeze>(const GraphNode& node) {
    node.expect_inputs(1, 2);
    const View& view = dynamic(node, 0);
    const auto inputs = known_inputs(node);
    View result = view;
    result.dims.clear();
    result.reshape_name = node.name();
    for (const std::int64_t d : unsqueezed(node, rank(view), pointers_to(inputs)))
        result.dims.push_back(d < 0 ? std::vector<int>{} : view.dims[static_cast<std::size_t>(d)]);
    set(node, result);
}

// Blocks of pixels become channels: new shapes around a transposition.
template <>
void GraphReader::read_as<SpaceToDepth>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& view = dynamic(node, 0);
    const std::int64_t block = node.integer("blocksize", 0);
    const Shape s = sizes(view);
    if (s.size() != 4 || block < 1 || s[2] % block != 0 || s[3] % block != 0)
        node.fail("its block size does not divide the image size");
    View cut = builder_.reshape(view, {s[0], s[1], s[2] / block, block, s[3] / block, block}, batch_prime,
                                node.name() + ":blocks");
    cut.dims = {cut.dims[0], cut.dims[3], cut.dims[5], cut.dims[1], cut.dims[2], cut.dims[4]};
    set(node, builder_.reshape(cut, {s[0], s[1] * block * block, s[2] / block, s[3] / block}, batch_prime,
                               node.name()));
}

template <>
void GraphReader::read_as<DepthToSpace>(const GraphNode& node) {
    node.expect_inputs(1, 1);
    const View& view = dynamic(node, 0);
    const std::int64_t block = node.integer("blocksize", 0);
    const Shape s = sizes(view);
    if (s.size() != 4 || block < 1 || block > largest_dimension || s[1] % (block * block) != 0)
        node.fail("its block size does not divide the number of channels");
    const std::int64_t depth = s[1] / (block * block);
    const bool blocks_first = node.text("mode", "DCR") == "DCR";
    View cut = builder_.reshape(view,
                                blocks_first ? Shape{s[0], block, block, depth, s[2], s[3]}
                                             : Shape{s[0], depth, block, block, s[2], s[3]},
                                batch_prime, node.name() + ":blocks");
    const auto d = cut.dims;
    if (blocks_first)
        cut.dims = {d[0], d[3], d[4], d[1], d[5], d[2]};
    else
        cut.dims = {d[0], d[1], d[4], d[2], d[5], d[3]};
    set(node, builder_.reshape(cut, {s[0], depth, s[2] * block, s[3] * block}, batch_prime, node.name()));
}

void GraphReader::put_moving(Table& table) {
    table.insert({
        {"DepthToSpace", &GraphReader::read_as<DepthToSpace>},
        {"Flatten", &GraphReader::read_as<Flatten>},
        {"Identity", &GraphReader::read_as<Identity>},
        {"Reshape", &GraphReader::read_as<Reshape>},
        {"Shape", &GraphReader::read_as<ShapeOf>},
        {"Size", &GraphReader::read_as<ShapeOf>},
        {"SpaceToDepth", &GraphReader::read_as<SpaceToDepth>},
        {"Squeeze", &GraphReader::read_as<Squeeze>},
        {"Transpose", &GraphReader::read_as<Transpose>},
        {"Unsqueeze", &GraphReader::read_as<Unsqueeze>},
    });
}

template <>
void ModelWriter::write(std::size_t i, const Transpose& op) {
    std::vector<std::int64_t> permutation = {0};
    for (const std::int64_t d : op.permutation) permutation.push_back(d + 1);
    set_ints(add_plain("Transpose", i), "perm", permutation);
}

template <>
void ModelWriter::write(std::size_t i, const Reshape& op) {
    std::vector<std::int64_t> shape = {0};
    shape.insert(shape.end(), op.shape.begin(), op.shape.end());
    add_plain("Reshape", i).add_input(add_integers(name(i) + ":shape", shape));
}

template <>
void ModelWriter::write(std::size_t i, const Flatten&) {
    const std::size_t input = network_.nodes[i].inputs[0];
    const Layout layout = shapes_[input].size() == 3 ? Layout::channels_first : Layout::plain;
    set_int(add("Flatten", name(i), {as(input, layout)}), "axis", 1);
}

void ModelWriter::put_moving(Table& table) {
    put<Transpose, Reshape, Flatten>(table);
}

}  // namespace jevrin::inline v1
