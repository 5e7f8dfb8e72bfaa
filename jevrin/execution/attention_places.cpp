#include "jevrin/execution/attention_places.hpp"

#include <algorithm>
#include <optional>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// How the elements of a value lie in that of an earlier node, and what they are multiplied by.
struct Layout {
    std::size_t source = 0;
    std::int64_t offset = 0;
    Shape shape;
    std::vector<std::int64_t> strides;
    float scale = 1.0F;
};

std::vector<std::int64_t> dense_strides(const Shape& shape) {
    std::vector<std::int64_t> strides(shape.size(), 1);
    for (std::size_t d = shape.size(); d-- > 1;) strides[d - 1] = strides[d] * shape[d];
    return strides;
}

void take_places(Layout& layout, std::size_t axis, const Stretch& stretch) {
    layout.offset += stretch.start * layout.strides[axis];
    layout.strides[axis] *= stretch.step;
    layout.shape[axis] = stretch.count;
}

// Each of these changes a layout into that of the operator's result, or returns false.
bool rearrange(Layout& layout, const Slice& op, const Shape&) {
    for (std::size_t d = 0; d < op.stretches.size(); ++d) take_places(layout, d, op.stretches[d]);
    return true;
}
bool rearrange(Layout& layout, const Gather& op, const Shape&) {
    const std::vector<std::int64_t>& places = op.places;
    const std::int64_t step = places.size() > 1 ? places[1] - places[0] : 1;
    for (std::size_t i = 1; i < places.size(); ++i)
        if (step == 0 || places[i] - places[i - 1] != step) return false;
    take_places(layout, static_cast<std::size_t>(op.axis), {places[0], step, std::ssize(places)});
    return true;
}
bool rearrange(Layout& layout, const Transpose& op, const Shape&) {
    const Layout before = layout;
    for (std::size_t d = 0; d < op.permutation.size(); ++d) {
        const auto from = static_cast<std::size_t>(op.permutation[d]);
        layout.shape[d] = before.shape[from];
        layout.strides[d] = before.strides[from];
    }
    return true;
}
// Old and new dimensions are matched in groups of the same size; the old ones of a group must lie behind each
// other as in one dimension.
bool rearrange(Layout& layout, const Reshape&, const Shape& shape) {
    std::vector<std::int64_t> strides(shape.size(), 0);
    std::size_t old_begin = 0;
    std::size_t begin = 0;
    while (begin < shape.size() || old_begin < layout.shape.size()) {
        std::size_t old_end = old_begin;
        std::size_t end = begin;
        std::int64_t old_size = 1;
        std::int64_t size = 1;
        std::int64_t stride = 1;  // of the last old dimension with more than one place
        do {
            if (end == shape.size() || (old_size < size && old_end < layout.shape.size())) {
                const std::int64_t places = layout.shape[old_end];
                if (places > 1) {
                    const bool follows = old_size == 1 || stride == layout.strides[old_end] * places;
                    if (!follows) return false;
                    stride = layout.strides[old_end];
                }
                old_size *= places;
                ++old_end;
            } else {
                size *= shape[end++];
            }
        } while (old_size != size);
        for (std::size_t d = end; d-- > begin;) {
            strides[d] = stride;
            stride *= shape[d];
        }
        old_begin = old_end;
        begin = end;
    }
    layout.shape = shape;
    layout.strides = std::move(strides);
    return true;
}

class Finder {
  public:
    Finder(const Network& network, const std::vector<Shape>& shapes)
        : network_(network),
          shapes_(shapes),
          users_(network.nodes.size()),
          is_last_(network.nodes.size(), false) {
        for (std::size_t i = 0; i < network.nodes.size(); ++i)
            for (const std::size_t input : network.nodes[i].inputs) users_[input].push_back(i);
    }

    AttentionPlaces find() {
        AttentionPlaces result;
        std::vector<bool>& absorbed = result.absorbed;
        absorbed.assign(network_.nodes.size(), false);
        std::vector<bool> read(network_.nodes.size(), false);
        for (std::size_t i = 1; i < network_.nodes.size(); ++i) {
            std::optional<AttentionPlace> place = attention_at(i, absorbed);
            if (!place) continue;
            for (const std::size_t source : place->sources) read[source] = true;
            is_last_[place->last] = true;
            result.places.push_back(std::move(*place));
        }
        // What only absorbed nodes used is not needed either.
        for (std::size_t i = network_.nodes.size() - 1; i-- > 1;) {
            const bool goes = rearranges(i) || is<Constant>(i) || factor(i).has_value();
            if (goes && !read[i] && !users_[i].empty() &&
                std::ranges::all_of(users_[i], [&](std::size_t user) { return absorbed[user]; }))
                absorbed[i] = true;
        }
        std::ranges::sort(result.places, {}, &AttentionPlace::last);
        return result;
    }

  private:
    template <typename Op>
    const Op* as(std::size_t i) const {
        return std::get_if<Op>(&network_.nodes[i].op);
    }
    template <typename Op>
    bool is(std::size_t i) const {
        return as<Op>(i) != nullptr;
    }
    bool rearranges(std::size_t i) const {
        return is<Slice>(i) || is<Gather>(i) || is<Transpose>(i) || is<Reshape>(i);
    }
    // Its only user, or nothing.
    std::optional<std::size_t> only_user(std::size_t i) const {
        return users_[i].size() == 1 ? std::optional(users_[i][0]) : std::nullopt;
    }

    // A product of a value with a number that does not train: the number, and the node of the value.
    struct Factor {
        float number = 1.0F;
        std::size_t of = 0;
    };
    std::optional<Factor> factor(std::size_t i) const {
        const auto* op = as<Arithmetic>(i);
        if (op == nullptr || op->rectified) return std::nullopt;
        const bool divides = op->kind == ArithmeticKind::divide;
        if (!divides && op->kind != ArithmeticKind::multiply) return std::nullopt;
        const std::vector<std::size_t>& inputs = network_.nodes[i].inputs;
        for (const std::size_t side : {std::size_t{1}, std::size_t{0}}) {
            const auto* constant = as<Constant>(inputs[side]);
            if (constant == nullptr || constant->trained || element_count(shapes_[inputs[side]]) != 1 ||
                shapes_[inputs[1 - side]] != shapes_[i] || (divides && side == 0))
                continue;
            const float number = network_.nodes[inputs[side]].parameters[0].data()[0];
            return Factor{divides ? 1.0F / number : number, inputs[1 - side]};
        }
        return std::nullopt;
    }

    // The layout of a node's value in the earliest value that it can be read from.
    Layout layout_of(std::size_t i, bool through_factors) const {
        const Node& node = network_.nodes[i];
        if (const auto times = through_factors ? factor(i) : std::nullopt) {
            Layout layout = layout_of(times->of, true);
            layout.scale *= times->number;
            return layout;
        }
        if (rearranges(i) && !is_last_[i]) {
            Layout layout = layout_of(node.inputs[0], through_factors);
            const auto into = [&](const auto* op) {
                return op != nullptr && rearrange(layout, *op, shapes_[i]);
            };
            if (into(as<Slice>(i)) || into(as<Gather>(i)) || into(as<Transpose>(i)) || into(as<Reshape>(i)))
                return layout;
        }
        return {i, 0, shapes_[i], dense_strides(shapes_[i])};
    }

    // The rows of each head in a layout of [heads..., rows, columns], or of [heads..., columns, rows].
    std::optional<HeadRows> head_rows(const Layout& layout, bool turned) const {
        const std::size_t last = layout.shape.size() - 1;
        const std::size_t row = turned ? last : last - 1;
        const std::size_t column = turned ? last - 1 : last;
        const std::int64_t width = layout.shape[column];
        HeadRows rows{element_count(shapes_[layout.source]), layout.strides[row], {layout.offset}};
        if (layout.shape[row] == 1) rows.row_stride = width;
        if ((width > 1 && layout.strides[column] != 1) || rows.row_stride < width) return std::nullopt;
        for (std::size_t d = 0; d + 1 < last; ++d) {
            std::vector<std::int64_t> more;
            for (const std::int64_t head : rows.heads)
                for (std::int64_t p = 0; p < layout.shape[d]; ++p)
                    more.push_back(head + p * layout.strides[d]);
            rows.heads = std::move(more);
        }
        return rows;
    }

    // Whether operands share no element; sets which sources they read whole.
    bool mark_elements(AttentionPlace& place) const {
        std::vector<std::vector<bool>> marks;
        for (const std::size_t source : place.sources)
            marks.emplace_back(static_cast<std::size_t>(element_count(shapes_[source])), false);
        const auto mark = [&](std::size_t source, const HeadRows& rows, std::int64_t count,
                              std::int64_t width) {
            for (const std::int64_t head : rows.heads)
                for (std::int64_t r = 0; r < count; ++r)
                    for (std::int64_t c = 0; c < width; ++c) {
                        auto element =
                            marks[source][static_cast<std::size_t>(head + r * rows.row_stride + c)];
                        if (element) return false;
                        element = true;
                    }
            return true;
        };
        const AttentionShape& s = place.shape;
        if (!mark(place.query, s.query, s.queries, s.depth) || !mark(place.key, s.key, s.keys, s.depth) ||
            !mark(place.value, s.value, s.keys, s.value_depth))
            return false;
        for (const std::vector<bool>& of_source : marks)
            place.covers.push_back(std::ranges::find(of_source, false) == of_source.end());
        return true;
    }

    // The attention whose scores are the product at a node. Marks what it absorbs.
    std::optional<AttentionPlace> attention_at(std::size_t scores, std::vector<bool>& absorbed) const {
        if (!is<MatrixProduct>(scores) || shapes_[scores].size() < 2) return std::nullopt;
        std::vector<std::size_t> nodes = {scores};
        float scale = 1.0F;
        std::optional<std::size_t> next = only_user(scores);
        while (next) {
            const auto times = factor(*next);
            if (!times) break;
            scale *= times->number;
            nodes.push_back(*next);
            next = only_user(*next);
        }
        const auto* softmax = next ? as<Softmax>(*next) : nullptr;
        if (softmax == nullptr || softmax->logarithm || softmax->axis + 1 != std::ssize(shapes_[*next]))
            return std::nullopt;
        nodes.push_back(*next);
        const std::size_t weights = *next;
        next = only_user(weights);
        if (!next || !is<MatrixProduct>(*next) || network_.nodes[*next].inputs[0] != weights ||
            network_.nodes[*next].inputs[1] == weights)
            return std::nullopt;
        AttentionPlace place{.product = *next, .last = *next};
        nodes.push_back(*next);

        const Layout query = layout_of(network_.nodes[scores].inputs[0], true);
        const Layout key = layout_of(network_.nodes[scores].inputs[1], true);
        const Layout value = layout_of(network_.nodes[place.product].inputs[1], false);
        const auto query_rows = head_rows(query, false);
        const auto key_rows = head_rows(key, true);
        const auto value_rows = head_rows(value, false);
        if (!query_rows || !key_rows || !value_rows) return std::nullopt;
        const Shape& mixed = shapes_[place.product];
        place.shape = {.queries = mixed[mixed.size() - 2],
                       .keys = shapes_[scores].back(),
                       .depth = query.shape.back(),
                       .value_depth = mixed.back(),
                       .scale = scale * query.scale * key.scale,
                       .query = *query_rows,
                       .key = *key_rows,
                       .value = *value_rows};
        place.shape.output = output_rows(place, nodes);
        const auto source_of = [&](const Layout& layout) {
            const auto found = std::ranges::find(place.sources, layout.source);
            if (found == place.sources.end()) place.sources.push_back(layout.source);
            return static_cast<std::size_t>(std::ranges::find(place.sources, layout.source) -
                                            place.sources.begin());
        };
        place.query = source_of(query);
        place.key = source_of(key);
        place.value = source_of(value);
        if (!mark_elements(place)) return std::nullopt;
        for (const std::size_t node : nodes) absorbed[node] = true;
        return place;
    }

    // Where the rows of the output lie: a transposition and changes of shape behind the last product belong
    // to the step where rows stay whole.
    HeadRows output_rows(AttentionPlace& place, std::vector<std::size_t>& nodes) const {
        const Shape& mixed = shapes_[place.product];
        Layout layout{place.product, 0, mixed, dense_strides(mixed)};
        const auto follow = [&](std::size_t node) {
            nodes.push_back(node);
            place.last = node;
        };
        std::optional<std::size_t> next = only_user(place.product);
        if (const auto* turn = next ? as<Transpose>(*next) : nullptr) {
            const std::vector<std::int64_t> strides = dense_strides(shapes_[*next]);
            Layout turned = layout;
            for (std::size_t d = 0; d < strides.size(); ++d)
                turned.strides[static_cast<std::size_t>(turn->permutation[d])] = strides[d];
            if (head_rows(turned, false)) {
                layout = turned;
                follow(*next);
                next = only_user(*next);
            }
        }
        while (next && is<Reshape>(*next)) {
            follow(*next);
            next = only_user(*next);
        }
        return *head_rows(layout, false);
    }

    const Network& network_;
    const std::vector<Shape>& shapes_;
    std::vector<std::vector<std::size_t>> users_;
    std::vector<bool> is_last_;  // of the attention found so far
};

}  // namespace

AttentionPlaces find_attention(const Network& network, const std::vector<Shape>& shapes) {
    return Finder(network, shapes).find();
}

}  // namespace jevrin::inline v1
