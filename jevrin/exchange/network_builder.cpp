#include "jevrin/exchange/network_builder.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>
#include <numeric>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Elements that a value of one image may have.
constexpr std::int64_t largest_value = 1 << 28;

bool is_batch(const std::vector<int>& dim) {
    return dim.size() == 1 && dim[0] == batch_axis;
}

std::vector<int> without_batch(std::vector<int> dim) {
    dim.erase(std::remove(dim.begin(), dim.end(), batch_axis), dim.end());
    return dim;
}

}  // namespace

std::size_t NetworkBuilder::add(const std::string& name, Operator op, std::vector<std::size_t> inputs,
                                std::vector<Tensor> parameters, std::vector<std::string> weights) {
    std::string free = name;
    for (int i = 2; !names_.insert(free).second; ++i) free = fmt::format("{}#{}", name, i);
    const std::size_t node =
        network_.add(std::move(free), std::move(op), std::move(inputs), std::move(parameters));
    network_.nodes[node].shared = std::move(weights);
    std::vector<Shape> around;
    for (const std::size_t input : network_.nodes[node].inputs) around.push_back(shapes_[input]);
    shapes_.push_back(node == 0 ? network_.input : infer_shape(network_.nodes[node], around));
    std::int64_t elements = 1;
    for (const std::int64_t size : shapes_.back()) {
        if (size > 0 && elements > largest_value / size)
            throw InputError(
                fmt::format("layer '{}' computes a value of {} for each image, which is too large",
                            printable(name), to_string(shapes_.back())));
        elements *= size;
    }
    return node;
}

void NetworkBuilder::place_in_module(std::size_t first, const std::string& module) {
    for (std::size_t i = first; i < network_.nodes.size(); ++i) network_.nodes[i].module = module;
}

Network NetworkBuilder::finish(std::size_t output) {
    network_.nodes.resize(output + 1);
    return std::move(network_);
}

void NetworkBuilder::set_input(const std::string& name, const Shape& item) {
    assert(network_.nodes.empty());
    network_.input = item;
    add(name, Input{}, {});
}

View NetworkBuilder::view(std::size_t node, const std::vector<int>& axes) const {
    View view{.node = node};
    for (const int axis : axes) {
        const bool counts = axis == batch_axis || shapes_[node][static_cast<std::size_t>(axis)] > 1;
        view.dims.push_back(counts ? std::vector<int>{axis} : std::vector<int>{});
    }
    return view;
}

Shape NetworkBuilder::sizes(const View& view, std::int64_t batch) const {
    Shape sizes;
    for (const auto& dim : view.dims) {
        std::int64_t size = 1;
        for (const int axis : dim)
            size *= axis == batch_axis ? batch : shapes_[view.node][static_cast<std::size_t>(axis)];
        sizes.push_back(size);
    }
    return sizes;
}

std::vector<int> NetworkBuilder::order_of(const View& view) const {
    std::vector<int> natural;
    for (std::size_t d = 0; d < view.dims.size(); ++d)
        if (!is_batch(view.dims[d])) natural.push_back(static_cast<int>(d));
    const auto first_axis = [&](int dim) {
        const auto axes = without_batch(view.dims[static_cast<std::size_t>(dim)]);
        return axes.empty() ? -1 : axes.front();
    };
    const auto lies_so = [&](const std::vector<int>& order) {
        int last = -1;
        for (const int dim : order) {
            const int axis = first_axis(dim);
            if (axis >= 0 && axis < last) return false;
            last = std::max(last, axis);
        }
        return true;
    };
    const std::vector<int> channels_last = {2, 3, 1};
    if (natural == std::vector<int>{1, 2, 3} && lies_so(channels_last)) return channels_last;
    if (lies_so(natural)) return natural;
    std::stable_sort(natural.begin(), natural.end(), [&](int a, int b) {
        const auto key = [&](int dim) { return first_axis(dim) < 0 ? 1 << 20 : first_axis(dim); };
        return key(a) < key(b);
    });
    return natural;
}

std::size_t NetworkBuilder::arrange(const View& view, const Groups& groups, const std::string& name) {
    const auto key = std::make_pair(view.node, groups);
    if (const auto known = arranged_.find(key); known != arranged_.end()) return known->second;
    std::vector<std::int64_t> order;
    Shape wanted;
    for (const auto& group : groups) {
        wanted.push_back(1);
        for (const int axis : group) {
            order.push_back(axis);
            wanted.back() *= shapes_[view.node][static_cast<std::size_t>(axis)];
        }
    }
    std::size_t node = view.node;
    if (!std::is_sorted(order.begin(), order.end())) {
        // The whole image in one row, channels first, has an operator of its own.
        if (groups.size() == 1 && order == std::vector<std::int64_t>{2, 0, 1}) {
            node = add(view.reshape_name.empty() ? name + ":shape" : view.reshape_name, Flatten{}, {node});
        } else {
            for (std::int64_t axis = 0; axis < std::ssize(shapes_[node]); ++axis)
                if (std::find(order.begin(), order.end(), axis) == order.end()) order.push_back(axis);
            node = add(view.transpose_name.empty() ? name + ":order" : view.transpose_name, Transpose{order},
                       {node});
        }
    }
    if (shapes_[node] != wanted) {
        const std::string called = view.reshape_name.empty() ? name + ":shape" : view.reshape_name;
        const bool flattens = shapes_[node].size() == 3 && wanted.size() == 1 && order.size() <= 1;
        node = flattens ? add(called, Flatten{}, {node}) : add(called, Reshape{wanted}, {node});
    }
    arranged_.emplace(key, node);
    return node;
}

std::size_t NetworkBuilder::place(const View& view, const std::vector<int>& order, const std::string& name) {
    Groups groups;
    for (const int dim : order) groups.push_back(without_batch(view.dims[static_cast<std::size_t>(dim)]));
    return arrange(view, groups, name);
}

View NetworkBuilder::placed(const View& from, std::size_t node, const std::vector<int>& order) const {
    View result{.node = node, .dims = from.dims};
    for (std::size_t axis = 0; axis < order.size(); ++axis) {
        auto& dim = result.dims[static_cast<std::size_t>(order[axis])];
        const bool before = !dim.empty() && dim.front() == batch_axis;
        const bool behind = dim.size() > 1 && dim.back() == batch_axis;
        dim.clear();
        if (before) dim.push_back(batch_axis);
        if (shapes_[node][axis] > 1) dim.push_back(static_cast<int>(axis));
        if (behind) dim.push_back(batch_axis);
    }
    return result;
}

View NetworkBuilder::with_last(const View& view, const std::vector<int>& dims, const std::string& name) {
    const Shape& shape = shapes_[view.node];
    std::vector<int> last;
    for (const int dim : dims) {
        const auto& axes = view.dims[static_cast<std::size_t>(dim)];
        if (std::find(axes.begin(), axes.end(), batch_axis) != axes.end())
            throw InputError("operates along the batch dimension; Jevrin treats every image independently");
        last.insert(last.end(), axes.begin(), axes.end());
    }
    Groups groups;
    std::vector<int> moved(shape.size(), -1);  // where each axis goes
    for (int axis = 0; axis < static_cast<int>(shape.size()); ++axis) {
        if (std::find(last.begin(), last.end(), axis) != last.end()) continue;
        if (shape[static_cast<std::size_t>(axis)] == 1) continue;
        moved[static_cast<std::size_t>(axis)] = static_cast<int>(groups.size());
        groups.push_back({axis});
    }
    const auto first_last = static_cast<int>(groups.size());
    for (const int dim : dims) groups.push_back(view.dims[static_cast<std::size_t>(dim)]);
    View result = view;
    result.node = arrange(view, groups, name);
    for (auto& dim : result.dims)
        for (int& axis : dim)
            if (axis != batch_axis) axis = moved[static_cast<std::size_t>(axis)];
    for (std::size_t i = 0; i < dims.size(); ++i) {
        auto& dim = result.dims[static_cast<std::size_t>(dims[i])];
        if (!dim.empty()) dim = {first_last + static_cast<int>(i)};
    }
    if (result.node != view.node) result.transpose_name = result.reshape_name = "";
    return result;
}

// Cuts an axis in two, the slower one of this length.
void NetworkBuilder::split_axis(View& view, int axis, std::int64_t first, const std::string& name) {
    Shape shape = shapes_[view.node];
    const auto at = static_cast<std::size_t>(axis);
    const std::int64_t rest = shape[at] / first;
    shape[at] = first;
    shape.insert(shape.begin() + axis + 1, rest);
    view.node = add(name, Reshape{shape}, {view.node});
    for (auto& dim : view.dims) {
        std::vector<int> renamed;
        for (const int a : dim) {
            renamed.push_back(a > axis ? a + 1 : a);
            if (a == axis) renamed.push_back(axis + 1);
        }
        dim = renamed;
    }
}

bool NetworkBuilder::regroup(View& view, const Shape& target, std::int64_t batch, const std::string& name) {
    std::vector<int> factors;
    for (const auto& dim : view.dims) factors.insert(factors.end(), dim.begin(), dim.end());
    const auto length = [&](int axis) {
        return axis == batch_axis ? batch : shapes_[view.node][static_cast<std::size_t>(axis)];
    };
    std::vector<std::vector<int>> dims;
    std::size_t next = 0;
    for (const std::int64_t size : target) {
        dims.emplace_back();
        std::int64_t missing = size;
        while (next < factors.size()) {
            const std::int64_t has = length(factors[next]);
            // A batch that is stated as one image joins the dimension before it when the features are next,
            // which are never the batch, and the one behind it otherwise.
            const bool nominal = has == 1;
            const bool features_next = dims.size() + 1 == target.size();
            if (missing == 1 && !(nominal && (dims.back().empty() || features_next))) break;
            if (missing % has == 0) {
                missing /= has;
                dims.back().push_back(factors[next++]);
                if (nominal && missing == 1) break;
                continue;
            }
            if (has % missing != 0 || factors[next] == batch_axis) return false;
            const int axis = factors[next];
            split_axis(view, axis, missing, name);
            for (auto& dim : dims)
                for (int& a : dim)
                    if (a > axis) ++a;
            for (int& factor : factors)
                if (factor > axis) ++factor;
            factors.insert(factors.begin() + static_cast<std::ptrdiff_t>(next) + 1, axis + 1);
        }
        if (missing != 1) return false;
    }
    if (next != factors.size()) return false;
    view.dims = std::move(dims);
    return true;
}

View NetworkBuilder::reshape(const View& from, const Shape& target, std::int64_t batch,
                             const std::string& name) {
    View view = from;
    const std::size_t before = network_.nodes.size();
    if (regroup(view, target, batch, name)) {
        if (network_.nodes.size() == before) view.reshape_name = name;
        return view;
    }
    // Lengths that do not nest: everything in one row, then cut anew.
    for (std::size_t i = network_.nodes.size(); i > before; --i) {
        names_.erase(network_.nodes.back().name);
        network_.nodes.pop_back();
        shapes_.pop_back();
    }
    const bool batched = !from.dims.empty() && is_batch(from.dims[0]);
    if (batched && (target.empty() || target[0] != batch))
        throw InputError(
            fmt::format("gives {} the shape {}, which mixes the images of a batch; Jevrin treats each "
                        "image independently",
                        to_string(sizes(from, 1)), to_string(target)));
    std::vector<int> all;
    for (std::size_t d = batched ? 1 : 0; d < from.dims.size(); ++d)
        for (const int axis : from.dims[d]) {
            if (axis == batch_axis) throw InputError("mixes the images of a batch, which is not supported");
            all.push_back(axis);
        }
    const std::size_t row = arrange(from, {all}, name);
    const Shape item(target.begin() + (batched ? 1 : 0), target.end());
    const std::size_t cut = add(name, Reshape{item}, {row});
    std::vector<int> axes(item.size());
    std::iota(axes.begin(), axes.end(), 0);
    if (batched) axes.insert(axes.begin(), batch_axis);
    return this->view(cut, axes);
}

}  // namespace jevrin::inline v1
