// Studies of known truth: what the comparison of candidates says of them, and how often it is wrong
// (docs/choice.md).
#pragma once

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/comparison/lead.hpp"
#include "jevrin/comparison/selection.hpp"
#include "jevrin/comparison/verdicts.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <numeric>
#include <optional>
#include <vector>

namespace jevrin::bench {

// An item is classified correctly when a sum of normal effects is above 0: of the candidate, of the item
// (shared by all candidates), of candidate and item, of candidate and group of items (images of one object),
// of candidate and fold, of candidate and run, and of everything at once.
struct SimulatedStudy {
    std::size_t candidates = 2;
    double lead = 0.0;  // of the first candidate's effect over those of all others
    std::int64_t seeds = 3;
    std::size_t items = 200;
    std::size_t classes = 6;
    std::size_t rare = 0;       // items of the last class; 0: all classes have about as many
    double level = 1.2;         // the effect of a candidate
    double seed_noise = 0.15;   // the deviation of candidate and run; that of everything at once is 1
    double common_noise = 0.0;  // of a seed, for all candidates alike
    double noise_ratio = 1.0;   // of the first candidate's seed noise to the others'
    std::size_t group = 1;      // items of a group, all of one class: they are one unit
    double group_effect = 0.0;  // the deviation of candidate and group
    std::int64_t folds = 1;     // more than 1: cross-validation with all of them
    double fold_effect = 0.0;   // the deviation of candidate and fold
    double failing = 0.0;       // of the first candidate's seeds this fraction is missing
    Metric metric = Metric::balanced_accuracy;
    double margin = 0.01;
};

inline constexpr double item_noise = 1.0;
inline constexpr double candidate_item_noise = 0.5;

// The expected score of the first candidate, or of another.
inline double true_score(const SimulatedStudy& study, bool is_first) {
    const double noise = study.seed_noise * (is_first ? study.noise_ratio : 1.0);
    const double deviation =
        std::sqrt(1.0 + item_noise * item_noise + candidate_item_noise * candidate_item_noise +
                  study.group_effect * study.group_effect + noise * noise +
                  study.common_noise * study.common_noise + study.fold_effect * study.fold_effect);
    const double lead = is_first ? study.lead : 0.0;
    return 0.5 * std::erfc(-(study.level + lead) / deviation / std::sqrt(2.0));
}

// The effect at which candidates have this score.
inline double level_of(double score, SimulatedStudy study) {
    double low = -10.0;
    double high = 10.0;
    for (int step = 0; step < 60; ++step) {
        study.level = (low + high) / 2;
        (true_score(study, false) < score ? low : high) = study.level;
    }
    return study.level;
}

// The effect by which the first must be ahead so that its score is higher by this.
inline double lead_for(SimulatedStudy study, double difference) {
    double low = 0.0;
    double high = 10.0;
    for (int step = 0; step < 60; ++step) {
        study.lead = (low + high) / 2;
        (true_score(study, true) - true_score(study, false) < difference ? low : high) = study.lead;
    }
    return study.lead;
}

// Of class and group of each item, as the study has them.
struct SimulatedItems {
    std::vector<std::size_t> labels;
    std::vector<std::int64_t> units;
    std::vector<std::int64_t> folds;
    std::vector<double> effects;
};

inline SimulatedItems draw_items(const SimulatedStudy& study, RandomStream& random) {
    SimulatedItems items;
    for (std::size_t i = 0; i < study.items; ++i) {
        const std::size_t place = i / study.group;
        const bool is_rare = i + study.rare >= study.items;
        items.labels.push_back(study.rare == 0 ? place % study.classes
                               : is_rare       ? study.classes - 1
                                               : place % (study.classes - 1));
        items.units.push_back(static_cast<std::int64_t>(place * study.group) + 1);
        items.folds.push_back(
            static_cast<std::int64_t>(place / study.classes % static_cast<std::size_t>(study.folds)) + 1);
        items.effects.push_back(item_noise * random.normal());
    }
    return items;
}

// What one candidate predicts for all seeds.
inline CandidateOutcomes draw_candidate(const SimulatedStudy& study, const SimulatedItems& items,
                                        const std::vector<double>& common, bool is_first,
                                        RandomStream& random) {
    std::vector<double> own(study.items);
    double of_group = 0.0;
    for (std::size_t i = 0; i < study.items; ++i) {
        if (study.group_effect > 0.0 && i % study.group == 0) of_group = study.group_effect * random.normal();
        own[i] = of_group + candidate_item_noise * random.normal();
    }
    std::vector<double> of_folds(static_cast<std::size_t>(study.folds), 0.0);
    if (study.fold_effect > 0.0)
        for (double& effect : of_folds) effect = study.fold_effect * random.normal();
    CandidateEvidence evidence;
    const double noise = study.seed_noise * (is_first ? study.noise_ratio : 1.0);
    for (std::int64_t seed = 1; seed <= study.seeds; ++seed) {
        const bool is_missing = is_first && seed > 1 && random.uniform() < study.failing;
        for (std::int64_t fold = 1; fold <= study.folds; ++fold) {
            const double base = study.level + (is_first ? study.lead : 0.0) + noise * random.normal() +
                                common[static_cast<std::size_t>(seed - 1)] +
                                of_folds[static_cast<std::size_t>(fold - 1)];
            RunEvidence run;
            run.run.seed = seed;
            run.run.fold = study.folds > 1 ? fold : 0;
            for (std::size_t i = 0; i < study.items; ++i) {
                if (items.folds[i] != fold) continue;
                const std::size_t label = items.labels[i];
                const bool correct = base + items.effects[i] + own[i] + random.normal() > 0.0;
                run.items.push_back(static_cast<std::int64_t>(i) + 1);
                run.units.push_back(items.units[i]);
                run.labels.push_back(label);
                run.predicted.push_back(
                    correct ? label
                            : (label + 1 + random.below(static_cast<std::uint32_t>(study.classes - 1))) %
                                  study.classes);
            }
            run.training_items = static_cast<std::int64_t>(study.items - run.items.size());
            if (study.folds == 1) run.training_items = static_cast<std::int64_t>(3 * study.items);
            if (!is_missing) evidence.runs.push_back(std::move(run));
        }
    }
    return outcomes_of(evidence, study.classes, study.metric);
}

inline std::vector<CandidateOutcomes> draw_study(const SimulatedStudy& study, std::uint64_t number) {
    RandomStream random({.seed = number, .purpose = Purpose::sample, .epoch = 8});
    const SimulatedItems items = draw_items(study, random);
    std::vector<double> common(static_cast<std::size_t>(study.seeds));
    for (double& effect : common) effect = study.common_noise * random.normal();
    std::vector<CandidateOutcomes> outcomes;
    for (std::size_t c = 0; c < study.candidates; ++c)
        outcomes.push_back(draw_candidate(study, items, common, c == 0, random));
    moderate_seeds(outcomes);
    return outcomes;
}

// What is said of one study.
struct StudyOutcome {
    bool clear_winner = false;    // the best is better than every other candidate, each comparison by itself
    bool any_better = false;      // some candidate is called better than another
    bool false_better = false;    // one that is not truly better is
    bool equivalent = false;      // the first and the second are called equivalent
    bool lead_covered = false;    // the interval of the first over the second holds the truth
    bool own_covered = false;     // that of the first's score
    bool winner_covered = false;  // that of the best's score, corrected for having been selected
    bool winner_raw = false;      // the same without the correction
    bool best_in_set = false;     // the confidence set holds the truly best
    bool found = false;           // the first is called better than the second
    bool non_inferior_claim = false;  // another than the best may be taken in its place
    bool false_claim = false;         // one that is truly worse than the truly best by more than the margin
    double width = 0.0;               // of the first's interval
};

inline bool holds(const Interval& interval, double truth) {
    return interval.low <= truth && truth <= interval.high;
}

inline StudyOutcome judge_study(const SimulatedStudy& study, std::uint64_t number) {
    const std::vector<CandidateOutcomes> drawn = draw_study(study, number);
    StudyOutcome outcome;
    const double first = true_score(study, true);
    const double other = true_score(study, false);
    const auto truth = [&](std::size_t candidate) { return candidate == 0 ? first : other; };
    const std::optional<Lead> lead = lead_of(drawn[0], drawn[1]);
    outcome.lead_covered = holds(lead->interval, first - other);
    const Interval own = score_of(drawn[0])->interval();
    outcome.own_covered = holds(own, first);
    outcome.width = own.high - own.low;
    std::vector<std::size_t> ranking(study.candidates);
    std::iota(ranking.begin(), ranking.end(), std::size_t{0});
    std::stable_sort(ranking.begin(), ranking.end(),
                     [&](std::size_t a, std::size_t b) { return drawn[a].mean() > drawn[b].mean(); });
    std::vector<const CandidateOutcomes*> ranked;
    for (const std::size_t candidate : ranking) ranked.push_back(&drawn[candidate]);
    const StudyVerdicts verdicts = judge(ranked, {.margin = study.margin});
    outcome.clear_winner = verdicts.clear;
    for (const PairVerdict& pair : verdicts.pairs) {
        const double difference = truth(ranking[pair.first]) - truth(ranking[pair.second]);
        const bool of_first_two = ranking[pair.first] + ranking[pair.second] == 1;
        if (pair.verdict == Verdict::better) {
            outcome.any_better = true;
            outcome.false_better |= difference <= 0.0;
            outcome.found |= of_first_two && ranking[pair.first] == 0;
        }
        outcome.equivalent |= of_first_two && pair.verdict == Verdict::equivalent;
    }
    const double best = std::max(first, other);
    for (std::size_t place = 0; place < ranking.size(); ++place) {
        const double own_truth = truth(ranking[place]);
        if (own_truth == best && verdicts.may_be_best[place]) outcome.best_in_set = true;
        if (place == 0 || !verdicts.non_inferior[place]) continue;
        outcome.non_inferior_claim = true;
        outcome.false_claim |= best - own_truth > study.margin + 1e-12;
    }
    const auto odds = selection_odds(
        ranked, verdicts, [](std::size_t, std::size_t) { return false; }, 200);
    const ScoreEstimate winner = *score_of(*ranked.front());
    outcome.winner_covered =
        holds(winner.interval_about(winner.mean - odds.front().inflation), truth(ranking.front()));
    outcome.winner_raw = holds(winner.interval(), truth(ranking.front()));
    return outcome;
}

// Whether any two candidates are called different at one of several looks, while seeds are added until then:
// all looks at the level that level_of_look() allots.
inline bool ever_better(SimulatedStudy study, std::uint64_t number, const std::vector<std::int64_t>& seeds,
                        std::optional<std::int64_t> most) {
    study.seeds = seeds.back();
    RandomStream random({.seed = number, .purpose = Purpose::sample, .epoch = 8});
    const SimulatedItems items = draw_items(study, random);
    const std::vector<double> common(static_cast<std::size_t>(study.seeds), 0.0);
    std::vector<CandidateOutcomes> whole;
    for (std::size_t c = 0; c < study.candidates; ++c)
        whole.push_back(draw_candidate(study, items, common, c == 0, random));
    SeedLooks looks{.earlier = {}, .most = most};
    for (const std::int64_t now : seeds) {
        std::vector<CandidateOutcomes> some;
        for (const CandidateOutcomes& candidate : whole)
            some.emplace_back(
                std::vector<SeedOutcomes>(candidate.seeds().begin(), candidate.seeds().begin() + now));
        moderate_seeds(some);
        std::stable_sort(some.begin(), some.end(),
                         [](const auto& a, const auto& b) { return a.mean() > b.mean(); });
        std::vector<const CandidateOutcomes*> ranked;
        for (const CandidateOutcomes& candidate : some) ranked.push_back(&candidate);
        const StudyVerdicts verdicts =
            judge(ranked, {.margin = study.margin, .level = level_of_look(looks, now)});
        for (const PairVerdict& pair : verdicts.pairs)
            if (pair.verdict == Verdict::better) return true;
        looks.earlier.push_back(now);
    }
    return false;
}

inline double share_ever_better(const SimulatedStudy& study, std::int64_t studies,
                                const std::vector<std::int64_t>& seeds, std::optional<std::int64_t> most) {
    std::vector<char> better(static_cast<std::size_t>(studies));
    parallel_for(studies, [&](std::int64_t number) {
        better[static_cast<std::size_t>(number)] =
            ever_better(study, static_cast<std::uint64_t>(number), seeds, most) ? 1 : 0;
    });
    return static_cast<double>(std::count(better.begin(), better.end(), 1)) / static_cast<double>(studies);
}

inline std::vector<StudyOutcome> judge_studies(const SimulatedStudy& study, std::int64_t studies) {
    std::vector<StudyOutcome> outcomes(static_cast<std::size_t>(studies));
    parallel_for(studies, [&](std::int64_t number) {
        outcomes[static_cast<std::size_t>(number)] = judge_study(study, static_cast<std::uint64_t>(number));
    });
    return outcomes;
}

// The fraction of the studies for which something holds.
inline double share_of(const std::vector<StudyOutcome>& outcomes, bool StudyOutcome::*holds) {
    return static_cast<double>(std::count_if(outcomes.begin(), outcomes.end(),
                                             [&](const StudyOutcome& outcome) { return outcome.*holds; })) /
           static_cast<double>(outcomes.size());
}

// Of one of two candidates over the other.
struct SimulatedLead {
    bool found = false;  // it is called better
    // Of the paired t-test over seeds, which takes the items as given: the p-value with the sign of the lead.
    double signed_p = 1.0;
};

inline SimulatedLead judge_lead(const SimulatedStudy& study, std::uint64_t number) {
    const std::vector<CandidateOutcomes> drawn = draw_study(study, number);
    SimulatedLead lead{.found = is_ahead(lead_of(drawn[0], drawn[1]))};
    std::vector<double> by_seed;
    for (std::size_t k = 0; k < drawn[0].seeds().size(); ++k)
        by_seed.push_back(drawn[0].seeds()[k].score - drawn[1].seeds()[k].score);
    const ResampledMean paired = resampled_mean(by_seed, 0.0);
    lead.signed_p = paired.mean < 0.0 ? -paired.p_value : paired.p_value;
    return lead;
}

inline std::vector<SimulatedLead> judge_leads(const SimulatedStudy& study, std::int64_t studies) {
    std::vector<SimulatedLead> leads(static_cast<std::size_t>(studies));
    parallel_for(studies, [&](std::int64_t number) {
        leads[static_cast<std::size_t>(number)] = judge_lead(study, static_cast<std::uint64_t>(number));
    });
    return leads;
}

template <typename Holds>
double share_of_leads(const std::vector<SimulatedLead>& leads, const Holds& holds) {
    return static_cast<double>(std::count_if(leads.begin(), leads.end(), holds)) /
           static_cast<double>(leads.size());
}

// The fraction in which the paired t-test over seeds is below a p-value, with the first ahead.
inline double share_of_paired_t(const std::vector<SimulatedLead>& leads, double level) {
    return share_of_leads(
        leads, [&](const SimulatedLead& lead) { return lead.signed_p > 0.0 && lead.signed_p < level; });
}

// The level at which the paired t-test over seeds tells as few equal candidates apart as it should: the
// p-value that 5 of 100 studies of equal candidates stay below, and 0.05 at most.
inline double honest_level(SimulatedStudy study, std::int64_t studies) {
    study.lead = 0.0;
    std::vector<double> p_values;
    for (const SimulatedLead& lead : judge_leads(study, studies)) p_values.push_back(std::abs(lead.signed_p));
    std::sort(p_values.begin(), p_values.end());
    return std::min(0.05, p_values[p_values.size() / 20]);
}

}  // namespace jevrin::bench
