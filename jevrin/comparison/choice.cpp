#include "jevrin/comparison/choice.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/choice_words.hpp"
#include "jevrin/metrics/crossed.hpp"
#include "jevrin/metrics/significance.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <limits>
#include <map>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

// What one candidate brings to the choice.
struct Contender {
    RankedCandidate ranked;
    CandidateOutcomes outcomes;
    // By seed, of the items in order: those of its folds put together.
    std::vector<std::vector<double>> by_seed;
    bool on_same_items = false;  // all seeds, so that by_seed is a table
};

// 0 when the file is gone.
std::int64_t size_of(const std::filesystem::path& file) {
    std::error_code error;
    const auto bytes = std::filesystem::file_size(file, error);
    return error ? 0 : static_cast<std::int64_t>(bytes);
}

void put_seeds_together(Contender& contender) {
    using ItemValue = std::pair<std::int64_t, double>;
    std::map<std::int64_t, std::vector<ItemValue>> seeds;
    for (const RunOutcomes& run : contender.outcomes)
        for (std::size_t i = 0; i < run.units.size(); ++i)
            seeds[run.seed].emplace_back(run.units[i], run.influences[i]);
    contender.on_same_items = !seeds.empty();
    for (auto& [seed, values] : seeds) {
        if (!std::is_sorted(values.begin(), values.end())) std::sort(values.begin(), values.end());
        const auto& first = seeds.begin()->second;
        contender.on_same_items &=
            std::equal(values.begin(), values.end(), first.begin(), first.end(),
                       [](const ItemValue& a, const ItemValue& b) { return a.first == b.first; });
        contender.by_seed.emplace_back();
        for (const auto& [item, value] : values) contender.by_seed.back().push_back(value);
    }
}

// Around the mean of the seeds' scores, with the variance of their table.
std::optional<Interval> interval_around(const Contender& contender, const std::vector<double>& scores) {
    if (!contender.on_same_items) return mean_interval(scores).interval;
    SeedsByItems table;
    for (const auto& row : contender.by_seed) table.emplace_back(row);
    const Interval of_table = crossed_mean(table).interval;
    const double reach = (of_table.high - of_table.low) / 2;
    const double mean = contender.ranked.mean;
    return Interval{std::max(0.0, mean - reach), std::min(1.0, mean + reach)};
}

Contender contender_of(const Ledger& ledger, const StudyRecord& study, const CandidateEvidence& evidence,
                       std::size_t classes) {
    const RunRecord& run = evidence.runs.front().run;
    Contender contender{.ranked = {.candidate = evidence.candidate,
                                   .regime = evidence.regime,
                                   .runs = std::ssize(evidence.runs),
                                   .seconds = evidence.seconds(),
                                   .parameters = run.parameters,
                                   .trainable_parameters = run.trainable_parameters,
                                   .multiplications = run.multiplications,
                                   .model_bytes = size_of(ledger.model_file(run.id))},
                        .outcomes = outcomes_of(evidence, classes, study.metric)};
    put_seeds_together(contender);
    std::vector<double> scores;
    for (const auto& [seed, score] : evidence.seed_scores(classes, study.metric)) scores.push_back(score);
    contender.ranked.mean = mean_interval(scores).mean;
    contender.ranked.seeds = std::ssize(scores);
    contender.ranked.interval = interval_around(contender, scores);
    return contender;
}

// Best first.
std::vector<Contender> rank(const Ledger& ledger, const StudyRecord& study, const StudyEvidence& evidence) {
    std::vector<Contender> contenders;
    for (const CandidateEvidence& candidate : evidence.candidates)
        contenders.push_back(contender_of(ledger, study, candidate, evidence.classes));
    std::stable_sort(contenders.begin(), contenders.end(),
                     [](const Contender& a, const Contender& b) { return a.ranked.mean > b.ranked.mean; });
    return contenders;
}

// Seconds are noisy: what takes little longer costs no more.
bool costs_no_more(double cost, double than, Cost kind) {
    return kind == Cost::training_seconds ? cost <= 1.25 * than + 1.0 : cost <= than;
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

// The candidates that saw the same items as the best, resampled together: how much higher does the best of a
// resample score on it than on the items as they are?
std::optional<double> selection_optimism(const std::vector<Contender>& contenders) {
    std::vector<std::vector<double>> means;  // by candidate, of items over seeds
    std::vector<double> scores;
    const CandidateOutcomes& best = contenders.front().outcomes;
    if (best.empty()) return std::nullopt;
    for (const Contender& contender : contenders) {
        if (!contender.on_same_items || contender.outcomes.front().units != best.front().units) continue;
        std::vector<double> mean(contender.by_seed.front().size(), 0.0);
        for (const auto& row : contender.by_seed)
            for (std::size_t i = 0; i < mean.size(); ++i)
                mean[i] += row[i] / static_cast<double>(contender.by_seed.size());
        scores.push_back(std::accumulate(mean.begin(), mean.end(), 0.0) / static_cast<double>(mean.size()));
        means.push_back(std::move(mean));
    }
    if (means.empty()) return std::nullopt;
    const std::size_t items = means.front().size();
    constexpr std::uint64_t resamples = 200;
    double sum = 0.0;
    for (std::uint64_t resample = 0; resample < resamples; ++resample) {
        RandomStream random({.seed = 1, .purpose = Purpose::bootstrap, .item = resample});
        std::vector<double> counts(items, 0.0);
        for (std::size_t draw = 0; draw < items; ++draw)
            ++counts[random.below(static_cast<std::uint32_t>(items))];
        double highest = -1e300;
        double inflation = 0.0;
        for (std::size_t c = 0; c < means.size(); ++c) {
            const double resampled = std::inner_product(counts.begin(), counts.end(), means[c].begin(), 0.0) /
                                     static_cast<double>(items);
            if (resampled > highest) {
                highest = resampled;
                inflation = resampled - scores[c];
            }
        }
        sum += inflation;
    }
    return std::max(0.0, sum / static_cast<double>(resamples));
}

}  // namespace

const EnumNames<Cost>& names_of(Cost) {
    static const EnumNames<Cost> names("the cost", {{Cost::training_seconds, "seconds"},
                                                    {Cost::trained_parameters, "trained"},
                                                    {Cost::operations, "operations"},
                                                    {Cost::file_size, "file"}});
    return names;
}

double RankedCandidate::cost(Cost kind) const {
    const auto known = [](std::int64_t value) {
        return value > 0 ? static_cast<double>(value) : std::numeric_limits<double>::infinity();
    };
    switch (kind) {
        case Cost::training_seconds:
            return seconds;
        case Cost::trained_parameters:
            return static_cast<double>(trainable_parameters);
        case Cost::operations:
            return known(multiplications);
        case Cost::file_size:
            return known(model_bytes);
    }
    unhandled(kind);
}

const RankedCandidate& Choice::chosen_candidate() const {
    return *std::find_if(ranking.begin(), ranking.end(),
                         [&](const RankedCandidate& candidate) { return candidate.candidate == chosen; });
}

Choice choose(const Ledger& ledger, const StudyRecord& study, const StudyEvidence& evidence,
              const ChoiceSettings& settings) {
    const std::vector<Contender> contenders = rank(ledger, study, evidence);
    Choice choice{.metric = study.metric,
                  .cost = settings.cost,
                  .optimism = selection_optimism(contenders),
                  .test_looks = study.test_looks};
    std::vector<const CandidateOutcomes*> others;
    for (const Contender& contender : contenders) {
        choice.ranking.push_back(contender.ranked);
        if (&contender != &contenders.front()) others.push_back(&contender.outcomes);
    }
    const auto leads = leads_over(contenders.front().outcomes, others);
    for (std::size_t k = 0; k < leads.size(); ++k) {
        choice.ranking[k + 1].behind = leads[k];
        choice.ranking[k + 1].separated = is_ahead(leads[k]);
    }
    mark_front(choice.ranking, settings.cost);
    if (!contenders.front().by_seed.empty()) {
        choice.validation_items = validation_items_of(contenders.front().outcomes);
        choice.validation_units = std::ssize(contenders.front().by_seed.front());
    }
    std::vector<const RankedCandidate*> tied;
    std::vector<const RankedCandidate*> level;  // of them, those that these images do not put behind
    for (const RankedCandidate& candidate : choice.ranking) {
        const bool is_best = &candidate == &choice.ranking.front();
        if (!is_best && (!candidate.behind || candidate.separated)) continue;
        tied.push_back(&candidate);
        if (is_best || candidate.behind->seeds >= fewest_seeds || candidate.behind->interval.low <= 0)
            level.push_back(&candidate);
    }
    choice.clear = choice.ranking.size() > 1 &&
                   std::all_of(choice.ranking.begin() + 1, choice.ranking.end(),
                               [](const RankedCandidate& candidate) { return candidate.separated; });
    choice.chosen = best_of_the_cheapest(level, settings.cost).candidate;
    if (choice.ranking.size() > 1 && choice.ranking[1].behind)
        choice.needed = needed_evidence(*choice.ranking[1].behind);
    put_into_words(choice, {.tied = std::ssize(tied), .level = std::ssize(level)}, evidence.set_apart);
    return choice;
}

Choice choose(const Ledger& ledger, const StudyRecord& study, const ChoiceSettings& settings) {
    return choose(ledger, study, gather_evidence(ledger, study), settings);
}

std::vector<CandidatePair> compare_pairs(const Ledger& ledger, const StudyRecord& study,
                                         const StudyEvidence& evidence) {
    const std::vector<Contender> contenders = rank(ledger, study, evidence);
    std::vector<CandidatePair> pairs;
    std::vector<double> p_values;
    for (std::size_t a = 0; a < contenders.size(); ++a)
        for (std::size_t b = a + 1; b < contenders.size(); ++b) {
            pairs.push_back({contenders[a].ranked.candidate, contenders[b].ranked.candidate,
                             lead_of(contenders[a].outcomes, contenders[b].outcomes)});
            if (pairs.back().lead) p_values.push_back(pairs.back().lead->p_value);
        }
    const std::vector<double> adjusted = holm_adjusted(p_values);
    std::size_t next = 0;
    for (CandidatePair& pair : pairs)
        if (pair.lead) pair.lead->adjusted_p = adjusted[next++];
    return pairs;
}

}  // namespace jevrin::inline v1
