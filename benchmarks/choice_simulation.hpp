// Studies of known truth: what the comparison of candidates says of them, and how often it is wrong
// (docs/choice.md).
#pragma once

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/comparison/lead.hpp"
#include "jevrin/metrics/influence.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <vector>

namespace jevrin::bench {

// An item is classified right when a sum of normal effects is above 0: of the candidate and class, of the
// item (shared by all candidates), of candidate and item, of candidate and seed, and of everything at once.
struct SimulatedStudy {
    std::size_t candidates = 2;
    double lead = 0.0;  // of the first candidate's effect over those of all others
    std::int64_t seeds = 3;
    std::size_t items = 200;
    std::size_t classes = 6;
    double seed_noise = 0.15;  // the deviation of candidate and seed; that of everything at once is 1
    Metric metric = Metric::balanced_accuracy;
};

inline constexpr double level_effect = 1.2;
inline constexpr double item_noise = 1.0;
inline constexpr double candidate_item_noise = 0.5;

// The expected score of a candidate whose effect is this much above the others'.
inline double true_score(const SimulatedStudy& study, double lead) {
    const double deviation =
        std::sqrt(1.0 + item_noise * item_noise + candidate_item_noise * candidate_item_noise +
                  study.seed_noise * study.seed_noise);
    return 0.5 * std::erfc(-(level_effect + lead) / deviation / std::sqrt(2.0));
}

struct SimulatedCandidates {
    std::vector<CandidateInfluences> influences;
    std::vector<double> means;
};

inline SimulatedCandidates draw_study(const SimulatedStudy& study, std::uint64_t number) {
    RandomStream random({.seed = number, .purpose = Purpose::sample, .epoch = 8});
    std::vector<std::size_t> labels(study.items);
    std::vector<double> item_effects(study.items);
    for (std::size_t i = 0; i < study.items; ++i) {
        labels[i] = i % study.classes;
        item_effects[i] = item_noise * random.normal();
    }
    SimulatedCandidates result;
    for (std::size_t c = 0; c < study.candidates; ++c) {
        std::vector<double> own(study.items);
        for (double& effect : own) effect = candidate_item_noise * random.normal();
        result.influences.emplace_back();
        result.means.push_back(0.0);
        for (std::int64_t seed = 1; seed <= study.seeds; ++seed) {
            const double base =
                level_effect + (c == 0 ? study.lead : 0.0) + study.seed_noise * random.normal();
            std::vector<std::size_t> predicted(study.items);
            for (std::size_t i = 0; i < study.items; ++i) {
                const bool right = base + item_effects[i] + own[i] + random.normal() > 0.0;
                predicted[i] =
                    right ? labels[i]
                          : (labels[i] + 1 + random.below(static_cast<std::uint32_t>(study.classes - 1))) %
                                study.classes;
            }
            result.influences.back()[seed] = {
                "all", item_influences(study.classes, labels, predicted, study.metric)};
            const ConfusionMatrix matrix(study.classes, labels, predicted);
            result.means.back() += score(matrix, study.metric) / static_cast<double>(study.seeds);
        }
    }
    return result;
}

// Shares of the studies.
struct SimulationResult {
    double clear_winner = 0.0;        // the best is told apart from every other candidate
    double covered = 0.0;             // the interval of the first over the second holds the truth
    double found = 0.0;               // the first is told apart from the second, and leads
    double found_by_seeds = 0.0;      // the same by the paired t-test over seeds
    double different_by_seeds = 0.0;  // told apart by that test, whichever leads
};

inline SimulationResult simulate(const SimulatedStudy& study, std::int64_t studies) {
    struct Outcome {
        bool clear_winner = true;
        bool covered = false;
        bool found = false;
        bool found_by_seeds = false;
        bool different_by_seeds = false;
    };
    std::vector<Outcome> outcomes(static_cast<std::size_t>(studies));
    const double truth = true_score(study, study.lead) - true_score(study, 0.0);
    parallel_for(studies, [&](std::int64_t number) {
        Outcome& outcome = outcomes[static_cast<std::size_t>(number)];
        const SimulatedCandidates drawn = draw_study(study, static_cast<std::uint64_t>(number));
        const CrossedInterval lead = *lead_of(drawn.influences[0], drawn.influences[1]);
        outcome.covered = lead.interval.low <= truth && truth <= lead.interval.high;
        outcome.found = is_separated(lead);
        std::vector<double> by_seed;
        for (const auto& [seed, ours] : drawn.influences[0]) {
            const std::vector<double>& theirs = drawn.influences[1].at(seed).values;
            double sum = 0.0;
            for (std::size_t i = 0; i < ours.values.size(); ++i) sum += ours.values[i] - theirs[i];
            by_seed.push_back(sum / static_cast<double>(ours.values.size()));
        }
        if (const auto interval = mean_interval(by_seed).interval) {
            outcome.found_by_seeds = interval->low > 0;
            outcome.different_by_seeds = interval->low > 0 || interval->high < 0;
        }
        // As choose() does: the best by its mean, against every other.
        const auto best = static_cast<std::size_t>(std::max_element(drawn.means.begin(), drawn.means.end()) -
                                                   drawn.means.begin());
        for (std::size_t c = 0; c < study.candidates; ++c)
            if (c != best)
                outcome.clear_winner &= is_separated(lead_of(drawn.influences[best], drawn.influences[c]));
    });
    SimulationResult result;
    const auto part = 1.0 / static_cast<double>(studies);
    for (const Outcome& outcome : outcomes) {
        result.clear_winner += outcome.clear_winner ? part : 0.0;
        result.covered += outcome.covered ? part : 0.0;
        result.found += outcome.found ? part : 0.0;
        result.found_by_seeds += outcome.found_by_seeds ? part : 0.0;
        result.different_by_seeds += outcome.different_by_seeds ? part : 0.0;
    }
    return result;
}

}  // namespace jevrin::bench
