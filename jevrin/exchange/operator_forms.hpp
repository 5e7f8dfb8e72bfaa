// The forms of the standard's operators: since which operator set each is read, and what it may state.
#pragma once

#include "jevrin/exchange/graph_node.hpp"

#include <cstdint>
#include <map>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// The newest operator set whose text this reader follows. Beyond it nodes are read when they state nothing
// that is not known.
inline constexpr std::int64_t newest_opset = 24;

struct OperatorForm {
    std::int64_t first = 1;               // older sets defined something else, or nothing, under this name
    std::vector<std::int64_t> changed;    // sets that changed the form; every one of them is read
    std::vector<std::string> attributes;  // in any of them
};
const std::map<std::string, OperatorForm>& operator_forms();

// InputError for a node whose operator has another form in its set, or that states what a newer set may have
// added.
void require_form(const GraphNode& node);

}  // namespace jevrin::inline v1
