// Builds a network from a graph with another layout: batch as a dimension, channels first.
//
// A View says how the dimensions of such a value are made of the axes of one of our nodes. Moving operators
// (transpositions, new shapes, dropped and added dimensions) only change the view; nodes for them appear when
// somebody needs the elements in an order that they do not have. So a transposition to channels-last before a
// layer and one back behind it leave nothing.
#pragma once

#include "jevrin/graph/graph.hpp"

#include <algorithm>
#include <cstdint>
#include <map>
#include <set>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

inline constexpr int batch_axis = -1;

struct View {
    std::size_t node = 0;
    // Of each dimension the axes of the node's item that make it up, the slowest first; batch_axis stands for
    // the batch. Axes of length 1 are nowhere: an empty list is a dimension of 1.
    std::vector<std::vector<int>> dims;
    // What nodes are called that change the order and the shape, when such nodes are needed.
    std::string transpose_name;
    std::string reshape_name;
};

// Of a dimension.
inline bool holds_batch(const std::vector<int>& axes) {
    return std::find(axes.begin(), axes.end(), batch_axis) != axes.end();
}

class NetworkBuilder {
  public:
    // Item axes that become one, in order; an empty group is an axis of 1.
    using Groups = std::vector<std::vector<int>>;

    // Adds a node under its name, or under one that is still free. weights: what the file calls each
    // parameter (Node::shared).
    std::size_t add(const std::string& name, Operator op, std::vector<std::size_t> inputs,
                    std::vector<Tensor> parameters = {}, std::vector<std::string> weights = {});
    const Shape& shape(std::size_t node) const { return shapes_[node]; }
    const Network& network() const { return network_; }
    // Says in which module the nodes from one on stand.
    void place_in_module(std::size_t first, const std::string& module);
    // The network up to its output, a node added before.
    Network finish(std::size_t output);

    void set_input(const std::string& name, const Shape& item);

    // A view of a node by the item axis of each dimension, batch_axis for the batch.
    View view(std::size_t node, const std::vector<int>& axes) const;
    // The dimensions of a view, with this number for the batch.
    Shape sizes(const View& view, std::int64_t batch) const;

    // The dimensions in the order in which their elements lie, without the batch; with all of rank four and
    // the batch first, channels-last where nothing speaks against it.
    std::vector<int> order_of(const View& view) const;
    // A node with one axis for each dimension named, in this order. Every dimension but that of the batch
    // must be named.
    std::size_t place(const View& view, const std::vector<int>& order, const std::string& name);
    // A view of what place() made, or of a result that has the same axes with these lengths.
    View placed(const View& from, std::size_t node, const std::vector<int>& order) const;

    // The same elements with these dimensions behind all others, one axis each.
    View with_last(const View& view, const std::vector<int>& dims, const std::string& name);

    // The view with other dimensions, whose lengths multiply to the same; batch is the length that stands for
    // the batch among them. InputError when the batch would be torn apart.
    View reshape(const View& view, const Shape& target, std::int64_t batch, const std::string& name);

  private:
    std::size_t arrange(const View& view, const Groups& groups, const std::string& name);
    void split_axis(View& view, int axis, std::int64_t first, const std::string& name);
    bool regroup(View& view, const Shape& target, std::int64_t batch, const std::string& name);

    Network network_;
    std::vector<Shape> shapes_;
    std::set<std::string> names_;
    std::map<std::pair<std::size_t, Groups>, std::size_t> arranged_;
};

}  // namespace jevrin::inline v1
