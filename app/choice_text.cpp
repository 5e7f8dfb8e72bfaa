#include "choice_text.hpp"

#include "output.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

std::string p_cell(double p) {
    return p < 0.0005 ? "<0.001" : fmt::format("{:.3f}", p);
}

std::string lead_cell(const std::optional<Lead>& lead) {
    return lead
               ? fmt::format("{:.3f} ({:.3f} to {:.3f})", lead->mean, lead->interval.low, lead->interval.high)
               : "";
}

// Why a candidate stands where it does.
std::string standing(const Choice& choice, const RankedCandidate& c) {
    if (&c == &choice.ranking.front()) return "best";
    if (!c.behind) return "not comparable";
    if (c.told_apart) return "behind";
    return c.behind->seeds < fewest_seeds ? "too few seeds" : "not told apart";
}

std::string cost_cell(const RankedCandidate& c, Cost cost) {
    switch (cost) {
        case Cost::training_seconds:
            return fmt::format("{:.2f}", c.seconds);
        case Cost::trained_parameters:
            return with_commas(c.trainable_parameters);
        case Cost::operations:
            return c.multiplications == 0 ? "" : with_commas(c.multiplications);
        case Cost::file_size:
            return c.model_bytes == 0 ? "" : spoken_bytes(c.model_bytes);
    }
    return "";
}

std::string cost_head(Cost cost) {
    return cost == Cost::training_seconds     ? "s/run"
           : cost == Cost::trained_parameters ? "trained"
           : cost == Cost::operations         ? "operations"
                                              : "file";
}

}  // namespace

std::string choice_text(const Choice& choice) {
    std::string text = wrapped(choice.summary, terminal_width()) + "\n";
    Table table({"candidate", "regime", spoken_metric(choice.metric), "95 % interval", "seeds",
                 cost_head(choice.cost), "front", "behind the best by", "p", ""},
                {2, 4, 5, 8});
    constexpr std::size_t most = 40;
    const std::size_t shown = std::min(most, choice.ranking.size());
    for (std::size_t k = 0; k < shown; ++k) {
        const RankedCandidate& c = choice.ranking[k];
        table.add(
            {(c.candidate == choice.chosen ? "> " : "  ") + short_cell(c.candidate), name_of(c.regime),
             fmt::format("{:.3f}", c.mean),
             c.interval ? fmt::format("{:.3f} to {:.3f}", c.interval->low, c.interval->high) : "unknown",
             std::to_string(c.seeds), cost_cell(c, choice.cost), c.on_front ? "*" : "", lead_cell(c.behind),
             c.behind ? p_cell(c.behind->adjusted_p) : "", standing(choice, c)});
    }
    text += table.text();
    if (shown < choice.ranking.size())
        text +=
            fmt::format("... and {} more candidates (--csv FILE for all)\n", choice.ranking.size() - shown);
    text += fmt::format(
        "\nintervals over seeds and items; p corrected for {}; front *: no other is better at the "
        "same cost or less\n",
        plural(std::ssize(choice.ranking) - 1, "comparison"));
    // Behind the verdict and one sentence a candidate stand those about what is set apart.
    for (std::size_t i = choice.ranking.size(); i < choice.reasons.size(); ++i)
        text += choice.reasons[i] + "\n";
    text += choice.test_looks == 0
                ? "Chosen on the validation part; the test part has not been looked at.\n"
                : fmt::format("Chosen on the validation part; the test part has been looked at {}.\n",
                              plural(choice.test_looks, "time"));
    return text;
}

std::string pairs_text(const std::vector<CandidatePair>& pairs) {
    Table table({"first", "second", "lead of the first", "p", "items: first only", "second only", "exact p"},
                {3, 4, 5, 6});
    constexpr std::size_t most = 60;
    const std::size_t shown = std::min(most, pairs.size());
    for (std::size_t k = 0; k < shown; ++k) {
        const CandidatePair& pair = pairs[k];
        if (pair.lead)
            table.add({short_cell(pair.first), short_cell(pair.second), lead_cell(pair.lead),
                       p_cell(pair.lead->adjusted_p), with_commas(pair.lead->first_only),
                       with_commas(pair.lead->second_only), p_cell(pair.lead->exact_p)});
        else
            table.add({short_cell(pair.first), short_cell(pair.second), "not comparable", "", "", "", ""});
    }
    std::string text = table.text();
    if (shown < pairs.size())
        text += fmt::format("... and {} more pairs (--json for all)\n", pairs.size() - shown);
    return text + fmt::format(
                      "p over seeds and items, corrected for {}; the exact test (McNemar) knows the items "
                      "alone, not the noise of seeds\n",
                      plural(std::ssize(pairs), "comparison"));
}

}  // namespace jevrin::app
