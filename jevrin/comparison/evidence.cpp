#include "jevrin/comparison/evidence.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/metrics/influence.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

RunEvidence evidence_of_run(const Ledger& ledger, const RunRecord& run) {
    RunEvidence evidence{.run = run, .items = {}, .units = {}, .labels = {}, .predicted = {}};
    for (const OutcomeRecord& outcome : ledger.outcomes(run.id, Part::validation)) {
        evidence.items.push_back(outcome.item.number);
        evidence.units.push_back(outcome.unit.number);
        evidence.labels.push_back(outcome.label);
        evidence.predicted.push_back(outcome.predicted);
    }
    return evidence;
}

std::string listed(const std::vector<std::string>& runs) {
    return runs.front() + (runs.size() > 1 ? ", ..." : "");
}

}  // namespace

std::map<std::int64_t, ConfusionMatrix> CandidateEvidence::seed_matrices(std::size_t classes) const {
    std::map<std::int64_t, ConfusionMatrix> matrices;
    for (const RunEvidence& run : runs) {
        ConfusionMatrix& matrix = matrices.try_emplace(run.run.seed, classes).first->second;
        for (std::size_t i = 0; i < run.items.size(); ++i) matrix.add(run.labels[i], run.predicted[i]);
    }
    return matrices;
}

std::map<std::int64_t, double> CandidateEvidence::seed_scores(std::size_t classes, Metric metric) const {
    std::map<std::int64_t, double> scores;
    for (const auto& [seed, matrix] : seed_matrices(classes)) scores[seed] = score(matrix, metric);
    return scores;
}

double CandidateEvidence::seconds() const {
    double sum = 0.0;
    for (const RunEvidence& run : runs) sum += run.run.seconds;
    return sum / static_cast<double>(runs.size());
}

StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study,
                              const std::vector<RunRecord>& runs) {
    StudyEvidence evidence;
    const RunRecord* counted = nullptr;  // one on the image set that counts
    for (const RunRecord& run : runs)
        if (run.state == RunState::finished && run.best &&
            (counted == nullptr || run.image_set == study.image_set ||
             (counted->image_set != study.image_set && run.image_set > counted->image_set)))
            counted = &run;
    if (counted == nullptr)
        throw InputError(fmt::format("study '{}' has no finished run yet{}; train its plan first", study.name,
                                     runs.empty() ? "" : " among these"));
    evidence.classes = counted->best->validation.classes();
    std::vector<std::string> unfinished;
    std::vector<std::string> on_others;
    std::map<SplitId, std::int64_t> training_items;  // by split
    for (const RunRecord& run : runs) {
        if (run.state != RunState::finished || !run.best) {
            unfinished.push_back(fmt::format("{} ({})", run.name(), name_of(run.state)));
            continue;
        }
        if (run.image_set != counted->image_set) {
            on_others.push_back(fmt::format("{} (version {})", run.name(), run.image_set_version));
            continue;
        }
        auto candidate =
            std::find_if(evidence.candidates.rbegin(), evidence.candidates.rend(),
                         [&](const CandidateEvidence& known) { return known.candidate == run.candidate; });
        if (candidate == evidence.candidates.rend()) {
            evidence.candidates.push_back({run.candidate, run.regime, {}});
            candidate = evidence.candidates.rbegin();
        }
        candidate->runs.push_back(evidence_of_run(ledger, run));
        const auto [count, is_new] = training_items.try_emplace(run.split, 0);
        if (is_new) count->second = ledger.count_items(run.split, Part::training);
        candidate->runs.back().training_items = count->second;
    }
    const auto set_apart = [&](const std::vector<std::string>& names, const std::string& one,
                               const std::string& several) {
        if (names.empty()) return;
        evidence.set_apart.push_back((names.size() == 1 ? one : fmt::format("{} {}", names.size(), several)) +
                                     ": " + listed(names) + ".");
    };
    set_apart(unfinished, "1 run is not finished and is ignored", "runs are not finished and are ignored");
    set_apart(on_others, "1 run used another version of the image set and is not compared",
              "runs used another version of the image set and are not compared");
    return evidence;
}

StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study) {
    return gather_evidence(ledger, study, ledger.runs(study.id));
}

RunOutcomes unit_outcomes(const RunEvidence& run, std::span<const double> influences,
                          std::span<const double> correct, double score) {
    struct Unit {
        double influence = 0.0;
        double correct = 0.0;
        double items = 0.0;
    };
    std::map<std::int64_t, Unit> units;
    for (std::size_t i = 0; i < run.items.size(); ++i) {
        Unit& unit = units[run.units[i]];
        unit.influence += influences[i];
        unit.correct += correct[i];
        unit.items += 1.0;
    }
    RunOutcomes outcomes{.seed = run.run.seed,
                         .fold = run.run.fold,
                         .score = score,
                         .items = std::ssize(run.items),
                         .training_items = run.training_items};
    const double scale = static_cast<double>(units.size()) / static_cast<double>(run.items.size());
    for (const auto& [first, unit] : units) {
        outcomes.units.push_back(first);
        outcomes.influences.push_back(scale * unit.influence);
        outcomes.correct.push_back(unit.correct / unit.items);
    }
    return outcomes;
}

CandidateOutcomes outcomes_of(const CandidateEvidence& evidence, std::size_t classes, Metric metric) {
    CandidateOutcomes outcomes;
    for (const RunEvidence& run : evidence.runs) {
        if (run.items.size() < 2) continue;
        std::vector<double> correct;
        for (std::size_t i = 0; i < run.items.size(); ++i)
            correct.push_back(run.predicted[i] == run.labels[i] ? 1.0 : 0.0);
        outcomes.push_back(unit_outcomes(run, item_influences(classes, run.labels, run.predicted, metric),
                                         correct, score(run.matrix(classes), metric)));
        if (outcomes.back().units.size() < 2) outcomes.pop_back();
    }
    return outcomes;
}

}  // namespace jevrin::inline v1
