#include "jevrin/comparison/evidence.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/metrics/influence.hpp"
#include "jevrin/plan/run_settings.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <limits>
#include <map>
#include <numeric>
#include <set>

namespace jevrin::inline v1 {
namespace {

RunEvidence evidence_of_run(const Ledger& ledger, const RunRecord& run, Metric metric) {
    RunEvidence evidence{.run = run, .items = {}, .units = {}, .labels = {}};
    for (const OutcomeRecord& outcome : ledger.outcomes(run.id, Part::validation)) {
        evidence.items.push_back(outcome.item.number);
        evidence.units.push_back(outcome.unit.number);
        evidence.labels.push_back(outcome.label);
        evidence.predicted.push_back(outcome.predicted);
    }
    // Of a single epoch nothing was chosen.
    evidence.cross_fitted = run.epochs == 1 ? evidence.predicted : ledger.cross_fitted(run.id, metric);
    if (!evidence.cross_fitted.empty() && evidence.cross_fitted.size() != evidence.items.size())
        throw InputError(fmt::format(
            "the cross-fitted predictions of '{}' are not those of its items; the ledger is damaged",
            printable(run.name())));
    return evidence;
}

// Where a run has no predictions by epoch, all are compared at an epoch that their candidate has in common:
// the best of the mean curve, as far as all its runs went.
void fall_back_to_common_epochs(const Ledger& ledger, Metric metric, StudyEvidence& evidence) {
    evidence.epochs = EpochChoice::common;
    for (CandidateEvidence& candidate : evidence.candidates) {
        std::vector<std::vector<double>> curves;
        std::size_t epochs = std::numeric_limits<std::size_t>::max();
        for (RunEvidence& run : candidate.runs) {
            run.cross_fitted.clear();
            curves.emplace_back();
            for (const EpochRecord& epoch : ledger.curve(run.run.id))
                curves.back().push_back(validation_score(epoch, metric));
            epochs = std::min(epochs, curves.back().size());
        }
        std::size_t best = 0;
        double highest = -1.0;
        for (std::size_t e = 0; e < epochs; ++e) {
            double sum = 0.0;
            for (const std::vector<double>& curve : curves) sum += curve[e];
            if (sum <= highest) continue;
            highest = sum;
            best = e;
        }
        for (std::size_t k = 0; k < curves.size(); ++k)
            if (epochs > 0)
                candidate.runs[k].common_epoch_excess =
                    validation_score(*candidate.runs[k].run.best, metric) - curves[k][best];
    }
}

void count_failed_seeds(const std::vector<RunRecord>& runs, StudyEvidence& evidence) {
    for (CandidateEvidence& candidate : evidence.candidates) {
        std::set<std::int64_t> failed;
        for (const RunRecord& run : runs)
            if (run.candidate == candidate.candidate && run.state == RunState::failed)
                failed.insert(run.seed);
        for (const RunEvidence& run : candidate.runs) failed.erase(run.run.seed);
        candidate.failed_seeds = std::ssize(failed);
    }
}

std::uint32_t commonest(std::span<const std::uint32_t> strata, std::span<const std::size_t> items) {
    if (items.size() == 1) return strata[items.front()];
    std::map<std::uint32_t, std::size_t> counts;
    for (const std::size_t item : items) ++counts[strata[item]];
    return std::max_element(counts.begin(), counts.end(),
                            [](const auto& a, const auto& b) { return a.second < b.second; })
        ->first;
}

bool redraws_training(const std::string& settings) {
    try {
        return parse_settings(settings).candidate.training.redraw;
    } catch (const InputError&) {
        return false;  // recorded by a program of its own
    }
}

// "'a', 'b', ...".
std::string quoted_list(const std::vector<std::string>& names) {
    constexpr std::size_t most = 4;
    std::string text;
    for (std::size_t i = 0; i < std::min(names.size(), most); ++i)
        text += fmt::format("{}'{}'", i == 0 ? "" : ", ", names[i]);
    return text + (names.size() > most ? ", ..." : "");
}

std::string listed(const std::vector<std::string>& runs) {
    return runs.front() + (runs.size() > 1 ? fmt::format(" and {} more", runs.size() - 1) : "");
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

namespace {

// By which version of the arithmetic (tensor/libraries.hpp) a run was computed; 0: not known.
std::int64_t arithmetic_of(const Ledger& ledger, const RunRecord& run) {
    const std::string environment = ledger.environment(run.id);
    if (run.external || environment.empty()) return 0;
    return parse_json(environment).value("arithmetic", std::int64_t{1});
}

}  // namespace

const RunRecord* run_that_counts(const StudyRecord& study, const std::vector<RunRecord>& runs) {
    const RunRecord* counted = nullptr;
    for (const RunRecord& run : runs)
        if (run.state == RunState::finished && run.best &&
            (counted == nullptr || run.image_set == study.image_set ||
             (counted->image_set != study.image_set && run.image_set > counted->image_set)))
            counted = &run;
    return counted;
}

StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study,
                              const std::vector<RunRecord>& runs) {
    StudyEvidence evidence;
    const RunRecord* counted = run_that_counts(study, runs);
    if (counted == nullptr)
        throw InputError(fmt::format("study '{}' has no finished run yet{}; train its plan first", study.name,
                                     runs.empty() ? "" : " among these"));
    evidence.classes = counted->best->validation.classes();
    std::vector<std::string> unfinished;
    std::vector<std::string> on_others;
    std::vector<std::string> elsewhere;                         // candidates
    std::map<SplitId, std::int64_t> training_items;             // by split
    std::map<std::int64_t, std::vector<std::string>> computed;  // candidates, by version of the arithmetic
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
            candidate->redraws_training = redraws_training(ledger.settings(run.id));
        }
        candidate->runs.push_back(evidence_of_run(ledger, run, study.metric));
        if (const std::int64_t version = arithmetic_of(ledger, run); version > 0) {
            std::vector<std::string>& names = computed[version];
            if (names.empty() || names.back() != run.candidate) names.push_back(run.candidate);
        }
        const auto [count, is_new] = training_items.try_emplace(run.split, 0);
        if (is_new) count->second = ledger.count_items(run.split, Part::training);
        candidate->runs.back().training_items = count->second;
    }
    const auto has_epochs = [](const CandidateEvidence& candidate) {
        return std::all_of(candidate.runs.begin(), candidate.runs.end(), [](const RunEvidence& run) {
            return run.items.empty() || !run.cross_fitted.empty();
        });
    };
    if (!std::all_of(evidence.candidates.begin(), evidence.candidates.end(), has_epochs))
        fall_back_to_common_epochs(ledger, study.metric, evidence);
    count_failed_seeds(runs, evidence);
    const auto set_apart = [&](const std::vector<std::string>& names, const std::string& one,
                               const std::string& several) {
        if (names.empty()) return;
        evidence.set_apart.push_back((names.size() == 1 ? one : fmt::format("{} {}", names.size(), several)) +
                                     ": " + listed(names) + ".");
    };
    for (const CandidateEvidence& candidate : evidence.candidates)
        if (candidate.runs.front().run.external) elsewhere.push_back(candidate.candidate);
    if (!elsewhere.empty())
        evidence.set_apart.push_back(
            fmt::format("Trained elsewhere, and judged by the predictions that came along: {}. Training "
                        "times are those of "
                        "other machines.",
                        quoted_list(elsewhere)));
    if (computed.size() > 1) {
        std::vector<std::string> versions;
        for (const auto& [version, names] : computed)
            versions.push_back(fmt::format("{} by version {}", quoted_list(names), version));
        evidence.set_apart.push_back(fmt::format(
            "Computed by different versions of the arithmetic, whose results differ by rounding: {}.",
            fmt::join(versions, "; ")));
    }
    set_apart(unfinished, "1 run is not finished and is ignored", "runs are not finished and are ignored");
    set_apart(on_others, "1 run used another version of the image set and is not compared",
              "runs used another version of the image set and are not compared");
    return evidence;
}

StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study) {
    return gather_evidence(ledger, study, ledger.runs(study.id));
}

std::vector<SeedPredictions> seed_predictions(const CandidateEvidence& evidence) {
    struct Outcome {
        std::int64_t item = 0;
        std::int64_t unit = 0;
        std::int64_t fold = 0;
        std::size_t label = 0;
        std::size_t predicted = 0;
    };
    std::map<std::int64_t, std::vector<const RunEvidence*>> seeds;
    std::size_t most = 0;
    bool fitted = true;
    for (const RunEvidence& run : evidence.runs) {
        auto& runs = seeds[run.run.seed];
        runs.push_back(&run);
        most = std::max(most, runs.size());
        fitted = fitted && !run.cross_fitted.empty();
    }
    std::vector<SeedPredictions> result;
    for (const auto& [seed, runs] : seeds) {
        if (runs.size() < most) continue;
        std::vector<Outcome> outcomes;
        for (const RunEvidence* run : runs)
            for (std::size_t i = 0; i < run->items.size(); ++i)
                outcomes.push_back({run->items[i], run->units[i], run->run.fold, run->labels[i],
                                    fitted ? run->cross_fitted[i] : run->predicted[i]});
        if (runs.size() > 1)
            std::sort(outcomes.begin(), outcomes.end(),
                      [](const Outcome& a, const Outcome& b) { return a.item < b.item; });
        SeedPredictions predictions{.seed = seed,
                                    .training_items = runs.front()->training_items,
                                    .items = {},
                                    .units = {},
                                    .folds = {},
                                    .labels = {},
                                    .predicted = {}};
        if (!fitted)
            for (const RunEvidence* run : runs)
                predictions.excess += run->common_epoch_excess / static_cast<double>(runs.size());
        for (const Outcome& outcome : outcomes) {
            predictions.items.push_back(outcome.item);
            predictions.units.push_back(outcome.unit);
            if (runs.size() > 1) predictions.folds.push_back(outcome.fold);
            predictions.labels.push_back(outcome.label);
            predictions.predicted.push_back(outcome.predicted);
        }
        result.push_back(std::move(predictions));
    }
    return result;
}

SeedOutcomes unit_outcomes(const SeedPredictions& seed, std::span<const double> influences,
                           std::span<const double> correct, double score,
                           std::span<const std::uint32_t> strata) {
    SeedOutcomes outcomes{.seed = seed.seed,
                          .score = score,
                          .items = std::ssize(seed.items),
                          .training_items = seed.training_items};
    std::vector<std::size_t> order(seed.items.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    if (!std::is_sorted(seed.units.begin(), seed.units.end()))
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return seed.units[a] < seed.units[b]; });
    for (auto begin = order.begin(); begin != order.end();) {
        const std::int64_t unit = seed.units[*begin];
        const auto end =
            std::find_if(begin, order.end(), [&](std::size_t i) { return seed.units[i] != unit; });
        double influence = 0.0;
        double right = 0.0;
        for (auto item = begin; item != end; ++item) {
            influence += influences[*item];
            right += correct[*item];
        }
        outcomes.units.push_back(unit);
        outcomes.influences.push_back(influence);
        outcomes.correct.push_back(right / static_cast<double>(end - begin));
        if (!seed.folds.empty()) outcomes.folds.push_back(seed.folds[*begin]);
        if (!strata.empty()) outcomes.strata.push_back(commonest(strata, std::span(begin, end)));
        begin = end;
    }
    const double scale = static_cast<double>(outcomes.units.size()) / static_cast<double>(seed.items.size());
    for (double& influence : outcomes.influences) influence *= scale;
    return outcomes;
}

CandidateOutcomes outcomes_of(const CandidateEvidence& evidence, std::size_t classes, Metric metric) {
    std::vector<SeedOutcomes> outcomes;
    for (const SeedPredictions& seed : seed_predictions(evidence)) {
        std::vector<double> correct;
        for (std::size_t i = 0; i < seed.items.size(); ++i)
            correct.push_back(seed.predicted[i] == seed.labels[i] ? 1.0 : 0.0);
        SeedOutcomes row = unit_outcomes(seed, item_influences(classes, seed.labels, seed.predicted, metric),
                                         correct, score(seed.matrix(classes), metric) - seed.excess,
                                         item_strata(seed.labels, metric));
        if (row.units.size() > 1) outcomes.push_back(std::move(row));
    }
    return CandidateOutcomes(std::move(outcomes));
}

}  // namespace jevrin::inline v1
