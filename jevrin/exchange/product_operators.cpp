// Products of matrices in model files: read in all their spellings, and written.
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_reader.hpp"
#include "jevrin/exchange/model_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// Stored nodes that become something else than one operator.
struct SumOfProducts;
struct Attention;

}  // namespace

View GraphReader::product(const GraphNode& node, const View& a, const View& b, const std::string& role) {
    if (rank(a) < 2 || rank(a) != rank(b))
        node.fail(
            fmt::format("multiplies {} by {}; both must have the same number of dimensions, two or more",
                        to_string(builder_.sizes(a, 1)), to_string(builder_.sizes(b, 1))));
    std::vector<int> order;
    for (int d = 0; d < static_cast<int>(rank(a)); ++d) {
        const auto batch_in = [&](const View& v) { return holds_batch(v.dims[static_cast<std::size_t>(d)]); };
        const bool lead = d < static_cast<int>(rank(a)) - 2;
        if ((batch_in(a) || batch_in(b)) && !lead) node.fail("multiplies along the batch dimension");
        if (batch_in(a) != batch_in(b)) node.fail("its operands have different batch dimensions");
        const bool only_batch = batch_in(a) && a.dims[static_cast<std::size_t>(d)].size() == 1 &&
                                b.dims[static_cast<std::size_t>(d)].size() == 1;
        if (!only_batch) order.push_back(d);
    }
    const std::string name = node.name() + role;
    const std::size_t left = builder_.place(a, order, name + ":left");
    const std::size_t right = builder_.place(b, order, name + ":right");
    return builder_.placed(a, builder_.add(name, MatrixProduct{}, {left, right}), order);
}

template <>
void GraphReader::read_as<MatrixProduct>(const GraphNode& node) {
    node.expect_inputs(2, 2);
    if (is_dynamic(node, 0) && !is_dynamic(node, 1)) {
        const Weight stored = weight(node, 1);
        if (stored.shape.size() == 2 && rank(dynamic(node, 0)) >= 1) {
            Tensor matrix(stored.shape);
            stored.read(0, matrix.values());
            set(node, dense(node, dynamic(node, 0), std::move(matrix), {}, weight_names(node, {1})));
            return;
        }
    }
    // A constant operand is repeated along the leading dimensions of the other.
    const auto operand = [&](int input, const View& other) {
        if (is_dynamic(node, input)) return dynamic(node, input);
        const auto all = known(value(node, input));
        const auto lead = static_cast<std::ptrdiff_t>(rank(other)) - 2;
        Shape target = builder_.sizes(other, 1);
        std::vector<int> order;
        std::vector<int> axes;
        for (int d = 0; d < static_cast<int>(rank(other)); ++d) {
            const auto& dim = other.dims[static_cast<std::size_t>(d)];
            const bool batch = dim.size() == 1 && dim[0] == batch_axis;
            if (!batch) order.push_back(d);
            axes.push_back(batch ? batch_axis : static_cast<int>(order.size()) - 1);
        }
        if (lead < 0 || std::ssize(all->shape) > rank(other) || all->shape.size() < 2)
            node.fail("multiplies by a constant of an unsupported shape");
        std::copy(all->shape.end() - 2, all->shape.end(), target.end() - 2);
        Shape item;
        for (const int d : order) item.push_back(target[static_cast<std::size_t>(d)]);
        const std::int64_t matrix = element_count({all->shape.end() - 2, all->shape.end()});
        if (std::ssize(all->values) == element_count(item))
            return builder_.view(constant_node(node, node.input(input), *all, rank(other), order, false),
                                 axes);
        if (std::ssize(all->values) != matrix)
            node.fail("its constant is broadcast along some leading dimensions only, which is not supported");
        Tensor tensor = new_tensor(node, item);
        for (std::int64_t i = 0; i < tensor.size(); ++i)
            tensor.data()[i] = static_cast<float>(all->values[static_cast<std::size_t>(i % matrix)]);
        const bool stored = all->origin != Origin::none;
        return builder_.view(
            builder_.add(node.input(input), Constant{false, stored}, {}, {std::move(tensor)}), axes);
    };
    const View& base = is_dynamic(node, 0) ? dynamic(node, 0) : dynamic(node, 1);
    set(node, product(node, operand(0, base), operand(1, base)));
}

namespace {

// "ab,bc->ac": the letters of each operand, and of the result.
struct Equation {
    std::vector<std::string> operands;
    std::string result;
};

Equation parse_equation(const GraphNode& node) {
    std::string text = node.text("equation", "");
    std::erase(text, ' ');
    Equation equation;
    const std::size_t arrow = text.find("->");
    const std::string left = text.substr(0, arrow);
    for (std::size_t begin = 0; begin <= left.size();) {
        const std::size_t end = std::min(left.find(',', begin), left.size());
        equation.operands.push_back(left.substr(begin, end - begin));
        begin = end + 1;
    }
    const auto is_letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); };
    if (arrow != std::string::npos) {
        equation.result = text.substr(arrow + 2);
    } else {
        // In alphabetical order, what stands once.
        for (const char c : left)
            if (is_letter(c) && std::ranges::count(left, c) == 1) equation.result += c;
        std::ranges::sort(equation.result);
    }
    std::vector<std::string> all = equation.operands;
    all.push_back(equation.result);
    for (const std::string& letters : all)
        for (const char c : letters)
            if (!is_letter(c) || std::ranges::count(letters, c) != 1)
                node.fail(
                    fmt::format("its equation '{}' is not supported: each operand and the result need a "
                                "letter of their own for each dimension",
                                printable(text)));
    if (static_cast<int>(equation.operands.size()) != node.inputs())
        node.fail(fmt::format("its equation '{}' names {} and it has {}", printable(text),
                              plural(std::ssize(equation.operands), "operand"), node.inputs()));
    return equation;
}

// A constant whose dimensions have letters, as a matrix of some by others.
Tensor matrix_of(const GraphNode& node, const Folded& constant, const std::string& letters,
                 const std::string& rows, const std::string& columns) {
    const std::string wanted = rows + columns;
    Shape strides(letters.size(), 1);
    for (std::size_t d = letters.size(); d-- > 1;) strides[d - 1] = strides[d] * constant.shape[d];
    Shape shape;
    std::vector<std::int64_t> steps;
    Shape matrix = {1, 1};
    for (std::size_t d = 0; d < wanted.size(); ++d) {
        const std::size_t at = letters.find(wanted[d]);
        if (at == std::string::npos)
            node.fail("a dimension of its constant is not summed, which is not supported");
        shape.push_back(constant.shape[at]);
        steps.push_back(strides[at]);
        matrix[d < rows.size() ? 0 : 1] *= constant.shape[at];
    }
    if (element_count(matrix) != std::ssize(constant.values))
        node.fail("a dimension of its constant is in no other operand, which is not supported");
    Tensor result(matrix);
    Shape place(shape.size(), 0);
    for (float& element : result.values()) {
        std::int64_t from = 0;
        for (std::size_t d = 0; d < place.size(); ++d) from += place[d] * steps[d];
        element = static_cast<float>(constant.values[static_cast<std::size_t>(from)]);
        for (std::size_t d = place.size(); d-- > 0;) {
            if (++place[d] < shape[d]) break;
            place[d] = 0;
        }
    }
    return result;
}

}  // namespace

// Sums of products by letters: those of both operands and the result lead, those of both alone are summed.
template <>
void GraphReader::read_as<SumOfProducts>(const GraphNode& node) {
    node.expect_inputs(1, 2);
    const Equation equation = parse_equation(node);
    struct Operand {
        View view;
        std::string letters;
        std::vector<int> dim(char letter) const { return view.dims[letters.find(letter)]; }
    };
    // A constant comes second: the order of two factors does not matter.
    std::vector<int> places = {0, 1};
    if (node.inputs() == 2 && !is_dynamic(node, 0)) std::swap(places[0], places[1]);
    places.resize(static_cast<std::size_t>(node.inputs()));
    std::vector<Operand> operands;
    for (const int i : places) {
        View view = is_dynamic(node, i) ? dynamic(node, i)
                                        : constant_view(node, node.input(i), *known(value(node, i)));
        operands.push_back({view, equation.operands[static_cast<std::size_t>(i)]});
        if (rank(view) != std::ssize(operands.back().letters))
            node.fail(fmt::format("its equation names {} and gets {}",
                                  plural(std::ssize(operands.back().letters), "dimension"), rank(view)));
    }
    const auto in = [](const std::string& letters, char c) { return letters.find(c) != std::string::npos; };
    for (const char c : equation.result)
        if (std::ranges::none_of(operands, [&](const Operand& o) { return in(o.letters, c); }))
            node.fail("its result has a dimension that no operand has");
    // What stands in one operand alone is summed there.
    for (std::size_t i = 0; i < operands.size(); ++i) {
        std::set<int> gone;
        std::string kept;
        for (const char c : operands[i].letters) {
            const bool elsewhere = operands.size() > 1 && in(operands[1 - i].letters, c);
            if (in(equation.result, c) || elsewhere)
                kept += c;
            else
                gone.insert(static_cast<int>(operands[i].letters.find(c)));
        }
        if (gone.empty()) continue;
        operands[i].view = reduced_over(node, fmt::format("{}:sum{}", node.name(), i), ReductionKind::sum,
                                        operands[i].view, gone, false);
        operands[i].letters = kept;
    }
    Operand made = operands[0];
    if (operands.size() == 2) {
        const Operand& a = operands[0];
        const Operand& b = operands[1];
        std::map<char, std::int64_t> length;
        for (const Operand& o : operands)
            for (std::size_t d = 0; d < o.letters.size(); ++d) {
                const std::int64_t size = sizes(o.view)[d];
                const auto [place, is_new] = length.emplace(o.letters[d], size);
                if (!is_new && place->second != size && std::min(place->second, size) != 1)
                    node.fail(fmt::format("'{}' is {} in one operand and {} in the other", o.letters[d],
                                          place->second, size));
                if (!is_new && place->second != size) node.fail("broadcasts between its operands");
            }
        const auto is_constant = [&](const View& view) {
            return std::holds_alternative<Constant>(builder_.network().nodes[view.node].op);
        };
        // The batch stands before everything; it need not stand in a constant.
        std::string batch;
        std::string lead;
        std::string left;
        std::string right;
        std::string summed;
        for (const char c : a.letters) {
            const bool shared = in(b.letters, c);
            const bool is_batch = a.dim(c) == std::vector<int>{batch_axis};
            if (is_batch && (shared || is_constant(b.view)) && in(equation.result, c))
                batch += c;
            else if (!shared)
                left += c;
            else
                (in(equation.result, c) ? lead : summed) += c;
        }
        for (const char c : b.letters)
            if (!in(a.letters, c)) {
                const bool is_batch = b.dim(c) == std::vector<int>{batch_axis};
                (is_batch && is_constant(a.view) ? batch : right) += c;
            }
        const auto merged = [&](const Operand& o, const std::string& letters) {
            std::vector<int> axes;
            for (const char c : letters) {
                const std::vector<int> dim = o.dim(c);
                axes.insert(axes.end(), dim.begin(), dim.end());
            }
            return axes;
        };
        const auto arranged = [&](const Operand& o, const std::string& rows, const std::string& columns) {
            View view = o.view;
            view.dims = {batch.empty() ? std::vector<int>{} : std::vector<int>{batch_axis}};
            for (const char c : lead) view.dims.push_back(o.dim(c));
            view.dims.push_back(merged(o, rows));
            view.dims.push_back(merged(o, columns));
            return view;
        };
        View result;
        if (lead.empty() && is_constant(b.view) && !summed.empty() && !right.empty())
            result =
                dense(node, arranged(a, left, summed),
                      matrix_of(node, *known(value(node, places[1])), equation.operands[1], summed, right),
                      {}, weight_names(node, {places[1]}));
        else
            result = product(node, arranged(a, left, summed), arranged(b, summed, right));
        Shape whole = {batch.empty() ? 1 : batch_prime};
        made.letters = batch;
        for (const char c : lead + left + right) whole.push_back(length.at(c));
        result = builder_.reshape(result, whole, batch_prime, node.name() + ":letters");
        if (batch.empty()) result.dims.erase(result.dims.begin());
        made.view = result;
        made.letters += lead + left + right;
    }
    View result = made.view;
    result.dims.clear();
    for (const char c : equation.result) result.dims.push_back(made.dim(c));
    set(node, settled(node, result));
}

// softmax(scale Q K^T + mask) V of heads (Vaswani 2017).
template <>
void GraphReader::read_as<Attention>(const GraphNode& node) {
    node.expect_inputs(3, 6);
    for (int i = 0; i < 3; ++i) static_cast<void>(dynamic(node, i));
    if (node.has_input(4) || node.has_input(5)) node.fail("its past keys and values are not supported");
    if (node.number("softcap", 0.0F) != 0.0F) node.fail("its softcap is not supported");
    const std::string& name = node.name();
    const bool flat = rank(dynamic(node, 0)) == 3;
    // [batch, heads, tokens, depth]
    const auto heads_of = [&](int input, const char* heads_attribute) {
        View view = dynamic(node, input);
        if (rank(view) != (flat ? 3 : 4)) node.fail("its inputs differ in their number of dimensions");
        if (!flat) return view;
        const std::int64_t heads = node.integer(heads_attribute, 0);
        const Shape s = sizes(view);
        if (heads < 1 || s[2] % heads != 0) node.fail("its number of heads does not divide its features");
        view = builder_.reshape(view, {s[0], s[1], heads, s[2] / heads}, batch_prime,
                                fmt::format("{}:heads{}", name, input));
        std::swap(view.dims[1], view.dims[2]);
        return view;
    };
    const View q = heads_of(0, "q_num_heads");
    View k = heads_of(1, "kv_num_heads");
    const View v = heads_of(2, "kv_num_heads");
    if (sizes(q)[1] != sizes(k)[1]) node.fail("its keys have fewer heads than its queries");
    const std::int64_t tokens = sizes(q)[2];
    const std::int64_t others = sizes(k)[2];
    const float scale =
        node.number("scale", 1.0F / std::sqrt(static_cast<float>(std::max<std::int64_t>(1, sizes(q)[3]))));
    std::swap(k.dims[2], k.dims[3]);
    View scores = product(node, q, k, ":scores");
    scores = with_number(name + ":scaled", ArithmeticKind::multiply, scores, scale);
    const auto add_mask = [&](const char* role, Folded mask) {
        for (double& m : mask.values)
            m = std::max(m, static_cast<double>(std::numeric_limits<float>::lowest() / 4.0F));
        scores = with_constant(node, name + role, ArithmeticKind::add, scores, mask);
    };
    if (node.has_input(3)) {
        const auto mask = known(value(node, 3));
        if (!mask) node.fail("its mask depends on the image");
        Folded added = *mask;
        if (added.whole)
            for (double& m : added.values) m = m != 0.0 ? 0.0 : -std::numeric_limits<double>::infinity();
        added.whole = false;
        add_mask(":mask", added);
    }
    if (node.integer("is_causal", 0) != 0) {
        if (tokens * others > largest_dimension) node.fail("its causal mask is too large");
        Folded mask{.shape = {tokens, others}, .values = {}};
        for (std::int64_t r = 0; r < tokens; ++r)
            for (std::int64_t c = 0; c < others; ++c)
                mask.values.push_back(c > r ? -std::numeric_limits<double>::infinity() : 0.0);
        add_mask(":causal", mask);
    }
    View weights = builder_.with_last(scores, {3}, name + ":last");
    const std::int64_t last = std::ssize(builder_.shape(weights.node)) - 1;
    if (!weights.dims[3].empty())
        weights.node = builder_.add(name + ":weights", Softmax{last, false}, {weights.node});
    View result = product(node, weights, v);
    if (flat) {
        std::swap(result.dims[1], result.dims[2]);
        const Shape s = sizes(result);
        result = builder_.reshape(result, {s[0], s[1], s[2] * s[3]}, batch_prime, name + ":whole");
    }
    set(node, result);
}

void GraphReader::put_products(Table& table) {
    table.insert({
        {"Attention", &GraphReader::read_as<Attention>},
        {"Einsum", &GraphReader::read_as<SumOfProducts>},
        {"MatMul", &GraphReader::read_as<MatrixProduct>},
    });
}

template <>
void ModelWriter::write(std::size_t i, const MatrixProduct&) {
    std::vector<std::string> inputs;
    for (const std::size_t input : network_.nodes[i].inputs)
        inputs.push_back(is_constant(input) ? name(input) : as(input, Layout::plain));
    add("MatMul", name(i), inputs);
}

void ModelWriter::put_products(Table& table) {
    put<MatrixProduct>(table);
}

}  // namespace jevrin::inline v1
