#include "jevrin/comparison/choice.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/choice_words.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <limits>
#include <map>

namespace jevrin::inline v1 {
namespace {

// What one candidate brings to the choice.
struct Contender {
    RankedCandidate ranked;
    CandidateOutcomes outcomes;
};

// 0 when the file is gone.
std::int64_t size_of(const std::filesystem::path& file) {
    std::error_code error;
    const auto bytes = std::filesystem::file_size(file, error);
    return error ? 0 : static_cast<std::int64_t>(bytes);
}

double best_epoch_mean(const CandidateEvidence& evidence, std::size_t classes, Metric metric) {
    double sum = 0.0;
    const auto scores = evidence.seed_scores(classes, metric);
    for (const auto& [seed, score] : scores) sum += score;
    return sum / static_cast<double>(scores.size());
}

// The same network in every run: the least that was measured is what the machine can do.
std::optional<PredictionCost> least_cost(const CandidateEvidence& evidence) {
    std::optional<PredictionCost> least;
    for (const RunEvidence& one : evidence.runs) {
        const std::optional<PredictionCost>& cost = one.run.prediction_cost;
        if (!cost) continue;
        if (!least) least = cost;
        least->milliseconds = std::min(least->milliseconds, cost->milliseconds);
        least->batch_milliseconds = std::min(least->batch_milliseconds, cost->batch_milliseconds);
        least->bytes = std::min(least->bytes, cost->bytes);
    }
    return least;
}

RankedCandidate ranked_candidate(const Ledger& ledger, const StudyRecord& study,
                                 const CandidateEvidence& evidence, std::size_t classes,
                                 const CandidateOutcomes& outcomes) {
    const RunRecord& run = evidence.runs.front().run;
    RankedCandidate ranked{.candidate = evidence.candidate,
                           .regime = evidence.regime,
                           .external = run.external,
                           .best_epoch_mean = best_epoch_mean(evidence, classes, study.metric),
                           .runs = std::ssize(evidence.runs),
                           .seeds = std::ssize(outcomes.seeds()),
                           .failed_seeds = evidence.failed_seeds,
                           .seconds = evidence.seconds(),
                           .parameters = run.parameters,
                           .trainable_parameters = run.trainable_parameters,
                           .multiplications = run.multiplications,
                           .model_bytes = size_of(ledger.model_file(run.id)),
                           .prediction_cost = least_cost(evidence)};
    // Parts of a single item have a score, and nothing to compare.
    ranked.mean = outcomes.seeds().empty() ? ranked.best_epoch_mean : outcomes.mean();
    if (outcomes.seeds().empty()) ranked.seeds = std::ssize(evidence.seed_matrices(classes));
    if (const auto estimate = score_of(outcomes)) {
        ranked.interval = estimate->interval();
        ranked.standard_error = estimate->standard_error;
    }
    return ranked;
}

// Best first.
std::vector<Contender> rank(const Ledger& ledger, const StudyRecord& study, const StudyEvidence& evidence) {
    std::vector<CandidateOutcomes> outcomes;
    for (const CandidateEvidence& candidate : evidence.candidates)
        outcomes.push_back(outcomes_of(candidate, evidence.classes, study.metric));
    moderate_seeds(outcomes);
    std::vector<Contender> contenders;
    for (std::size_t k = 0; k < outcomes.size(); ++k) {
        contenders.push_back(
            {.ranked = ranked_candidate(ledger, study, evidence.candidates[k], evidence.classes, outcomes[k]),
             .outcomes = {}});
        contenders.back().outcomes = std::move(outcomes[k]);
    }
    std::stable_sort(contenders.begin(), contenders.end(),
                     [](const Contender& a, const Contender& b) { return a.ranked.mean > b.ranked.mean; });
    return contenders;
}

// Candidates come best first.
const RankedCandidate& best_of_the_cheapest(const std::vector<const RankedCandidate*>& candidates,
                                            Cost kind) {
    double least = candidates.front()->cost(kind);
    for (const RankedCandidate* candidate : candidates) least = std::min(least, candidate->cost(kind));
    return **std::find_if(candidates.begin(), candidates.end(), [&](const RankedCandidate* candidate) {
        return costs_no_more(candidate->cost(kind), least, kind);
    });
}

void mark_front(std::vector<RankedCandidate>& ranking, Cost kind) {
    for (RankedCandidate& candidate : ranking)
        candidate.pareto_optimal =
            std::none_of(ranking.begin(), ranking.end(), [&](const RankedCandidate& other) {
                const bool as_cheap = costs_no_more(other.cost(kind), candidate.cost(kind), kind);
                const bool cheaper = !costs_no_more(candidate.cost(kind), other.cost(kind), kind);
                return (other.mean > candidate.mean && as_cheap) || (other.mean == candidate.mean && cheaper);
            });
}

// What may be recommended by the rule, best first.
std::vector<const RankedCandidate*> eligible(const Choice& choice) {
    const RankedCandidate& best = choice.ranking.front();
    std::vector<const RankedCandidate*> result = {&best};
    for (std::size_t k = 1; k < choice.ranking.size(); ++k) {
        const RankedCandidate& other = choice.ranking[k];
        switch (choice.rule) {
            case ChoiceRule::margin:
                if (other.non_inferior) result.push_back(&other);
                break;
            case ChoiceRule::best:
                break;
            case ChoiceRule::one_standard_error:
                if (other.mean >= best.mean - best.standard_error.value_or(0.0)) result.push_back(&other);
                break;
        }
    }
    return result;
}

// Validation items of each class with fewer than five, for scores over classes.
std::vector<std::pair<std::string, std::int64_t>> rare_classes(const StudyRecord& study,
                                                               const StudyEvidence& evidence) {
    constexpr std::int64_t few = 5;
    std::vector<std::pair<std::string, std::int64_t>> rare;
    if (study.metric == Metric::accuracy) return rare;
    const auto matrices = evidence.candidates.front().seed_matrices(evidence.classes);
    for (std::size_t c = 0; c < evidence.classes && c < study.classes.size(); ++c)
        if (const std::int64_t items = matrices.begin()->second.support(c); items < few)
            rare.emplace_back(study.classes[c], items);
    return rare;
}

// The expected highest of k values drawn with replacement: the sum over sorted values v_i of
// v_i ((i / n)^k - ((i - 1) / n)^k).
std::vector<double> expected_best(std::vector<double> values) {
    std::sort(values.begin(), values.end());
    const auto n = static_cast<double>(values.size());
    std::vector<double> expected;
    for (std::size_t k = 1; k <= values.size(); ++k) {
        double sum = 0.0;
        for (std::size_t i = 0; i < values.size(); ++i)
            sum += values[i] * (std::pow(static_cast<double>(i + 1) / n, static_cast<double>(k)) -
                                std::pow(static_cast<double>(i) / n, static_cast<double>(k)));
        expected.push_back(sum);
    }
    return expected;
}

std::vector<EffortCurve> equal_effort(const std::vector<RankedCandidate>& ranking) {
    std::map<Regime, std::vector<double>> scores;
    for (const RankedCandidate& candidate : ranking) scores[candidate.regime].push_back(candidate.mean);
    std::vector<EffortCurve> curves;
    for (auto& [regime, values] : scores) curves.push_back({regime, expected_best(std::move(values))});
    const bool has_variants = std::any_of(curves.begin(), curves.end(), [](const EffortCurve& curve) {
        return curve.expected_best.size() > 1;
    });
    return has_variants && curves.size() > 1 ? curves : std::vector<EffortCurve>();
}

void add_verdicts(Choice& choice, const StudyVerdicts& verdicts, const std::vector<SelectionOdds>& odds) {
    choice.clear = verdicts.clear;
    choice.pairs = verdicts.pairs;
    for (std::size_t k = 0; k < choice.ranking.size(); ++k) {
        RankedCandidate& candidate = choice.ranking[k];
        candidate.may_be_best = verdicts.may_be_best[k];
        candidate.non_inferior = verdicts.non_inferior[k];
        candidate.odds = odds[k];
        if (k == 0) continue;
        const PairVerdict& pair = verdicts.pair(0, k);
        candidate.behind = pair.lead;
        candidate.verdict = pair.verdict;
    }
}

}  // namespace

const EnumNames<Cost>& names_of(Cost) {
    static const EnumNames<Cost> names("the cost", {{Cost::training_seconds, "seconds"},
                                                    {Cost::trained_parameters, "trained"},
                                                    {Cost::operations, "operations"},
                                                    {Cost::file_size, "file"},
                                                    {Cost::latency, "latency"},
                                                    {Cost::batch_time, "batch"},
                                                    {Cost::prediction_memory, "memory"}});
    return names;
}

bool costs_no_more(double cost, double than, Cost kind) {
    if (kind == Cost::training_seconds) return cost <= 1.25 * than + 1.0;
    const bool measured = kind == Cost::latency || kind == Cost::batch_time;
    return cost <= (measured ? 1.25 : 1.0) * than;
}

const EnumNames<ChoiceRule>& names_of(ChoiceRule) {
    static const EnumNames<ChoiceRule> names("the rule",
                                             {{ChoiceRule::margin, "margin"},
                                              {ChoiceRule::best, "best"},
                                              {ChoiceRule::one_standard_error, "one-standard-error"}});
    return names;
}

std::optional<Interval> RankedCandidate::failure_interval() const {
    if (failed_seeds == 0) return std::nullopt;
    return exact_interval(failed_seeds, failed_seeds + seeds);
}

double RankedCandidate::cost(Cost kind) const {
    const auto known = [](std::int64_t value) {
        return value > 0 ? static_cast<double>(value) : std::numeric_limits<double>::infinity();
    };
    const auto measured = [&](auto PredictionCost::*member) {
        return prediction_cost ? static_cast<double>((*prediction_cost).*member)
                               : std::numeric_limits<double>::infinity();
    };
    switch (kind) {
        case Cost::training_seconds:
            return std::isnan(seconds) ? std::numeric_limits<double>::infinity() : seconds;
        case Cost::trained_parameters:
            return known(trainable_parameters);
        case Cost::operations:
            return known(multiplications);
        case Cost::file_size:
            return known(model_bytes);
        case Cost::latency:
            return measured(&PredictionCost::milliseconds);
        case Cost::batch_time:
            return measured(&PredictionCost::batch_milliseconds);
        case Cost::prediction_memory:
            return measured(&PredictionCost::bytes);
    }
    unhandled(kind);
}

std::size_t Choice::chosen_place() const {
    return static_cast<std::size_t>(
        std::find_if(ranking.begin(), ranking.end(),
                     [&](const RankedCandidate& candidate) { return candidate.candidate == chosen; }) -
        ranking.begin());
}

const RankedCandidate& Choice::chosen_candidate() const {
    return ranking[chosen_place()];
}

Choice choose(const Ledger& ledger, const StudyRecord& study, const StudyEvidence& evidence,
              const ChoiceSettings& settings) {
    const std::vector<Contender> contenders = rank(ledger, study, evidence);
    Choice choice{
        .metric = study.metric,
        .cost = settings.cost,
        .rule = settings.rule,
        .margin = settings.margin.value_or(study.margin),
        .rare_classes = rare_classes(study, evidence),
        .epochs = evidence.epochs,
        .redraws_training = std::all_of(evidence.candidates.begin(), evidence.candidates.end(),
                                        [](const CandidateEvidence& c) { return c.redraws_training; }),
        .test_looks = study.test_looks};
    std::vector<const CandidateOutcomes*> outcomes;
    std::int64_t seeds = 0;
    for (const Contender& contender : contenders) {
        choice.ranking.push_back(contender.ranked);
        outcomes.push_back(&contender.outcomes);
        seeds = std::max(seeds, contender.ranked.seeds);
    }
    choice.level = level_of_look(settings.looks, seeds);
    const StudyVerdicts verdicts =
        judge(outcomes, {.margin = choice.margin, .level = choice.level}, settings.progress);
    const auto costs_no_more_than = [&](std::size_t candidate, std::size_t than) {
        return costs_no_more(choice.ranking[candidate].cost(settings.cost),
                             choice.ranking[than].cost(settings.cost), settings.cost);
    };
    constexpr std::int64_t draws = 1000;
    add_verdicts(choice, verdicts,
                 selection_odds(outcomes, verdicts, costs_no_more_than, draws, settings.progress));
    mark_front(choice.ranking, settings.cost);
    if (!outcomes.front()->seeds().empty()) {
        choice.validation_items = validation_items_of(*outcomes.front());
        choice.validation_units = std::ssize(outcomes.front()->seeds().front().units);
    }
    choice.chosen = best_of_the_cheapest(eligible(choice), settings.cost).candidate;
    if (choice.ranking.size() > 1) {
        if (choice.ranking[1].behind) choice.needed = needed_evidence(*choice.ranking[1].behind);
        const std::size_t place = choice.chosen_place();
        const double inflation = choice.ranking[place].odds.inflation;
        choice.optimism = inflation;
        if (const auto estimate = score_of(*outcomes[place]))
            choice.corrected = {estimate->mean - inflation,
                                estimate->interval_about(estimate->mean - inflation)};
        choice.equal_effort = equal_effort(choice.ranking);
    }
    put_into_words(choice, settings.looks, evidence.set_apart);
    return choice;
}

Choice choose(const Ledger& ledger, const StudyRecord& study, const ChoiceSettings& settings) {
    return choose(ledger, study, gather_evidence(ledger, study), settings);
}

}  // namespace jevrin::inline v1
