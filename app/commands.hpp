// The commands of the tool: each adds itself to the application, one file per command or group of them.
#pragma once

#include <CLI/CLI.hpp>

namespace jevrin::app {

void add_demo(CLI::App& app);
void add_survey(CLI::App& app);
void add_compose(CLI::App& app);
void add_check(CLI::App& app);
void add_layers(CLI::App& app);
void add_features(CLI::App& app);
void add_train(CLI::App& app);
void add_watch(CLI::App& app);
void add_runs(CLI::App& app);
void add_show(CLI::App& app);
void add_curves(CLI::App& app);
void add_diagnose(CLI::App& app);
void add_scores(CLI::App& app);
void add_classes(CLI::App& app);
void add_confusion(CLI::App& app);
void add_recall(CLI::App& app);
void add_mistakes(CLI::App& app);
void add_item(CLI::App& app);
void add_agreement(CLI::App& app);
void add_suspects(CLI::App& app);
void add_mark(CLI::App& app);
void add_marks(CLI::App& app);
void add_thresholds(CLI::App& app);
void add_choose(CLI::App& app);
void add_amounts(CLI::App& app);
void add_classify(CLI::App& app);
void add_export(CLI::App& app);
void add_note(CLI::App& app);
void add_archive(CLI::App& app);
void add_delete(CLI::App& app);
void add_merge(CLI::App& app);
void add_contrast(CLI::App& app);

}  // namespace jevrin::app
