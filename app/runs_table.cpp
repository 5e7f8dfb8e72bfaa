#include "runs_table.hpp"

#include "output.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {

std::string spoken_state(const RunRecord& run) {
    if (run.claimed) return "training";
    return run.state == RunState::training ? "interrupted" : name_of(run.state);
}

std::string runs_table(const std::vector<RunRecord>& runs, Metric metric) {
    if (runs.empty()) return "no runs yet\n";
    const RunRecord* best = nullptr;
    std::int64_t finished = 0;
    Table table({"run", "regime", "state", "epochs", "best", "accuracy", "balanced", "macro F1", "loss",
                 "trainable", "seconds"},
                {3, 4, 5, 6, 7, 8, 9, 10});
    for (const RunRecord& run : runs) {
        finished += run.state == RunState::finished;
        std::vector<std::string> cells = {run.name(), name_of(run.regime), spoken_state(run),
                                          fmt::format("{}/{}", run.epochs, run.planned_epochs)};
        if (run.best) {
            const ConfusionMatrix& matrix = run.best->validation;
            for (const std::string& cell :
                 {fmt::format("{}", run.best->epoch), fmt::format("{:.3f}", matrix.accuracy()),
                  fmt::format("{:.3f}", matrix.balanced_accuracy()), fmt::format("{:.3f}", matrix.macro_f1()),
                  fmt::format("{:.3f}", run.best->validation_loss)})
                cells.push_back(cell);
            if (best == nullptr || score(matrix, metric) > score(best->best->validation, metric)) best = &run;
        } else {
            cells.insert(cells.end(), 5, "-");
        }
        cells.push_back(with_commas(run.trainable_parameters));
        cells.push_back(fmt::format("{:.2f}", run.seconds));
        table.add(std::move(cells));
    }
    std::string verdict =
        fmt::format("{} of {} finished", finished, plural(static_cast<std::int64_t>(runs.size()), "run"));
    if (best != nullptr)
        verdict += fmt::format("; the highest {} on validation is {:.3f}, in {}", spoken_metric(metric),
                               score(best->best->validation, metric), best->name());
    std::string text = verdict + "\n\n" + table.text();
    for (const RunRecord& run : runs)
        if (run.state == RunState::failed) text += fmt::format("{} failed: {}\n", run.name(), run.reason);
    return text;
}

}  // namespace jevrin::app
