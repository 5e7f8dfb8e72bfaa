#include "jevrin/graph/feature_place.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/dominators.hpp"
#include "jevrin/graph/operator_description.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <optional>
#include <set>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

// What a classifier may do with the sums of its last layer.
enum class Closing { no, plain, softmax, pooling };

// "head.hidden1", "head.classes", and what reading adds to them ("head.classes:shape").
bool is_own_head(const Node& node) {
    if (!node.name.starts_with("head.")) return false;
    const std::string_view role = std::string_view(node.name).substr(5);
    return std::ranges::any_of(std::array{"hidden", "relu", "activation", "dropout_", "classes"},
                               [&](const char* own) { return role.starts_with(own); });
}

class FeatureSearch {
  public:
    explicit FeatureSearch(const Network& network)
        : network_(network), shapes_(infer_shapes(network)), dominators_(network) {}

    FeaturePlace find() const {
        if (auto place = before_own_head()) return *place;
        if (auto place = before_classifier(false)) return *place;
        if (ends_in_softmax())
            if (auto place = before_classifier(true)) return *place;
        return output();
    }

  private:
    const Node& node(std::size_t i) const { return network_.nodes[i]; }
    std::string called(std::size_t i) const { return fmt::format("'{}'", printable(node(i).name)); }

    Closing closing(std::size_t i) const {
        const Operator& op = node(i).op;
        if (std::holds_alternative<Softmax>(op)) return Closing::softmax;
        if (std::holds_alternative<GlobalAveragePooling>(op) || std::holds_alternative<Reduction>(op) ||
            std::holds_alternative<AveragePooling>(op) || is_activation(op, FunctionKind::relu))
            return Closing::pooling;
        const bool plain = std::holds_alternative<Dropout>(op) || std::holds_alternative<Reshape>(op) ||
                           std::holds_alternative<Flatten>(op) || std::holds_alternative<Transpose>(op) ||
                           std::holds_alternative<Arithmetic>(op) ||
                           std::holds_alternative<Concatenate>(op) || std::holds_alternative<Slice>(op) ||
                           std::holds_alternative<Gather>(op) || is_activation(op, FunctionKind::sigmoid) ||
                           is_activation(op, FunctionKind::identity);
        return plain ? Closing::plain : Closing::no;
    }

    // A weighted layer whose result is one number for each class.
    bool may_classify(std::size_t i, bool pooled) const {
        const Operator& op = node(i).op;
        if (std::holds_alternative<Dense>(op))
            return pooled || element_count(shapes_[i]) == shapes_[i].back();
        if (!std::holds_alternative<Convolution>(op)) return false;
        const Shape& before = shapes_[node(i).inputs[0]];
        return pooled || (before[0] * before[1] == 1 && shapes_[i][0] * shapes_[i][1] == 1);
    }

    // The nodes behind which only closing ones stand, when all of them may classify.
    std::vector<std::size_t> classifiers(bool pooled) const {
        std::set<std::size_t> wanted = {network_.nodes.size() - 1};
        std::vector<std::size_t> found;
        while (!wanted.empty()) {
            const std::size_t i = *wanted.rbegin();
            wanted.erase(i);
            if (!dominators_.depends_on_image(i)) continue;
            const Closing kind = closing(i);
            if (kind == Closing::no || (kind == Closing::pooling && !pooled)) {
                if (!may_classify(i, pooled)) return {};
                found.push_back(i);
                continue;
            }
            wanted.insert(node(i).inputs.begin(), node(i).inputs.end());
        }
        return found;
    }

    bool ends_in_softmax() const {
        std::size_t i = network_.nodes.size() - 1;
        while (closing(i) == Closing::plain && node(i).inputs.size() == 1) i = node(i).inputs[0];
        return closing(i) == Closing::softmax;
    }

    std::optional<FeaturePlace> before_classifier(bool pooled) const {
        const std::vector<std::size_t> last = classifiers(pooled);
        if (last.empty()) return std::nullopt;
        std::size_t place = node(last[0]).inputs[0];
        for (const std::size_t i : last) place = dominators_.common(place, node(i).inputs[0]);
        FeaturePlace result{.node = place, .head = *std::min_element(last.begin(), last.end()), .why = {}};
        const bool dense = std::holds_alternative<Dense>(node(last[0]).op);
        if (last.size() == 1) {
            result.why = fmt::format("the input of the last {} {}", dense ? "dense layer" : "convolution",
                                     called(last[0]));
        } else {
            std::vector<std::string> names;
            for (const std::size_t i : last) names.push_back(called(i));
            result.why = fmt::format("the last value before the classifiers {}", fmt::join(names, " and "));
            result.unusual = "several classifiers are joined at its end";
        }
        if (!has_weights_before(place))
            result.unusual = fmt::format("no convolution and no dense layer stands before {}", called(place));
        return result;
    }

    bool has_weights_before(std::size_t place) const {
        for (std::size_t i = 1; i <= place; ++i)
            if (describe(node(i).op).has_weight()) return true;
        return false;
    }

    // What append_head() added goes as a whole, hidden layers included.
    std::optional<FeaturePlace> before_own_head() const {
        std::size_t head = network_.nodes.size();
        while (head > 1 && is_own_head(node(head - 1))) --head;
        if (head == network_.nodes.size() || node(head).inputs.empty()) return std::nullopt;
        return FeaturePlace{node(head).inputs[0], head,
                            fmt::format("the input of the head, which begins at {}", called(head))};
    }

    FeaturePlace output() const {
        const std::size_t last = network_.nodes.size() - 1;
        FeaturePlace result{
            .node = last,
            .why = fmt::format("the output {}, because no classifier stands at its end", called(last))};
        const std::vector<std::size_t> pooled = classifiers(true);
        if (ends_in_softmax())
            result.unusual = "it ends in a softmax, and no layer before it makes the classes";
        else if (!pooled.empty())
            result.unusual = fmt::format(
                "{} may be a classifier whose scores are pooled; if it is one, set 'features' to the layer "
                "before it",
                called(pooled[0]));
        return result;
    }

    const Network& network_;
    std::vector<Shape> shapes_;
    Dominators dominators_;
};

}  // namespace

FeaturePlace find_features(const Network& network) {
    return FeatureSearch(network).find();
}

Network without_head(const Network& network, const FeaturePlace& features) {
    Network result = network_until(network, features.node);
    const Shape shape = infer_shapes(result).back();
    const std::size_t last = result.nodes.size() - 1;
    if (shape.size() == 1) return result;
    if (shape.size() == 3) {
        const bool one_place = shape[0] * shape[1] == 1;
        const std::size_t x =
            one_place ? last : result.add("features.average", GlobalAveragePooling{}, {last});
        result.add("features.flatten", Flatten{}, {x});
    } else if (shape.size() == 2) {
        result.add("features.average", Reduction{ReductionKind::mean, {0}, false}, {last});
    } else {
        throw InputError(
            fmt::format("the value at '{}' is {}, which is neither a vector, an image nor rows of "
                        "tokens; name another node",
                        printable(result.nodes[last].name), to_string(shape)));
    }
    return result;
}

}  // namespace jevrin::inline v1
