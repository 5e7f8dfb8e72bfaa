#include "jevrin/exchange/graph_selection.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_node.hpp"
#include "jevrin/graph/dominators.hpp"
#include "jevrin/graph/graph.hpp"
#include "jevrin/graph/stages.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <optional>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_nodes = 50'000;

// What a node reads, the values that its inner graphs take from around them included.
void add_read_values(const onnx::NodeProto& node, int depth, std::vector<std::string>& values) {
    for (const std::string& input : node.input())
        if (!input.empty()) values.push_back(input);
    if (depth > deepest_graph) GraphNode(node, 0).fail("its graphs are nested too deeply");
    for (const auto& attribute : node.attribute())
        for (const onnx::NodeProto& inner : attribute.g().node()) add_read_values(inner, depth + 1, values);
    for (const auto& attribute : node.attribute())
        for (const auto& output : attribute.g().output()) values.push_back(output.name());
}

class Selecting {
  public:
    explicit Selecting(const StoredModel& model) : model_(model) {
        for (std::size_t i = 0; i < model.nodes.size(); ++i)
            for (const std::string& made : model.nodes[i].proto.output()) {
                if (made.empty()) continue;
                if (!makers_.emplace(made, i).second || model.weights.count(made) != 0)
                    GraphNode(model.nodes[i])
                        .fail(fmt::format("the value '{}' is computed twice", printable(made)));
            }
    }

    GraphSelection select(const std::string& wanted) {
        GraphSelection selection;
        const std::optional<std::string> named = named_value(wanted);
        selection.named = named.has_value();
        selection.output = named ? *named : model_output();
        const std::set<std::size_t> needed = behind(selection.output);
        selection.nodes.assign(needed.begin(), needed.end());
        for (const std::size_t i : needed) {
            const std::vector<std::string> read = read_by(i);
            selection.values.insert(read.begin(), read.end());
        }
        selection.values.insert(selection.output);
        return selection;
    }

    void require_understood(const GraphSelection& selection, bool (*understands)(const onnx::NodeProto&)) {
        const auto& nodes = selection.nodes;
        if (nodes.size() > most_nodes)
            throw InputError(fmt::format("it has {} nodes; the limit is {}", nodes.size(), most_nodes));
        const auto weighted = std::ranges::count_if(nodes, [&](std::size_t i) {
            const std::string& type = model_.nodes[i].proto.op_type();
            return type == "Conv" || type == "Gemm" || type == "MatMul";
        });
        if (weighted > most_weighted_layers)
            throw InputError(fmt::format("it has {} convolutions and dense layers; the limit is {}", weighted,
                                         most_weighted_layers));
        std::vector<std::string> unsupported;
        for (const std::size_t i : nodes) {
            const onnx::NodeProto& node = model_.nodes[i].proto;
            if (understands(node)) continue;
            unsupported.push_back(
                fmt::format("{}{} at '{}'", is_standard(node) ? "" : printable(node.domain()) + ".",
                            printable(node.op_type()), printable(GraphNode(model_.nodes[i]).name())));
        }
        if (unsupported.empty()) return;
        const std::optional<std::string> place = last_usable(selection, understands);
        throw InputError(fmt::format(
            "{} of its nodes use operators that are not supported: {}{}", unsupported.size(),
            fmt::join(unsupported, ", "),
            place ? fmt::format(
                        "; they lie behind '{}': with features = \"{}\", or a layer before it, the file "
                        "can be read",
                        printable(*place), printable(*place))
                  : std::string()));
    }

  private:
    const onnx::NodeProto& node(std::size_t i) const { return model_.nodes[i].proto; }
    std::vector<std::string> read_by(std::size_t i) const {
        std::vector<std::string> values;
        add_read_values(node(i), 0, values);
        return values;
    }

    std::set<std::size_t> behind(const std::string& value) const {
        std::set<std::size_t> nodes;
        std::vector<std::string> wanted = {value};
        while (!wanted.empty()) {
            const auto maker = makers_.find(wanted.back());
            wanted.pop_back();
            if (maker == makers_.end() || !nodes.insert(maker->second).second) continue;
            add_read_values(node(maker->second), 0, wanted);
        }
        return nodes;
    }

    std::optional<std::string> named_value(const std::string& wanted) const {
        if (wanted.empty()) return std::nullopt;
        std::vector<std::string> names;
        for (const StoredNode& stored : model_.nodes) {
            if (stored.proto.output_size() == 0) continue;
            const std::string& name = GraphNode(stored).name();
            if (name == wanted || stored.proto.output(0) == wanted) return stored.proto.output(0);
            names.push_back(name);
        }
        if (may_be_module(wanted)) return std::nullopt;
        throw InputError(fmt::format("it has no node, module or stage called '{}'{}", printable(wanted),
                                     did_you_mean(wanted, names)));
    }

    bool may_be_module(const std::string& wanted) const {
        const std::string path = module_path(wanted);
        if (path.starts_with("block") && path.find_first_not_of("0123456789", 5) == std::string::npos)
            return true;
        const auto holds = [&](const std::string& name) {
            const std::string own = "." + module_path(name) + ".";
            const std::size_t at = path.empty() ? std::string::npos : own.find("." + path);
            return at != std::string::npos &&
                   std::string_view("._:").find(own[at + 1 + path.size()]) != std::string_view::npos;
        };
        return std::ranges::any_of(model_.nodes,
                                   [&](const StoredNode& n) { return holds(GraphNode(n).name()); }) ||
               std::ranges::any_of(model_.weights, [&](const auto& weight) { return holds(weight.first); });
    }

    // The dense layer whose result an output is, but for what may follow in a classifier.
    std::optional<std::size_t> classifier_behind(const std::string& output) const {
        static const std::set<std::string> between = {
            "Softmax", "LogSoftmax", "Sigmoid", "Identity", "Reshape", "Flatten", "Squeeze",
            "Cast",    "Dropout",    "Add",     "Mul",      "Div",     "Sub"};
        const auto* name = &output;
        for (std::size_t steps = 0; steps < model_.nodes.size(); ++steps) {
            const auto maker = makers_.find(*name);
            if (maker == makers_.end()) return std::nullopt;
            const onnx::NodeProto& made_by = node(maker->second);
            if (made_by.op_type() == "Gemm" || made_by.op_type() == "MatMul") return maker->second;
            if (!between.contains(made_by.op_type()) || made_by.input_size() == 0) return std::nullopt;
            const bool second = model_.weights.count(made_by.input(0)) != 0 && made_by.input_size() > 1;
            name = &made_by.input(second ? 1 : 0);
        }
        return std::nullopt;
    }

    std::string model_output() const {
        if (model_.outputs.size() == 1) return model_.outputs.front().name();
        struct Candidate {
            std::string output;
            std::size_t classifier = 0;
            std::set<std::size_t> behind;
        };
        std::vector<Candidate> candidates;
        for (const auto& output : model_.outputs)
            if (const auto classifier = classifier_behind(output.name()))
                candidates.push_back({output.name(), *classifier, behind(output.name())});
        std::ranges::stable_sort(candidates, {}, [](const Candidate& c) { return c.behind.size(); });
        // An auxiliary classifier reads what the last one reads too, somewhere before it.
        const auto lies_before = [&](const Candidate& one) {
            if (one.classifier == candidates.back().classifier) return true;
            const std::set<std::size_t> own = behind(node(one.classifier).input(0));
            const std::set<std::size_t> last = behind(node(candidates.back().classifier).input(0));
            return own.size() < last.size() &&
                   std::ranges::any_of(own, [&](std::size_t i) { return last.contains(i); });
        };
        if (!candidates.empty() && std::ranges::all_of(candidates, lies_before))
            return candidates.back().output;
        std::vector<std::string> names;
        for (const auto& output : model_.outputs)
            names.push_back(fmt::format("'{}'", printable(output.name())));
        throw InputError(fmt::format(
            "it has {} outputs ({}), and which of them classifies is not evident; name the one to use with "
            "'features', or export it alone",
            names.size(), fmt::join(names, ", ")));
    }

    // The last node that every way from the image to the output passes and before which all is understood.
    std::optional<std::string> last_usable(const GraphSelection& selection,
                                           bool (*understands)(const onnx::NodeProto&)) const {
        std::vector<std::vector<std::size_t>> inputs = {{}};
        std::vector<bool> usable = {true};
        std::map<std::string, std::size_t> makers;
        for (const auto& input : model_.inputs)
            if (model_.weights.count(input.name()) == 0) makers[input.name()] = 0;
        for (const std::size_t i : selection.nodes) {
            inputs.emplace_back();
            usable.push_back(understands(node(i)));
            for (const std::string& value : read_by(i)) {
                const auto maker = makers.find(value);
                if (maker == makers.end()) continue;
                inputs.back().push_back(maker->second);
                usable.back() = usable.back() && usable[maker->second];
            }
            for (const std::string& made : node(i).output()) makers[made] = inputs.size() - 1;
        }
        if (inputs.size() < 2) return std::nullopt;
        const Dominators dominators(inputs);
        if (!dominators.depends_on_image(inputs.size() - 1)) return std::nullopt;
        const std::vector<std::size_t> chain = dominators.chain(inputs.size() - 1);
        for (auto at = chain.rbegin(); at != chain.rend() && *at > 0; ++at)
            if (usable[*at]) return GraphNode(model_.nodes[selection.nodes[*at - 1]]).name();
        return std::nullopt;
    }

    const StoredModel& model_;
    std::map<std::string, std::size_t> makers_;
};

}  // namespace

GraphSelection select_nodes(const StoredModel& model, const std::string& output,
                            bool (*understands)(const onnx::NodeProto& node)) {
    Selecting selecting(model);
    GraphSelection selection = selecting.select(output);
    selecting.require_understood(selection, understands);
    return selection;
}

}  // namespace jevrin::inline v1
