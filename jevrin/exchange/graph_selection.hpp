// What of a stored graph is read: the output that classifies, and the nodes it depends on.
#pragma once

#include "jevrin/exchange/stored_model.hpp"

#include <cstddef>
#include <set>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct GraphSelection {
    std::string output;              // a value
    bool named = false;              // it was asked for by its name, or that of its node
    std::vector<std::size_t> nodes;  // of the model that the output depends on, in order
    std::set<std::string> values;    // that these nodes read
};

// Without a name the only output, or the one of several that ends in a dense layer and lies behind the
// others. A name that no node and no value has may be that of a module; then the whole graph is selected.
//
// InputError when the graph has several such outputs, when no node has the name, and for nodes that are not
// understood; it names the last place before them that everything passes.
GraphSelection select_nodes(const StoredModel& model, const std::string& output,
                            bool (*understands)(const onnx::NodeProto& node));

}  // namespace jevrin::inline v1
