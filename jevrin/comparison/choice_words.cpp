#include "jevrin/comparison/choice_words.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

std::string quoted(const std::string& name) {
    return fmt::format("'{}'", printable(name));
}

std::string between(const Interval& interval) {
    return fmt::format("{:.3f} to {:.3f}", interval.low, interval.high);
}

// Why the best is, or is not, separated from another candidate.
std::string judgement(const RankedCandidate& other) {
    const Lead& lead = *other.behind;
    if (other.separated) return "a significant difference";
    if (lead.rule == LeadRule::one_seed) return "with one seed the variance between seeds is unknown";
    if (lead.seeds < fewest_seeds)
        return lead.rule == LeadRule::resampled ? "two pairs of runs are too few"
                                                : "with two seeds the variance between seeds is poorly known";
    if (lead.first_only + lead.second_only < fewest_differing_units)
        return fmt::format("they differ on only {} items, too few", lead.first_only + lead.second_only);
    if (lead.interval.low > 0.0) return "not significant after correction for the number of comparisons";
    return "not significant";
}

std::string paired_by(LeadRule rule) {
    return rule == LeadRule::crossed    ? "seeds and items"
           : rule == LeadRule::one_seed ? "items alone"
                                        : "pairs of runs, corrected for their common training items";
}

std::string comparison(const RankedCandidate& best, const RankedCandidate& other, const std::string& metric) {
    if (!other.behind)
        return fmt::format("{} and {} have no items in common, so they are ranked and not compared.",
                           quoted(best.candidate), quoted(other.candidate));
    return fmt::format("{} leads {} by {:.3f} {} (95 % interval {} over {}; p {:.2g} after correction): {}.",
                       quoted(best.candidate), quoted(other.candidate), other.behind->mean, metric,
                       between(other.behind->interval), paired_by(other.behind->rule),
                       other.behind->adjusted_p, judgement(other));
}

std::string verdict(const Choice& choice, const ChoiceCounts& counts) {
    const RankedCandidate& best = choice.ranking.front();
    const RankedCandidate& chosen = choice.chosen_candidate();
    const std::string cost = spoken_cost(chosen, choice.cost);
    if (choice.ranking.size() == 1)
        return fmt::format("Only {} has finished runs; there is nothing to compare it with.",
                           quoted(choice.chosen));
    if (choice.clear)
        return fmt::format(
            "Use {}: its {} of {:.3f} on validation is above that of every other candidate, beyond "
            "the variation between seeds and items.",
            quoted(choice.chosen), spoken_metric(choice.metric), best.mean);
    if (counts.level < counts.tied)
        return fmt::format(
            "Use {} for now: {}, but fewer than {} seeds say little about the variance between seeds; train "
            "more seeds.",
            quoted(choice.chosen),
            counts.level == 1
                ? std::string("it leads every other candidate on these images")
                : fmt::format("it is the cheapest of the {} that lead the others on these images",
                              counts.level),
            fewest_seeds);
    if (counts.tied == std::ssize(choice.ranking))
        return fmt::format("The evidence does not separate the candidates; {} is the cheapest ({}).",
                           quoted(choice.chosen), cost);
    if (counts.tied == 1)
        return fmt::format("Use {}: it ranks first, but not everything could be compared with it.",
                           quoted(choice.chosen));
    const std::int64_t others = counts.tied - 1;
    return fmt::format(
        "Use {}: the evidence does not separate it from {} other candidate{} at the top, and "
        "it is the cheapest of them ({}).",
        quoted(choice.chosen), others, others == 1 ? "" : "s", cost);
}

std::string score_sentence(const Choice& choice) {
    const RankedCandidate& chosen = choice.chosen_candidate();
    const std::string units =
        choice.validation_units == choice.validation_items
            ? ""
            : fmt::format(" ({} units, since images that belong together are one piece of evidence)",
                          choice.validation_units);
    return fmt::format("Its {} on {} validation items{} is {:.3f}{}, mean of {} {}.",
                       spoken_metric(choice.metric), choice.validation_items, units, chosen.mean,
                       chosen.interval ? fmt::format(" (95 % interval {})", between(*chosen.interval)) : "",
                       chosen.seeds, chosen.seeds == 1 ? "seed" : "seeds");
}

// What is risked by not taking the best ranked one.
std::string risk_sentence(const Choice& choice) {
    const RankedCandidate& chosen = choice.chosen_candidate();
    if (!chosen.behind) return "";
    return fmt::format(
        "{} ranks first, {:.3f} higher; the chosen candidate is at most {:.3f} lower (95 % confidence).",
        quoted(choice.ranking.front().candidate), chosen.behind->mean,
        std::min(chosen.behind->interval.high, choice.ranking.front().mean));
}

std::string needed_sentence(const Choice& choice) {
    if (choice.ranking.size() < 2 || !choice.ranking[1].behind || choice.ranking[1].separated) return "";
    const Lead& lead = *choice.ranking[1].behind;
    if (lead.rule != LeadRule::crossed || lead.mean <= 0.0) return "";
    std::vector<std::string> ways;
    if (choice.needed.seeds)
        ways.push_back(fmt::format("{} seeds each instead of {} on the same images",
                                   std::max(*choice.needed.seeds, lead.seeds + 1), lead.seeds));
    if (choice.needed.items)
        ways.push_back(fmt::format("{} validation images instead of {}",
                                   std::max(*choice.needed.items, lead.items + 1), lead.items));
    const std::string between_them =
        fmt::format("If the difference of {:.3f} between the first two is real, ", lead.mean);
    if (ways.empty()) return between_them + "more seeds and more validation images are needed to detect it.";
    std::string text = between_them + fmt::format("about {} would detect it with 80 % power",
                                                  fmt::join(ways, ", or about "));
    if (!choice.needed.seeds) text += "; more seeds alone would not";
    if (!choice.needed.items) text += "; more images alone would not";
    return text + ".";
}

std::string optimism_sentence(const Choice& choice) {
    if (!choice.optimism || choice.ranking.size() < 2) return "";
    return fmt::format("Selecting the best of {} on the same items inflates its score by about {:.3f}.",
                       choice.ranking.size(), *choice.optimism);
}

std::string small_part_sentence(const Choice& choice) {
    constexpr std::int64_t small = 100;
    if (choice.validation_items == 0 || choice.validation_items >= small) return "";
    return fmt::format("{} validation items are few: one item changes accuracy by {:.3f}.",
                       choice.validation_items, 1.0 / static_cast<double>(choice.validation_items));
}

}  // namespace

std::string spoken_cost(const RankedCandidate& candidate, Cost cost) {
    switch (cost) {
        case Cost::training_seconds:
            return spoken_seconds(candidate.seconds) + " of training per run";
        case Cost::trained_parameters:
            return fmt::format("{} trained parameters", candidate.trainable_parameters);
        case Cost::operations:
            return candidate.multiplications == 0
                       ? std::string("operations not recorded")
                       : fmt::format("{} multiplications per prediction", candidate.multiplications);
        case Cost::file_size:
            return candidate.model_bytes == 0
                       ? std::string("model file missing")
                       : fmt::format("a model of {}", spoken_bytes(candidate.model_bytes));
    }
    unhandled(cost);
}

void put_into_words(Choice& choice, const ChoiceCounts& counts, const std::vector<std::string>& set_apart) {
    choice.reasons = {verdict(choice, counts)};
    choice.summary = choice.reasons.front();
    for (const std::string& sentence :
         {score_sentence(choice), risk_sentence(choice), needed_sentence(choice), optimism_sentence(choice),
          small_part_sentence(choice)})
        if (!sentence.empty()) choice.summary += " " + sentence;
    for (std::size_t k = 1; k < choice.ranking.size(); ++k)
        choice.reasons.push_back(
            comparison(choice.ranking.front(), choice.ranking[k], spoken_metric(choice.metric)));
    choice.reasons.insert(choice.reasons.end(), set_apart.begin(), set_apart.end());
}

}  // namespace jevrin::inline v1
