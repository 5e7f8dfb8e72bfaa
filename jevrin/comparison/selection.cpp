#include "jevrin/comparison/selection.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

// What of a candidate is drawn again: deviations from its mean that add up to 0.
struct Drawn {
    std::size_t place = 0;
    double mean = 0.0;
    std::vector<double> units;  // each over the number of units
    std::vector<double> seeds;
    double rest = 0.0;  // the deviation of what the estimate has beyond drawn units and seeds
};

// In a fixed order, eight sums beside each other.
double dot(const std::vector<double>& a, const std::vector<double>& b) {
    constexpr std::size_t lanes = 8;
    std::array<double, lanes> sums{};
    const std::size_t whole = a.size() / lanes * lanes;
    for (std::size_t i = 0; i < whole; i += lanes)
        for (std::size_t lane = 0; lane < lanes; ++lane) sums[lane] += a[i + lane] * b[i + lane];
    double sum = 0.0;
    for (std::size_t i = whole; i < a.size(); ++i) sum += a[i] * b[i];
    for (const double part : sums) sum += part;
    return sum;
}

double sum_of_squares(const std::vector<double>& values) {
    return dot(values, values);
}

// About the means of strata: the number of units of a class is no news.
std::vector<double> unit_deviations(const CrossedTable& table) {
    std::vector<double> deviations = within_strata(table.unit_means, table.strata);
    for (double& deviation : deviations) deviation /= static_cast<double>(deviations.size());
    return deviations;
}

// Scaled so that the mean of as many drawn with replacement has the variance of the seeds without the rest,
// which is in the units' means already. (Deviations of S seeds are too small by the root of S / (S - 1).)
std::vector<double> seed_deviations(const CandidateOutcomes& outcomes, const CrossedTable& table) {
    std::vector<double> deviations;
    for (const SeedOutcomes& seed : outcomes.seeds()) deviations.push_back(seed.score - table.mean);
    const double squares = sum_of_squares(deviations);
    const auto seeds = static_cast<double>(deviations.size());
    const double wanted = std::max(0.0, table.of_seed.value - table.rest.value) / seeds;
    const double scale = squares > 0.0 ? std::sqrt(wanted * seeds * seeds / squares) : 0.0;
    for (double& deviation : deviations) deviation *= scale;
    return deviations;
}

double drawn_seed_variance(const Drawn& drawn) {
    const auto seeds = static_cast<double>(drawn.seeds.size());
    return sum_of_squares(drawn.seeds) / seeds / seeds;
}

// Half of what the variance of leads over the first has beyond what is drawn: few units in a class, a phantom
// unit, folds.
void add_rest(std::vector<Drawn>& drawn, const StudyVerdicts& verdicts) {
    double sum = 0.0;
    for (std::size_t k = 1; k < drawn.size(); ++k) {
        const std::optional<Lead>& lead = verdicts.pair(drawn.front().place, drawn[k].place).lead;
        if (!lead) continue;
        double of_units = 0.0;
        for (std::size_t i = 0; i < drawn[k].units.size(); ++i) {
            const double difference = drawn.front().units[i] - drawn[k].units[i];
            of_units += difference * difference;
        }
        const double missing =
            std::max(0.0, lead->standard_error * lead->standard_error - of_units -
                              drawn_seed_variance(drawn.front()) - drawn_seed_variance(drawn[k])) /
            2;
        drawn[k].rest = std::sqrt(missing);
        sum += missing;
    }
    if (drawn.size() > 1) drawn.front().rest = std::sqrt(sum / static_cast<double>(drawn.size() - 1));
}

std::vector<Drawn> drawn_from(const std::vector<const CandidateOutcomes*>& candidates,
                              const StudyVerdicts& verdicts) {
    std::vector<Drawn> drawn;
    for (std::size_t place = 0; place < candidates.size(); ++place) {
        const CandidateOutcomes& outcomes = *candidates[place];
        if (!outcomes.table() || (!drawn.empty() && candidates[drawn.front().place]->seeds().front().units !=
                                                        outcomes.seeds().front().units))
            continue;
        drawn.push_back({.place = place,
                         .mean = outcomes.table()->mean,
                         .units = unit_deviations(*outcomes.table()),
                         .seeds = seed_deviations(outcomes, *outcomes.table())});
    }
    add_rest(drawn, verdicts);
    return drawn;
}

struct DrawnScores {
    std::vector<double> seen;   // of drawn seeds and units
    std::vector<double> whole;  // and of the rest
};

DrawnScores draw_scores(const std::vector<Drawn>& drawn, std::uint64_t number) {
    RandomStream random({.seed = 1, .purpose = Purpose::bootstrap, .item = number});
    const std::size_t units = drawn.front().units.size();
    std::vector<double> counts(units, 0.0);
    for (std::size_t draw = 0; draw < units; ++draw)
        ++counts[random.below(static_cast<std::uint32_t>(units))];
    DrawnScores scores;
    for (const Drawn& candidate : drawn) {
        double score = candidate.mean;
        score += dot(counts, candidate.units);
        const std::size_t seeds = candidate.seeds.size();
        for (std::size_t draw = 0; draw < seeds; ++draw)
            score +=
                candidate.seeds[random.below(static_cast<std::uint32_t>(seeds))] / static_cast<double>(seeds);
        scores.seen.push_back(score);
        scores.whole.push_back(score + candidate.rest * random.normal());
    }
    return scores;
}

std::vector<std::size_t> best_first(const std::vector<double>& scores) {
    std::vector<std::size_t> order(scores.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return scores[a] > scores[b]; });
    return order;
}

}  // namespace

std::vector<SelectionOdds> selection_odds(const std::vector<const CandidateOutcomes*>& candidates,
                                          const StudyVerdicts& verdicts, const CostsNoMore& costs_no_more,
                                          std::int64_t draws, const PairProgress& progress) {
    std::vector<SelectionOdds> odds(candidates.size());
    const std::vector<Drawn> drawn = drawn_from(candidates, verdicts);
    if (drawn.empty()) return odds;
    std::vector<DrawnScores> scores(static_cast<std::size_t>(draws));
    constexpr std::int64_t at_once = 100;
    for (std::int64_t begin = 0; begin < draws; begin += at_once) {
        parallel_for(std::min(at_once, draws - begin), [&](std::int64_t k) {
            scores[static_cast<std::size_t>(begin + k)] =
                draw_scores(drawn, static_cast<std::uint64_t>(begin + k));
        });
        if (progress) progress(std::min(begin + at_once, draws), draws);
    }
    for (const DrawnScores& draws_scores : scores) {
        const std::vector<std::size_t> places_seen = best_first(draws_scores.seen);
        for (std::size_t rank = 0; rank < places_seen.size(); ++rank)
            odds[drawn[rank].place].inflation +=
                draws_scores.seen[places_seen[rank]] - drawn[places_seen[rank]].mean;
        const std::vector<double>& draw = draws_scores.whole;
        const std::vector<std::size_t> order = best_first(draw);
        odds[drawn[order.front()].place].probability_best += 1.0;
        std::vector<std::size_t> front;
        for (std::size_t rank = 0; rank < order.size(); ++rank) {
            const std::size_t candidate = order[rank];
            const std::size_t place = drawn[candidate].place;
            odds[place].expected_loss += draw[order.front()] - draw[candidate];
            // Nobody better costs as little: it is enough to look at those on the front so far.
            if (std::none_of(front.begin(), front.end(),
                             [&](std::size_t other) { return costs_no_more(other, place); })) {
                front.push_back(place);
                odds[place].on_front += 1.0;
            }
        }
    }
    for (SelectionOdds& one : odds) {
        const auto total = static_cast<double>(draws);
        one.probability_best /= total;
        one.expected_loss /= total;
        one.on_front /= total;
        one.inflation = std::max(0.0, one.inflation / total);
    }
    return odds;
}

}  // namespace jevrin::inline v1
