// The commands of the tool: one table, in groups by the stage of the work, which is how --help shows them.
// Each command adds its options and what it does, in a file of its own or with its neighbours, and stands in
// commands.cpp.
#pragma once

#include "command.hpp"

#include <vector>

namespace jevrin::app {

struct CommandEntry {
    const char* name;
    const char* help;
    void (*add)(Command& command);         // null when it has verbs
    std::vector<CommandEntry> verbs = {};  // 'jevrin NAME VERB'
};
struct CommandGroup {
    const char* stage;
    std::vector<CommandEntry> commands;
};
const std::vector<CommandGroup>& command_groups();

}  // namespace jevrin::app
