#include "jevrin/comparison/agreement.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace jevrin::inline v1 {
namespace {

constexpr double nothing = std::numeric_limits<double>::quiet_NaN();

struct PairAgreement {
    double alike = nothing;
    double kappa = nothing;
};

// Items ascend in both.
PairAgreement agreement_of(const RunEvidence& a, const RunEvidence& b, std::size_t classes) {
    std::vector<double> first(classes, 0.0);
    std::vector<double> second(classes, 0.0);
    double alike = 0.0;
    double common = 0.0;
    for (std::size_t i = 0, j = 0; i < a.items.size() && j < b.items.size();) {
        if (a.items[i] < b.items[j]) {
            ++i;
        } else if (b.items[j] < a.items[i]) {
            ++j;
        } else {
            ++common;
            alike += a.predicted[i] == b.predicted[j];
            ++first[a.predicted[i++]];
            ++second[b.predicted[j++]];
        }
    }
    if (common == 0.0) return {};
    double by_chance = 0.0;
    for (std::size_t c = 0; c < classes; ++c) by_chance += first[c] / common * second[c] / common;
    alike /= common;
    return {alike, by_chance < 1.0 ? (alike - by_chance) / (1.0 - by_chance) : 1.0};
}

void compare_candidates(const StudyEvidence& evidence, Agreement& agreement) {
    const std::size_t count = evidence.candidates.size();
    agreement.alike.assign(count, std::vector<double>(count, nothing));
    agreement.kappa = agreement.alike;
    for (std::size_t a = 0; a < count; ++a)
        for (std::size_t b = a; b < count; ++b) {
            double alike = 0.0;
            double kappa = 0.0;
            double pairs = 0.0;
            for (const RunEvidence& first : evidence.candidates[a].runs)
                for (const RunEvidence& second : evidence.candidates[b].runs) {
                    if (a == b && first.run.id >= second.run.id) continue;
                    const PairAgreement pair = agreement_of(first, second, evidence.classes);
                    if (std::isnan(pair.alike)) continue;
                    alike += pair.alike;
                    kappa += pair.kappa;
                    ++pairs;
                }
            if (pairs == 0.0) continue;
            agreement.alike[a][b] = agreement.alike[b][a] = alike / pairs;
            agreement.kappa[a][b] = agreement.kappa[b][a] = kappa / pairs;
        }
}

// What all runs made of one item.
struct Votes {
    std::size_t label = 0;
    std::vector<std::int64_t> runs;     // by regime
    std::vector<std::int64_t> correct;  // by regime
    std::map<std::size_t, std::int64_t> called;
};

AgreedItem conclude(std::int64_t item, const Votes& votes) {
    AgreedItem result{.item = item, .label = votes.label};
    for (std::size_t r = 0; r < votes.runs.size(); ++r) {
        result.runs += votes.runs[r];
        result.correct += votes.correct[r];
        result.correct_fraction.push_back(votes.runs[r] == 0 ? nothing
                                                             : static_cast<double>(votes.correct[r]) /
                                                                   static_cast<double>(votes.runs[r]));
    }
    for (const auto& [one, count] : votes.called)
        if (count > result.most_predicted_runs) {
            result.most_predicted = one;
            result.most_predicted_runs = count;
        }
    return result;
}

bool is_only_correct_in(const AgreedItem& item, std::size_t regime) {
    if (!(item.correct_fraction[regime] > 0.5)) return false;
    for (std::size_t r = 0; r < item.correct_fraction.size(); ++r)
        if (r != regime && item.correct_fraction[r] > 0.5) return false;
    return true;
}

}  // namespace

Agreement agree(const StudyEvidence& evidence) {
    Agreement agreement;
    for (const CandidateEvidence& candidate : evidence.candidates) {
        agreement.candidates.push_back(candidate.candidate);
        if (std::find(agreement.regimes.begin(), agreement.regimes.end(), candidate.regime) ==
            agreement.regimes.end())
            agreement.regimes.push_back(candidate.regime);
    }
    std::map<std::int64_t, Votes> items;
    for (const CandidateEvidence& candidate : evidence.candidates) {
        const auto regime = static_cast<std::size_t>(
            std::find(agreement.regimes.begin(), agreement.regimes.end(), candidate.regime) -
            agreement.regimes.begin());
        for (const RunEvidence& run : candidate.runs)
            for (std::size_t i = 0; i < run.items.size(); ++i) {
                Votes& votes = items[run.items[i]];
                votes.label = run.labels[i];
                votes.runs.resize(agreement.regimes.size(), 0);
                votes.correct.resize(agreement.regimes.size(), 0);
                ++votes.runs[regime];
                votes.correct[regime] += run.predicted[i] == run.labels[i];
                ++votes.called[run.predicted[i]];
            }
    }
    for (const auto& [item, votes] : items) agreement.items.push_back(conclude(item, votes));
    std::stable_sort(
        agreement.items.begin(), agreement.items.end(), [](const AgreedItem& a, const AgreedItem& b) {
            // Fractions of correct runs; of equal ones those that more runs agree about.
            const auto first = a.correct * b.runs;
            const auto second = b.correct * a.runs;
            return first != second ? first < second
                                   : a.most_predicted_runs * b.runs > b.most_predicted_runs * a.runs;
        });
    compare_candidates(evidence, agreement);
    return agreement;
}

std::vector<std::size_t> items_in(const Agreement& agreement, ItemGroup group, std::optional<Regime> regime) {
    const auto wanted = std::find(agreement.regimes.begin(), agreement.regimes.end(), regime);
    if (regime && wanted == agreement.regimes.end())
        throw InputError(fmt::format("no run has the regime '{}'", name_of(*regime)));
    std::vector<std::size_t> places;
    for (std::size_t i = 0; i < agreement.items.size(); ++i) {
        const AgreedItem& item = agreement.items[i];
        bool is_in = false;
        switch (group) {
            case ItemGroup::missed:
                is_in = item.correct == 0;
                break;
            case ItemGroup::known:
                is_in = item.correct == item.runs;
                break;
            case ItemGroup::disputed:
                is_in = item.correct > 0 && item.correct < item.runs;
                break;
            case ItemGroup::only_regime:
                for (std::size_t r = 0; r < agreement.regimes.size(); ++r)
                    is_in |= (!regime || agreement.regimes[r] == regime) && is_only_correct_in(item, r);
                break;
        }
        if (is_in) places.push_back(i);
    }
    return places;
}

}  // namespace jevrin::inline v1
