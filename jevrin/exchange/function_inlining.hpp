// Local functions of a stored model: nodes that call one become the nodes of its body.
#pragma once

#include <onnx/onnx_pb.h>

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A node of a graph, and the operator set it is written for.
struct StoredNode {
    onnx::NodeProto proto;
    std::int64_t opset = 0;
};

// Inner nodes and values are named after the call, "CALL/INNER". InputError for functions that call
// themselves, calls that do not fit their function, and bodies that grow beyond every reasonable size.
std::vector<StoredNode> inline_functions(std::vector<StoredNode> nodes,
                                         const std::vector<onnx::FunctionProto>& functions);

}  // namespace jevrin::inline v1
