// One node of a stored graph, with the operator set it is written for.
#pragma once

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/function_inlining.hpp"

#include <fmt/format.h>
#include <onnx/onnx_pb.h>

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

inline constexpr const char* fixed_constant = "fixed";
inline constexpr int deepest_graph = 16;  // of graphs within nodes

inline bool is_standard(const onnx::NodeProto& node) {
    return node.domain().empty() || node.domain() == "ai.onnx";
}

class GraphNode {
  public:
    GraphNode(const onnx::NodeProto& proto, std::int64_t opset) : proto_(proto), opset_(opset) {}
    explicit GraphNode(const StoredNode& node) : GraphNode(node.proto, node.opset) {}

    const std::string& type() const { return proto_.op_type(); }
    std::int64_t opset() const { return opset_; }
    // Its name, or that of its output when it has none.
    const std::string& name() const {
        return proto_.name().empty() && proto_.output_size() > 0 ? proto_.output(0) : proto_.name();
    }
    // What the file says about it, for people; our own files say here which constants are fixed.
    const std::string& description() const { return proto_.doc_string(); }
    int inputs() const { return proto_.input_size(); }
    int outputs() const { return proto_.output_size(); }
    bool has_input(int i) const { return i < proto_.input_size() && !proto_.input(i).empty(); }
    const std::string& input(int i) const { return proto_.input(i); }
    const std::string& output(int i = 0) const { return proto_.output(i); }

    [[noreturn]] void fail(const std::string& what) const {
        throw InputError(fmt::format("node '{}' ({}): {}", printable(name()), printable(type()), what),
                         ErrorPlace::part);
    }
    void expect_inputs(int least, int most) const {
        if (inputs() < least || inputs() > most || outputs() < 1)
            fail(fmt::format("it has {}; {} to {} are expected", plural(inputs(), "input"), least, most));
        for (int i = 0; i < least; ++i)
            if (!has_input(i)) fail(fmt::format("its input {} is missing", i));
    }

    const google::protobuf::RepeatedPtrField<onnx::AttributeProto>& attributes() const {
        return proto_.attribute();
    }
    const onnx::AttributeProto* attribute(const std::string& name) const {
        for (const auto& a : proto_.attribute())
            if (a.name() == name) return &a;
        return nullptr;
    }
    std::int64_t integer(const std::string& name, std::int64_t otherwise) const {
        const auto* a = attribute(name);
        return a == nullptr ? otherwise : a->i();
    }
    float number(const std::string& name, float otherwise) const {
        const auto* a = attribute(name);
        return a == nullptr ? otherwise : a->f();
    }
    std::string text(const std::string& name, const std::string& otherwise) const {
        const auto* a = attribute(name);
        return a == nullptr ? otherwise : a->s();
    }
    std::optional<std::vector<std::int64_t>> integers(const std::string& name) const {
        const auto* a = attribute(name);
        if (a == nullptr) return std::nullopt;
        return std::vector<std::int64_t>(a->ints().begin(), a->ints().end());
    }
    // An axis counted from 0; negative ones count from the end.
    std::int64_t axis(std::int64_t stated, std::int64_t rank) const {
        const std::int64_t axis = stated < 0 ? stated + rank : stated;
        if (axis < 0 || axis >= rank)
            fail(fmt::format("operates along dimension {} of a value that has {}", stated, rank));
        return axis;
    }

  private:
    const onnx::NodeProto& proto_;
    std::int64_t opset_;
};

}  // namespace jevrin::inline v1
