// The commands of the tool: one table, in groups by the stage of the work, which is how --help shows them.
// Each command adds its options and what it does, in a file of its own or with its neighbours.
#pragma once

#include "command.hpp"

#include <vector>

namespace jevrin::app {

struct CommandEntry {
    const char* name;
    const char* help;
    void (*add)(Command& command);
};
struct CommandGroup {
    const char* stage;
    std::vector<CommandEntry> commands;
};
const std::vector<CommandGroup>& command_groups();

void add_demo(Command& command);
void add_survey(Command& command);
void add_compose(Command& command);
void add_check(Command& command);
void add_layers(Command& command);
void add_features(Command& command);
void add_train(Command& command);
void add_watch(Command& command);
void add_show(Command& command);
void add_scores(Command& command);
void add_classes(Command& command);
void add_confusion(Command& command);
void add_mistakes(Command& command);
void add_item(Command& command);
void add_thresholds(Command& command);
void add_suspects(Command& command);
void add_mark(Command& command);
void add_marks(Command& command);
void add_runs(Command& command);
void add_curves(Command& command);
void add_diagnose(Command& command);
void add_recall(Command& command);
void add_agreement(Command& command);
void add_amounts(Command& command);
void add_choose(Command& command);
void add_export(Command& command);
void add_classify(Command& command);
void add_note(Command& command);
void add_archive(Command& command);
void add_delete(Command& command);
void add_merge(Command& command);
void add_contrast(Command& command);

}  // namespace jevrin::app
