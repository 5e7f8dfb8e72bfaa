// Studies of known truth: what the comparison of candidates says of them, and how often it is wrong
// (docs/choice.md).
#pragma once

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/comparison/lead.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <numeric>
#include <optional>
#include <vector>

namespace jevrin::bench {

// An item is classified correctly when a sum of normal effects is above 0: of the candidate and class, of the
// item (shared by all candidates), of candidate and item, of candidate and group of items (images of one
// object), of candidate and seed, and of everything at once.
struct SimulatedStudy {
    std::size_t candidates = 2;
    double lead = 0.0;  // of the first candidate's effect over those of all others
    std::int64_t seeds = 3;
    std::size_t items = 200;
    std::size_t classes = 6;
    double seed_noise = 0.15;   // the deviation of candidate and seed; that of everything at once is 1
    double common_noise = 0.0;  // of a seed, for all candidates alike
    std::size_t group = 1;      // items of a group, all of one class: they are one unit
    double group_effect = 0.0;  // the deviation of candidate and group
    double noise_ratio = 1.0;   // of the first candidate's seed noise to the others'
    Metric metric = Metric::balanced_accuracy;
};

inline constexpr double level_effect = 1.2;
inline constexpr double item_noise = 1.0;
inline constexpr double candidate_item_noise = 0.5;

// The expected score of the first candidate, or of another.
inline double true_score(const SimulatedStudy& study, bool is_first) {
    const double noise = study.seed_noise * (is_first ? study.noise_ratio : 1.0);
    const double deviation = std::sqrt(
        1.0 + item_noise * item_noise + candidate_item_noise * candidate_item_noise +
        study.group_effect * study.group_effect + noise * noise + study.common_noise * study.common_noise);
    const double lead = is_first ? study.lead : 0.0;
    return 0.5 * std::erfc(-(level_effect + lead) / deviation / std::sqrt(2.0));
}

struct SimulatedCandidates {
    std::vector<CandidateOutcomes> outcomes;
    std::vector<double> means;
};

inline SimulatedCandidates draw_study(const SimulatedStudy& study, std::uint64_t number) {
    RandomStream random({.seed = number, .purpose = Purpose::sample, .epoch = 8});
    std::vector<std::size_t> labels(study.items);
    std::vector<std::int64_t> units(study.items);
    std::vector<double> item_effects(study.items);
    for (std::size_t i = 0; i < study.items; ++i) {
        labels[i] = i / study.group % study.classes;
        units[i] = static_cast<std::int64_t>(i / study.group * study.group) + 1;
        item_effects[i] = item_noise * random.normal();
    }
    std::vector<std::int64_t> items(study.items);
    std::iota(items.begin(), items.end(), std::int64_t{1});
    std::vector<double> common(static_cast<std::size_t>(study.seeds));
    for (double& effect : common) effect = study.common_noise * random.normal();
    SimulatedCandidates result;
    for (std::size_t c = 0; c < study.candidates; ++c) {
        std::vector<double> own(study.items);
        double of_group = 0.0;
        for (std::size_t i = 0; i < study.items; ++i) {
            if (study.group_effect > 0.0 && i % study.group == 0)
                of_group = study.group_effect * random.normal();
            own[i] = of_group + candidate_item_noise * random.normal();
        }
        CandidateEvidence evidence;
        result.means.push_back(0.0);
        for (std::int64_t seed = 1; seed <= study.seeds; ++seed) {
            const double base = level_effect + (c == 0 ? study.lead : 0.0) +
                                (c == 0 ? study.noise_ratio : 1.0) * study.seed_noise * random.normal() +
                                common[static_cast<std::size_t>(seed - 1)];
            std::vector<std::size_t> predicted(study.items);
            for (std::size_t i = 0; i < study.items; ++i) {
                const bool correct = base + item_effects[i] + own[i] + random.normal() > 0.0;
                predicted[i] =
                    correct ? labels[i]
                            : (labels[i] + 1 + random.below(static_cast<std::uint32_t>(study.classes - 1))) %
                                  study.classes;
            }
            const double reached = score(ConfusionMatrix(study.classes, labels, predicted), study.metric);
            result.means.back() += reached / static_cast<double>(study.seeds);
            RunRecord run;
            run.seed = seed;
            evidence.runs.push_back(
                {.run = run, .items = items, .units = units, .labels = labels, .predicted = predicted});
        }
        result.outcomes.push_back(outcomes_of(evidence, study.classes, study.metric));
    }
    return result;
}

// What is said of one study.
struct StudyOutcome {
    bool clear_winner = false;  // the best is separated from every other candidate
    bool covered = false;       // the interval of the first over the second holds the truth
    bool found = false;         // the first is separated from the second, and leads
    // Of the paired t-test over seeds, which takes the items as given: the p-value with the sign of the lead.
    double signed_p = 1.0;
};

inline StudyOutcome judge_study(const SimulatedStudy& study, std::uint64_t number) {
    const SimulatedCandidates drawn = draw_study(study, number);
    StudyOutcome outcome;
    const double truth = true_score(study, true) - true_score(study, false);
    const std::optional<Lead> lead = lead_of(drawn.outcomes[0], drawn.outcomes[1]);
    outcome.covered = lead->interval.low <= truth && truth <= lead->interval.high;
    outcome.found = is_ahead(lead);
    std::vector<double> by_seed;
    for (std::size_t k = 0; k < drawn.outcomes[0].size(); ++k)
        by_seed.push_back(drawn.outcomes[0][k].score - drawn.outcomes[1][k].score);
    if (by_seed.size() > 1) {
        const ResampledMean paired = resampled_mean(by_seed, 0.0);
        outcome.signed_p = paired.mean < 0.0 ? -paired.p_value : paired.p_value;
    }
    // As choose() does: the best by its mean, against every other.
    const auto best = static_cast<std::size_t>(std::max_element(drawn.means.begin(), drawn.means.end()) -
                                               drawn.means.begin());
    std::vector<const CandidateOutcomes*> others;
    for (std::size_t c = 0; c < study.candidates; ++c)
        if (c != best) others.push_back(&drawn.outcomes[c]);
    const auto leads = leads_over(drawn.outcomes[best], others);
    outcome.clear_winner = std::all_of(leads.begin(), leads.end(), is_ahead);
    return outcome;
}

inline std::vector<StudyOutcome> judge_studies(const SimulatedStudy& study, std::int64_t studies) {
    std::vector<StudyOutcome> outcomes(static_cast<std::size_t>(studies));
    parallel_for(studies, [&](std::int64_t number) {
        outcomes[static_cast<std::size_t>(number)] = judge_study(study, static_cast<std::uint64_t>(number));
    });
    return outcomes;
}

// The fraction of the studies for which something holds.
template <typename Holds>
double share_of(const std::vector<StudyOutcome>& outcomes, const Holds& holds) {
    return static_cast<double>(std::count_if(outcomes.begin(), outcomes.end(), holds)) /
           static_cast<double>(outcomes.size());
}

struct SimulationResult {
    double clear_winner = 0.0;
    double covered = 0.0;
    double found = 0.0;
};

inline SimulationResult simulate(const SimulatedStudy& study, std::int64_t studies) {
    const std::vector<StudyOutcome> outcomes = judge_studies(study, studies);
    return {share_of(outcomes, [](const StudyOutcome& o) { return o.clear_winner; }),
            share_of(outcomes, [](const StudyOutcome& o) { return o.covered; }),
            share_of(outcomes, [](const StudyOutcome& o) { return o.found; })};
}

// The level at which the paired t-test over seeds tells as few equal candidates apart as it should: the
// p-value that 5 of 100 studies of equal candidates stay below, and 0.05 at most.
inline double honest_level(SimulatedStudy study, std::int64_t studies) {
    study.lead = 0.0;
    std::vector<double> p_values;
    for (const StudyOutcome& outcome : judge_studies(study, studies))
        p_values.push_back(std::abs(outcome.signed_p));
    std::sort(p_values.begin(), p_values.end());
    return std::min(0.05, p_values[p_values.size() / 20]);
}

}  // namespace jevrin::bench
