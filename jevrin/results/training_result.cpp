#include "jevrin/results/training_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/planned_runs.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {

PlannedRunsResult report_planned_runs(const Materials& materials, const Selection& selection,
                                      const Ledger* ledger) {
    const std::vector<PlannedRun> runs = select_runs(plan_runs(materials), selection);
    double all = 0.0;
    for (const PlannedRun& run : runs) all += run.operations;
    PlannedRunsResult result;
    for (const PlannedRun& run : runs) {
        const std::optional<RunRecord> known =
            ledger == nullptr ? std::nullopt : ledger->find_run(materials.plan.name, run.identity);
        result.runs.push_back({.run = run.name(),
                               .regime = run.identity.regime,
                               .state = known ? spoken_state(*known) : "new",
                               .epochs = known ? known->epochs : 0,
                               .planned_epochs = run.epochs,
                               .fraction = all > 0.0 ? run.operations / all : 0.0});
    }
    return result;
}

std::string to_json(const PlannedRunsResult& result) {
    Json json = Json::array();
    for (const PlannedRunRow& row : result.runs)
        json.push_back({{"run", row.run},
                        {"regime", name_of(row.regime)},
                        {"state", row.state},
                        {"epochs", row.epochs},
                        {"planned_epochs", row.planned_epochs},
                        {"fraction", row.fraction}});
    return document(json);
}

std::string to_text(const PlannedRunsResult& result, const TextForm& form) {
    ResultTable table({"run", "regime", "state", "epochs", "fraction of the work"}, {3, 4});
    for (const PlannedRunRow& row : result.runs)
        table.add({row.run, name_of(row.regime), row.state,
                   fmt::format("{}/{}", row.epochs, row.planned_epochs),
                   fmt::format("{:.1f} %", 100.0 * row.fraction)});
    return fmt::format("{}, in the order of training; nothing was trained\n\n{}",
                       plural(std::ssize(result.runs), "run"), table.text(form.width));
}

std::string to_text(const StudyOutlook& outlook) {
    std::string text = fmt::format("{} to train", plural(outlook.to_train, "run"));
    if (outlook.at_once > 1) text += fmt::format(", {} at once", outlook.at_once);
    if (outlook.ranks > 1) text += fmt::format(", on {} ranks", outlook.ranks);
    if (outlook.resumed > 0) text += fmt::format(" ({} resumed)", outlook.resumed);
    if (outlook.finished > 0) text += fmt::format(", {} finished before", outlook.finished);
    if (outlook.failed > 0) text += fmt::format(", {} failed before", outlook.failed);
    if (outlook.superseded > 0)
        text += fmt::format("; {} superseded by other settings", plural(outlook.superseded, "earlier run"));
    return text + "\n";
}

std::string to_text(const StudySummary& summary) {
    std::string text = fmt::format("{} trained, {} already finished", plural(summary.trained, "run"),
                                   summary.already_finished);
    if (summary.failed > 0) text += fmt::format(", {} failed", summary.failed);
    if (summary.failed_before > 0)
        text += fmt::format(", {} failed before and not tried again", summary.failed_before);
    if (summary.elsewhere > 0) text += fmt::format(", {} in training by another process", summary.elsewhere);
    if (summary.superseded > 0)
        text += fmt::format("; {} superseded by other settings", plural(summary.superseded, "earlier run"));
    return text + "\n";
}

StudyProgress report_progress(const Ledger& ledger, const StudyRecord& study) {
    return progress_of(study, ledger.runs(study.id));
}

StudyProgress progress_of(const StudyRecord& study, std::vector<RunRecord> runs) {
    StudyProgress progress{.study = study, .runs = std::move(runs), .seconds_left = 0.0};
    struct Seen {
        double seconds = 0.0;
        double epochs = 0.0;
    };
    std::map<std::string, Seen> seen;  // by candidate
    for (const RunRecord& run : progress.runs) {
        seen[run.candidate].seconds += run.seconds;
        seen[run.candidate].epochs += static_cast<double>(run.epochs);
    }
    double done = 0.0;
    double all = 0.0;
    for (const RunRecord& run : progress.runs) {
        const bool over = run.is_over();
        progress.in_training += run.claimed || (run.external && run.state == RunState::training) ? 1 : 0;
        progress.open += over ? 0 : 1;
        const std::int64_t planned = over ? run.epochs : run.planned_epochs;
        done += static_cast<double>(run.epochs);
        all += static_cast<double>(planned);
        if (over) continue;
        const Seen& own = seen[run.candidate];
        if (own.epochs == 0.0 || std::isnan(own.seconds)) progress.seconds_left.reset();
        if (progress.seconds_left)
            *progress.seconds_left += static_cast<double>(planned - run.epochs) * own.seconds / own.epochs;
    }
    progress.fraction = all > 0.0 ? done / all : 0.0;
    return progress;
}

std::string to_json(const StudyProgress& progress) {
    Json json = {{"study", progress.study.name},
                 {"runs", progress.runs.size()},
                 {"open", progress.open},
                 {"in_training", Json::array()},
                 {"seconds_left", or_null(progress.seconds_left)}};
    for (const RunRecord& run : progress.runs)
        if (run.claimed)
            json["in_training"].push_back(
                {{"run", run.name()}, {"epochs", run.epochs}, {"planned_epochs", run.planned_epochs}});
    return document(json);
}

std::string to_text(const StudyProgress& progress, const TextForm&) {
    return fmt::format(
        "study '{}': {} of {} over, {} in training{}\n", progress.study.name,
        std::ssize(progress.runs) - progress.open, plural(std::ssize(progress.runs), "run"),
        progress.in_training,
        progress.open > 0 && progress.seconds_left
            ? fmt::format(", about {} of training left", spoken_seconds(*progress.seconds_left))
            : "");
}

StudyFollower::StudyFollower(const Ledger& ledger, StudyRecord study)
    : ledger_(ledger), study_(std::move(study)) {
    for (const RunStamp& stamp : ledger_.run_stamps(study_.id)) known_[stamp.id].stamp = stamp;
    for (RunRecord& run : ledger_.runs(study_.id)) {
        order_.push_back(run.id);
        Known& known = known_[run.id];
        known.warnings = ledger_.warnings(run.id).size();
        known.run = std::move(run);
    }
}

StudyFollower::News StudyFollower::news() {
    News news;
    bool is_new = false;
    std::map<RunId, Known> still_there;
    for (const RunStamp& stamp : ledger_.run_stamps(study_.id)) {
        Known& known = still_there[stamp.id];
        const auto before = known_.find(stamp.id);
        if (before != known_.end()) {
            known = std::move(before->second);
            if (known.stamp == stamp) continue;
        } else {
            is_new = true;
        }
        const RunStamp told = known.stamp;
        known.stamp = stamp;
        known.run = ledger_.run_by_id(stamp.id);
        if (stamp.epochs < told.epochs) {
            news.begun_anew = true;
            known.warnings = 0;
        }
        const std::int64_t from = stamp.epochs < told.epochs ? 0 : told.epochs;
        for (const EpochRecord& epoch : ledger_.curve(stamp.id))  // the next may have ended meanwhile
            if (epoch.epoch > from && epoch.epoch <= stamp.epochs) news.epochs.emplace_back(known.run, epoch);
        const std::vector<WarningRecord> warnings = ledger_.warnings(stamp.id);
        for (std::size_t i = known.warnings; i < warnings.size(); ++i)
            news.warnings.emplace_back(known.run, warnings[i]);
        known.warnings = warnings.size();
        if (stamp.state == RunState::failed && told.state != RunState::failed)
            news.failed.push_back(known.run);
        news.changed.push_back(known.run);
    }
    for (const auto& [id, known] : known_)
        if (!still_there.contains(id)) news.begun_anew = true;
    known_ = std::move(still_there);
    if (is_new || order_.size() != known_.size()) {
        order_.clear();
        for (const RunRecord& run : ledger_.runs(study_.id)) order_.push_back(run.id);
    }
    return news;
}

StudyProgress StudyFollower::progress() const {
    std::vector<RunRecord> runs;
    for (const RunId id : order_)
        if (const auto known = known_.find(id); known != known_.end()) runs.push_back(known->second.run);
    return progress_of(study_, std::move(runs));
}

}  // namespace jevrin::inline v1
