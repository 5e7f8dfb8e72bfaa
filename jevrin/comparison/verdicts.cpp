#include "jevrin/comparison/verdicts.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/metrics/distributions.hpp"
#include "jevrin/metrics/significance.hpp"

#include <algorithm>
#include <cassert>
#include <cmath>
#include <numbers>

namespace jevrin::inline v1 {
namespace {

// Of so many standard normal values with correlations of 1/2, that all are below a limit: the integral over
// what they have in common.
double all_below(double limit, std::size_t count) {
    constexpr int steps = 200;
    constexpr double farthest = 8.0;
    constexpr double width = 2.0 * farthest / steps;
    double sum = 0.0;
    for (int step = 0; step <= steps; ++step) {
        const double common = -farthest + width * step;
        const double density = std::exp(-0.5 * common * common) / std::sqrt(2.0 * std::numbers::pi);
        sum += width * density *
               std::pow(normal_cdf(std::numbers::sqrt2 * limit + common), static_cast<double>(count));
    }
    return sum;
}

// All pairs that rank differently, with p-values corrected for their number.
void compare_all(StudyVerdicts& verdicts, const std::vector<const CandidateOutcomes*>& candidates,
                 const PairProgress& progress) {
    for (std::size_t a = 0; a < candidates.size(); ++a)
        for (std::size_t b = a + 1; b < candidates.size(); ++b)
            verdicts.pairs.push_back({.first = a, .second = b, .lead = {}});
    const std::int64_t total = std::ssize(verdicts.pairs);
    constexpr std::int64_t at_once = 4096;
    for (std::int64_t begin = 0; begin < total; begin += at_once) {
        parallel_for(std::min(at_once, total - begin), [&](std::int64_t k) {
            PairVerdict& pair = verdicts.pairs[static_cast<std::size_t>(begin + k)];
            pair.lead = lead_of(*candidates[pair.first], *candidates[pair.second]);
        });
        if (progress) progress(std::min(begin + at_once, total), total);
    }
    std::vector<double> p_values;
    for (const PairVerdict& pair : verdicts.pairs)
        if (pair.lead) p_values.push_back(pair.lead->p_value);
    const std::vector<double> adjusted = holm_adjusted(p_values);
    std::size_t next = 0;
    for (PairVerdict& pair : verdicts.pairs)
        if (pair.lead) pair.lead->adjusted_p = adjusted[next++];
}

// The lead of one place over another, whichever ranks higher.
class Leads {
  public:
    explicit Leads(const StudyVerdicts& verdicts) : verdicts_(verdicts) {}

    const std::optional<Lead>& between(std::size_t a, std::size_t b) const {
        return verdicts_.pair(std::min(a, b), std::max(a, b)).lead;
    }
    // One-sided, that the first's lead over the second is at least so much.
    double p_of_at_least(std::size_t first, std::size_t second, double lead) const {
        const std::optional<Lead>& found = between(first, second);
        if (!found) return 1.0;
        return first < second ? found->p_of_at_least(lead) : found->p_of_at_most(-lead);
    }

  private:
    const StudyVerdicts& verdicts_;
};

}  // namespace

std::string name_of(Verdict verdict) {
    switch (verdict) {
        case Verdict::better:
            return "better";
        case Verdict::equivalent:
            return "equivalent";
        case Verdict::unknown:
            return "unknown";
    }
    unhandled(verdict);
}

const PairVerdict& StudyVerdicts::pair(std::size_t first, std::size_t second) const {
    const std::size_t count = may_be_best.size();
    assert(first < second && second < count);
    return pairs[first * count - first * (first + 1) / 2 + second - first - 1];
}

double level_of_look(const SeedLooks& looks, std::int64_t seeds, double level) {
    const auto earlier = std::count_if(looks.earlier.begin(), looks.earlier.end(),
                                       [&](std::int64_t look) { return look < seeds; });
    if (!looks.most) return level / static_cast<double>(1 + earlier);
    const auto spent = [&](std::int64_t at) {
        const double share = std::min(1.0, static_cast<double>(at) / static_cast<double>(*looks.most));
        return level * std::log1p((std::numbers::e - 1.0) * share);
    };
    std::int64_t last = 0;
    for (const std::int64_t look : looks.earlier)
        if (look < seeds) last = std::max(last, look);
    return std::max(spent(seeds) - spent(last), 1e-9);
}

double level_with_control(double level, std::size_t comparisons) {
    if (comparisons <= 1) return level;
    double low = 0.0;
    double high = 8.0;
    for (int step = 0; step < 60; ++step) {
        const double middle = (low + high) / 2;
        (all_below(middle, comparisons) < 1.0 - level ? low : high) = middle;
    }
    return 1.0 - normal_cdf(high);
}

StudyVerdicts judge(const std::vector<const CandidateOutcomes*>& candidates, const VerdictSettings& settings,
                    const PairProgress& progress) {
    assert(!candidates.empty());
    const std::size_t count = candidates.size();
    StudyVerdicts verdicts{.pairs = {},
                           .may_be_best = std::vector<bool>(count, true),
                           .non_inferior = std::vector<bool>(count, false)};
    compare_all(verdicts, candidates, progress);
    const auto ahead = [&](const std::optional<Lead>& lead, double p) {
        return lead && lead->mean > 0.0 && p < settings.level && is_enough(*lead);
    };
    verdicts.clear = count > 1;
    for (std::size_t other = 1; other < count; ++other) {
        const std::optional<Lead>& lead = verdicts.pair(0, other).lead;
        verdicts.clear = verdicts.clear && ahead(lead, lead ? lead->p_value : 1.0);
    }
    for (PairVerdict& pair : verdicts.pairs) {
        if (is_equivalent(pair.lead, settings.margin, settings.level))
            pair.verdict = Verdict::equivalent;
        else if (ahead(pair.lead, pair.lead ? pair.lead->adjusted_p : 1.0) ||
                 (verdicts.clear && pair.first == 0))
            pair.verdict = Verdict::better;
    }
    // Not the best is who is behind another one: in comparisons that hold together when the other is the
    // truly best, and each by itself in both directions.
    const Leads leads(verdicts);
    const double level = level_with_control(settings.level, count - 1);
    for (std::size_t candidate = 1; candidate < count; ++candidate)
        for (std::size_t other = 0; other < candidate && verdicts.may_be_best[candidate]; ++other) {
            const std::optional<Lead>& lead = leads.between(other, candidate);
            if (ahead(lead, lead ? lead->p_value : 1.0) && lead->p_of_at_most(0.0) < level)
                verdicts.may_be_best[candidate] = false;
        }
    for (std::size_t candidate = 0; candidate < count; ++candidate) {
        bool within = true;
        for (std::size_t other = 0; other < count && within; ++other) {
            if (other == candidate || !verdicts.may_be_best[other]) continue;
            const std::optional<Lead>& lead = leads.between(candidate, other);
            within = lead && lead->seeds >= fewest_seeds &&
                     leads.p_of_at_least(other, candidate, settings.margin) < level;
        }
        verdicts.non_inferior[candidate] = within && count > 1;
    }
    return verdicts;
}

}  // namespace jevrin::inline v1
