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

std::string joined(const std::vector<std::string>& names, const char* conjunction = "and") {
    if (names.size() == 1) return names.front();
    return fmt::format("{} {} {}", fmt::join(names.begin(), names.end() - 1, ", "), conjunction,
                       names.back());
}

// Why nothing is known of a pair.
std::string why_unknown(const Lead& lead) {
    if (lead.rule == LeadRule::one_seed) return "unknown, since with one seed the variance between seeds is";
    if (lead.seeds < fewest_seeds)
        return lead.rule == LeadRule::resampled
                   ? "unknown: two pairs of runs are too few"
                   : "unknown: with two seeds the variance between seeds is poorly known";
    if (lead.first_only + lead.second_only < fewest_differing_units)
        return fmt::format("unknown: they differ on only {} items, too few",
                           lead.first_only + lead.second_only);
    if (lead.interval.low > 0.0) return "unknown after correction for the number of comparisons";
    return "unknown";
}

std::string judgement(const Choice& choice, const RankedCandidate& other) {
    switch (other.verdict) {
        case Verdict::better:
            return "better";
        case Verdict::equivalent:
            return fmt::format("equivalent within {:.3f}", choice.margin);
        case Verdict::unknown:
            return why_unknown(*other.behind);
    }
    unhandled(other.verdict);
}

std::string estimated_over(LeadRule rule) {
    switch (rule) {
        case LeadRule::crossed:
            return "seeds and items";
        case LeadRule::one_seed:
            return "items alone";
        case LeadRule::folds:
            return "seeds, items and folds";
        case LeadRule::resampled:
            return "pairs of runs, corrected for their common training items";
    }
    unhandled(rule);
}

std::string comparison(const Choice& choice, const RankedCandidate& other) {
    const RankedCandidate& best = choice.ranking.front();
    if (!other.behind)
        return fmt::format("{} and {} have no items in common, so they are ranked and not compared.",
                           quoted(best.candidate), quoted(other.candidate));
    return fmt::format("{} leads {} by {:.3f} {} (95 % interval {} over {}; p {:.2g} after correction): {}.",
                       quoted(best.candidate), quoted(other.candidate), other.behind->mean,
                       spoken_metric(choice.metric), between(other.behind->interval),
                       estimated_over(other.behind->rule), other.behind->adjusted_p,
                       judgement(choice, other));
}

// What the best is compared with on fewer seeds than any conclusion needs.
std::vector<std::string> compared_on_few_seeds(const Choice& choice) {
    std::vector<std::string> names;
    for (std::size_t k = 1; k < choice.ranking.size(); ++k)
        if (const auto& behind = choice.ranking[k].behind; behind && behind->seeds < fewest_seeds)
            names.push_back(quoted(choice.ranking[k].candidate));
    return names;
}

// The others that may be the best and have this verdict.
std::vector<std::string> rivals(const Choice& choice, Verdict verdict) {
    std::vector<std::string> names;
    for (std::size_t k = 1; k < choice.ranking.size(); ++k)
        if (choice.ranking[k].may_be_best && choice.ranking[k].verdict == verdict)
            names.push_back(quoted(choice.ranking[k].candidate));
    return names;
}

// Up to three names, or how many there are.
std::string named(const std::vector<std::string>& names, const char* conjunction) {
    constexpr std::size_t most_named = 3;
    if (names.size() <= most_named) return joined(names, conjunction);
    return fmt::format("{} others, such as {},", names.size(), names.front());
}

std::string best_verdict(const Choice& choice) {
    const std::string name = quoted(choice.chosen);
    if (choice.clear)
        return fmt::format(
            "Use {}: its {} of {:.3f} on validation is better than that of every other candidate, beyond the "
            "variation between seeds and items, {}.",
            name, spoken_metric(choice.metric), choice.ranking.front().mean,
            choice.redraws_training ? "and between training parts drawn from these images"
                                    : "for networks trained on this training part");
    if (const auto few = compared_on_few_seeds(choice); !few.empty())
        return fmt::format(
            "Use {} for now: it ranks first, but fewer than {} seeds{} say little about the variance between "
            "seeds; train more seeds.",
            name, fewest_seeds,
            choice.ranking.front().seeds < fewest_seeds ? std::string() : " of " + named(few, "and"));
    std::string text = fmt::format("Use {}: it ranks first", name);
    if (const auto equivalent = rivals(choice, Verdict::equivalent); !equivalent.empty())
        text += fmt::format("; {} {} equivalent within the margin of {:.3f}", named(equivalent, "and"),
                            equivalent.size() == 1 ? "is" : "are", choice.margin);
    if (const auto unknown = rivals(choice, Verdict::unknown); !unknown.empty())
        text += fmt::format(", but whether it is better than {} is unknown", named(unknown, "or"));
    return text + ".";
}

std::string verdict(const Choice& choice) {
    const RankedCandidate& chosen = choice.chosen_candidate();
    const RankedCandidate& best = choice.ranking.front();
    if (choice.ranking.size() == 1)
        return fmt::format("Only {} has finished runs; there is nothing to compare it with.",
                           quoted(choice.chosen));
    if (&chosen == &best) return best_verdict(choice);
    const std::string cost = spoken_cost(chosen, choice.cost);
    if (choice.rule == ChoiceRule::one_standard_error)
        return fmt::format(
            "Use {} by the rule of one standard error: it is the cheapest ({}) whose {} is within {:.3f} of "
            "that of {}, which ranks first.",
            quoted(choice.chosen), cost, spoken_metric(choice.metric), best.standard_error.value_or(0.0),
            quoted(best.candidate));
    return fmt::format(
        "Use {}: it is cheaper ({}), and not worse than the best by the margin of {:.3f} (95 % confidence); "
        "{} "
        "ranks first, {:.3f} higher.",
        quoted(choice.chosen), cost, choice.margin, quoted(best.candidate), best.mean - chosen.mean);
}

std::string score_sentence(const Choice& choice) {
    const RankedCandidate& chosen = choice.chosen_candidate();
    const std::string units =
        choice.validation_units == choice.validation_items
            ? ""
            : fmt::format(" ({} units, since images that belong together are one piece of evidence)",
                          choice.validation_units);
    std::string text =
        fmt::format("Its {} on {} validation items{} is {:.3f}{}, mean of {} {}",
                    spoken_metric(choice.metric), choice.validation_items, units, chosen.mean,
                    chosen.interval ? fmt::format(" (95 % interval {})", between(*chosen.interval)) : "",
                    chosen.seeds, chosen.seeds == 1 ? "seed" : "seeds");
    if (choice.corrected && choice.optimism && *choice.optimism >= 0.0005)
        text += fmt::format("; corrected for its selection among {}, {:.3f} ({})", choice.ranking.size(),
                            choice.corrected->mean, between(choice.corrected->interval));
    return text + ".";
}

// What a cheaper candidate would lose is unknown: the cheapest of those that may be as good.
std::string cheaper_sentence(const Choice& choice) {
    const RankedCandidate& chosen = choice.chosen_candidate();
    const RankedCandidate* cheapest = nullptr;
    for (const RankedCandidate& other : choice.ranking)
        if (other.may_be_best && other.behind && other.behind->interval.low < choice.margin &&
            !costs_no_more(chosen.cost(choice.cost), other.cost(choice.cost), choice.cost) &&
            (cheapest == nullptr || other.cost(choice.cost) < cheapest->cost(choice.cost)))
            cheapest = &other;
    if (cheapest == nullptr || &chosen != &choice.ranking.front() || choice.rule != ChoiceRule::margin)
        return "";
    return fmt::format(
        "Whether {} ({}) is as good within the margin of {:.3f} is unknown: it is {:.3f} lower, and may be "
        "up to {:.3f} lower (95 % confidence).",
        quoted(cheapest->candidate), spoken_cost(*cheapest, choice.cost), choice.margin,
        cheapest->behind->mean, std::min(cheapest->behind->interval.high, choice.ranking.front().mean));
}

std::string odds_sentence(const Choice& choice) {
    const RankedCandidate& chosen = choice.chosen_candidate();
    if (choice.ranking.size() < 2 || choice.clear || chosen.odds.probability_best == 0.0) return "";
    return fmt::format(
        "In {} of bootstrap draws of seeds and items it is the best; its expected loss against the best is "
        "{:.3f}.",
        percent(chosen.odds.probability_best), chosen.odds.expected_loss);
}

// An estimate: from 1000 on with two significant digits.
std::string estimated(std::int64_t number) {
    std::int64_t unit = 1;
    while (number / unit >= 1000) unit *= 10;
    if (unit > 1) unit *= 10;
    return with_commas((number + unit / 2) / unit * unit);
}

std::string spoken_range(const NeededNumber& number, std::int64_t least) {
    const auto at_least = [least](std::int64_t value) { return estimated(std::max(value, least)); };
    return fmt::format("{} ({} to {})", at_least(*number.expected), at_least(number.least.value_or(least)),
                       number.most ? at_least(*number.most) : "any number");
}

std::string needed_sentence(const Choice& choice) {
    if (choice.ranking.size() < 2 || !choice.ranking[1].behind ||
        choice.ranking[1].verdict != Verdict::unknown)
        return "";
    const Lead& lead = *choice.ranking[1].behind;
    if (lead.rule != LeadRule::crossed || lead.mean <= 0.0) return "";
    std::vector<std::string> ways;
    if (choice.needed.seeds.expected)
        ways.push_back(fmt::format("{} seeds each instead of {} on the same images",
                                   spoken_range(choice.needed.seeds, lead.seeds + 1), lead.seeds));
    if (choice.needed.items.expected)
        ways.push_back(fmt::format("{} validation images instead of {}",
                                   spoken_range(choice.needed.items, lead.items + 1), lead.items));
    const std::string between_them =
        fmt::format("If the difference of {:.3f} between the first two is real, ", lead.mean);
    if (ways.empty()) return between_them + "more seeds and more validation images are needed to detect it.";
    std::string text = between_them + fmt::format("about {} would detect it with 80 % power",
                                                  fmt::join(ways, ", or about "));
    if (!choice.needed.seeds.expected) text += "; more seeds alone would not";
    if (!choice.needed.items.expected) text += "; more images alone would not";
    return text + ".";
}

// With few seeds and many candidates.
std::string hopeless_sentence(const Choice& choice) {
    constexpr std::size_t many = 12;
    const std::size_t count = choice.ranking.size();
    if (count <= many || !choice.ranking[1].behind) return "";
    const Lead& lead = *choice.ranking[1].behind;
    if (lead.rule != LeadRule::crossed || lead.seeds > fewest_seeds) return "";
    const auto pairs = static_cast<double>(count * (count - 1) / 2);
    const double level = choice.level / pairs;
    constexpr std::int64_t more = 10;
    return fmt::format(
        "With {} seeds and {} candidates this study can hardly find differences: corrected for {:.0f} pairs, "
        "a difference must be about {:.3f} to be found with 80 % power; with {} seeds about {:.3f}, and "
        "between two candidates alone {:.3f}.",
        lead.seeds, count, pairs, detectable_lead(lead, lead.seeds, level), more,
        detectable_lead(lead, more, level), detectable_lead(lead, more, choice.level));
}

std::string small_part_sentence(const Choice& choice) {
    constexpr std::int64_t small = 100;
    if (choice.validation_items == 0 || choice.validation_items >= small) return "";
    return fmt::format("{} validation items are few: one item changes accuracy by {:.3f}.",
                       choice.validation_items, 1.0 / static_cast<double>(choice.validation_items));
}

// What the numbers rest on, sentence by sentence.
std::vector<std::string> notes(const Choice& choice, const SeedLooks& looks) {
    std::vector<std::string> sentences;
    const RankedCandidate& chosen = choice.chosen_candidate();
    const double at_best = chosen.best_epoch_mean;
    if (choice.epochs == EpochChoice::common)
        sentences.push_back(
            "Some runs have no predictions by epoch, so candidates are compared at one epoch each, the best "
            "of its mean curve; that selection inflates scores a little.");
    else if (at_best - chosen.mean >= 0.0005)
        sentences.push_back(
            fmt::format("Scores are cross-fitted: the epoch is chosen on one half of the items and scored on "
                        "the other. At its runs' best epochs {} has {:.3f}.",
                        quoted(chosen.candidate), at_best));
    for (const auto& [name, items] : choice.rare_classes)
        sentences.push_back(fmt::format("Class {} has only {} for validation: its recall is hardly known.",
                                        quoted(name), plural(items, "item")));
    for (const RankedCandidate& candidate : choice.ranking)
        if (const auto interval = candidate.failure_interval())
            sentences.push_back(fmt::format(
                "{} failed in {} of {} seeds (95 % interval {:.0f} to {:.0f} %); its score is that of the "
                "others.",
                quoted(candidate.candidate), candidate.failed_seeds, candidate.failed_seeds + candidate.seeds,
                100 * interval->low, 100 * interval->high));
    if (choice.level < significance_level) {
        std::vector<std::string> seeds;
        for (const std::int64_t look : looks.earlier) seeds.push_back(std::to_string(look));
        sentences.push_back(
            fmt::format("Candidates {}: tests use the level {:.4f}, so that all looks together keep {}.",
                        seeds.empty() ? fmt::format("may be given up to {} seeds", looks.most.value_or(0))
                                      : fmt::format("were compared before, with {} seeds", joined(seeds)),
                        choice.level, significance_level));
    }
    if (const std::string hopeless = hopeless_sentence(choice); !hopeless.empty())
        sentences.push_back(hopeless);
    return sentences;
}

}  // namespace

std::string spoken_verdict(const RankedCandidate& candidate) {
    switch (candidate.verdict) {
        case Verdict::better:
            return "worse";
        case Verdict::equivalent:
            return "equivalent";
        case Verdict::unknown:
            if (candidate.behind && candidate.behind->seeds < fewest_seeds) return "few seeds";
            return candidate.may_be_best ? "unknown" : "not the best";
    }
    unhandled(candidate.verdict);
}

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
        case Cost::latency:
            return candidate.prediction_cost
                       ? fmt::format("{:.3g} ms for one image", candidate.prediction_cost->milliseconds)
                       : std::string("prediction not measured");
        case Cost::batch_time:
            return candidate.prediction_cost ? fmt::format("{:.3g} ms per image in a batch",
                                                           candidate.prediction_cost->batch_milliseconds)
                                             : std::string("prediction not measured");
        case Cost::prediction_memory:
            return candidate.prediction_cost ? fmt::format("{} of memory for a prediction",
                                                           spoken_bytes(candidate.prediction_cost->bytes))
                                             : std::string("prediction not measured");
    }
    unhandled(cost);
}

void put_into_words(Choice& choice, const SeedLooks& looks, const std::vector<std::string>& set_apart) {
    choice.reasons = {verdict(choice)};
    choice.summary = choice.reasons.front();
    for (const std::string& sentence :
         {score_sentence(choice), cheaper_sentence(choice), odds_sentence(choice), needed_sentence(choice),
          small_part_sentence(choice)})
        if (!sentence.empty()) choice.summary += " " + sentence;
    for (std::size_t k = 1; k < choice.ranking.size(); ++k)
        choice.reasons.push_back(comparison(choice, choice.ranking[k]));
    const std::vector<std::string> remarks = notes(choice, looks);
    choice.reasons.insert(choice.reasons.end(), remarks.begin(), remarks.end());
    choice.reasons.insert(choice.reasons.end(), set_apart.begin(), set_apart.end());
}

}  // namespace jevrin::inline v1
