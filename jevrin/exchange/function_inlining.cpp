#include "jevrin/exchange/function_inlining.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/graph_node.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_inlined_nodes = 200'000;
// Attributes of a function that have a default lie here in its message, which is younger than the library's.
constexpr int default_attributes_field = 11;

using Renamed = std::map<std::string, std::string>;
using Attributes = std::map<std::string, onnx::AttributeProto>;

class Inlining {
  public:
    explicit Inlining(const std::vector<onnx::FunctionProto>& functions) {
        for (const onnx::FunctionProto& function : functions)
            functions_.emplace(std::pair(function.domain(), function.name()), &function);
    }

    void add(const onnx::NodeProto& node, std::int64_t opset) {
        const auto called = functions_.find({node.domain(), node.op_type()});
        if (called == functions_.end()) {
            if (made.size() >= most_inlined_nodes)
                throw InputError(fmt::format("its functions grow to more than {} nodes", most_inlined_nodes));
            made.push_back({node, opset});
            return;
        }
        call(*called->second, GraphNode(node, opset));
    }

    std::vector<StoredNode> made;

  private:
    void call(const onnx::FunctionProto& function, const GraphNode& node) {
        if (std::ranges::find(active_, &function) != active_.end())
            node.fail(fmt::format("the function '{}' calls itself", printable(function.name())));
        if (node.inputs() > function.input_size() || node.outputs() > function.output_size())
            node.fail(fmt::format("the function '{}' takes {} and gives {}", printable(function.name()),
                                  plural(function.input_size(), "value"), function.output_size()));
        active_.push_back(&function);
        const std::string prefix = node.name() + "/";
        Renamed names = {{"", ""}};
        for (int i = 0; i < function.input_size(); ++i)
            names[function.input(i)] = i < node.inputs() ? node.input(i) : std::string();
        for (int i = 0; i < node.outputs(); ++i)
            if (!node.output(i).empty()) names[function.output(i)] = node.output(i);
        const Attributes attributes = attributes_of(function, node);
        std::int64_t opset = node.opset();
        for (const auto& set : function.opset_import())
            if (set.domain().empty() || set.domain() == "ai.onnx") opset = set.version();
        for (const onnx::NodeProto& inner : function.node())
            add(renamed(inner, prefix, names, attributes, opset), opset);
        active_.pop_back();
    }

    static Attributes attributes_of(const onnx::FunctionProto& function, const GraphNode& node) {
        Attributes attributes;
        const auto& unknown = function.GetReflection()->GetUnknownFields(function);
        for (int i = 0; i < unknown.field_count(); ++i) {
            const auto& field = unknown.field(i);
            if (field.number() != default_attributes_field ||
                field.type() != google::protobuf::UnknownField::TYPE_LENGTH_DELIMITED)
                continue;
            onnx::AttributeProto attribute;
            if (attribute.ParseFromString(field.length_delimited())) attributes[attribute.name()] = attribute;
        }
        for (const auto& attribute : node.attributes()) attributes[attribute.name()] = attribute;
        return attributes;
    }

    static onnx::NodeProto renamed(const onnx::NodeProto& inner, const std::string& prefix, Renamed& names,
                                   const Attributes& attributes, std::int64_t opset) {
        onnx::NodeProto node = inner;
        node.set_name(prefix + GraphNode(inner, opset).name());
        const auto rename = [&](std::string& name) {
            name = names.try_emplace(name, prefix + name).first->second;
        };
        for (std::string& input : *node.mutable_input()) rename(input);
        for (std::string& output : *node.mutable_output()) rename(output);
        node.clear_attribute();
        for (const auto& attribute : inner.attribute()) {
            if (attribute.has_g() || attribute.graphs_size() > 0)
                GraphNode(inner, opset)
                    .fail("has a graph of its own inside a function, which is not supported");
            if (attribute.ref_attr_name().empty()) {
                *node.add_attribute() = attribute;
            } else if (const auto given = attributes.find(attribute.ref_attr_name());
                       given != attributes.end()) {
                *node.add_attribute() = given->second;
                node.mutable_attribute(node.attribute_size() - 1)->set_name(attribute.name());
            }
        }
        return node;
    }

    std::map<std::pair<std::string, std::string>, const onnx::FunctionProto*> functions_;
    std::vector<const onnx::FunctionProto*> active_;
};

}  // namespace

std::vector<StoredNode> inline_functions(std::vector<StoredNode> nodes,
                                         const std::vector<onnx::FunctionProto>& functions) {
    if (functions.empty()) return nodes;
    Inlining inlining(functions);
    for (const StoredNode& node : nodes) inlining.add(node.proto, node.opset);
    return std::move(inlining.made);
}

}  // namespace jevrin::inline v1
