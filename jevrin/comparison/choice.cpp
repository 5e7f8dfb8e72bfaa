#include "jevrin/comparison/choice.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/metrics/influence.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>

namespace jevrin {
namespace {

// What one seed predicted: in one run, or in one for each fold, which together see every item once.
struct SeedEvidence {
    std::vector<std::size_t> labels;
    std::vector<std::size_t> predicted;
    std::string items;  // their ids, one after the other
};

// What the finished runs of one candidate say.
struct Evidence {
    RankedCandidate ranked;
    std::map<std::int64_t, SeedEvidence> seeds;
    CandidateInfluences influences;
};

// 0 when the file is gone.
std::int64_t size_of(const std::filesystem::path& file) {
    std::error_code error;
    const auto bytes = std::filesystem::file_size(file, error);
    return error ? 0 : static_cast<std::int64_t>(bytes);
}

std::vector<Evidence> gather(const Ledger& ledger, const StudyRecord& study,
                             std::vector<std::string>& unfinished) {
    std::vector<Evidence> all;
    for (const RunRecord& run : ledger.runs(study.id)) {
        if (run.state != RunState::finished || !run.best) {
            unfinished.push_back(fmt::format("{} ({})", run.name(), state_name(run.state)));
            continue;
        }
        if (all.empty() || all.back().ranked.candidate != run.candidate)
            all.push_back({.ranked = {.candidate = run.candidate,
                                      .regime = run.regime,
                                      .parameters = run.parameters,
                                      .trainable_parameters = run.trainable_parameters,
                                      .multiplications = run.multiplications,
                                      .model_bytes = size_of(ledger.model_file(run.id))}});
        Evidence& evidence = all.back();
        evidence.ranked.seconds += run.seconds;
        ++evidence.ranked.runs;
        SeedEvidence& seed = evidence.seeds[run.seed];
        for (PredictionRecord& p : ledger.predictions(run.id, Part::validation)) {
            seed.labels.push_back(p.label);
            seed.predicted.push_back(p.predicted);
            seed.items += p.item + '\n';
        }
    }
    for (Evidence& evidence : all) {
        std::vector<double> scores;
        for (auto& [number, seed] : evidence.seeds) {
            scores.push_back(
                score(ConfusionMatrix(study.classes.size(), seed.labels, seed.predicted), study.metric));
            evidence.influences[number] = {
                std::move(seed.items),
                item_influences(study.classes.size(), seed.labels, seed.predicted, study.metric)};
        }
        const MeanInterval mean = mean_interval(scores);
        evidence.ranked.mean = mean.mean;
        evidence.ranked.interval = mean.interval;
        evidence.ranked.seconds /= static_cast<double>(evidence.ranked.runs);
    }
    return all;
}

// Seconds are noisy: what takes little more than the cheapest costs the same, and of those the best ranked
// one is taken. Candidates come best first.
const Evidence* best_of_the_cheapest(const std::vector<const Evidence*>& candidates) {
    double least = candidates.front()->ranked.seconds;
    for (const Evidence* candidate : candidates) least = std::min(least, candidate->ranked.seconds);
    return *std::find_if(candidates.begin(), candidates.end(), [&](const Evidence* candidate) {
        return candidate->ranked.seconds <= 1.25 * least + 1.0;
    });
}

}  // namespace

Choice choose(const Ledger& ledger, const StudyRecord& study) {
    std::vector<std::string> unfinished;
    std::vector<Evidence> all = gather(ledger, study, unfinished);
    if (all.empty())
        throw InputError(fmt::format("study '{}' has no finished run yet; train its plan first", study.name));
    std::stable_sort(all.begin(), all.end(),
                     [](const Evidence& a, const Evidence& b) { return a.ranked.mean > b.ranked.mean; });
    Choice choice{.metric = study.metric, .test_looks = study.test_looks};
    const Evidence& best = all.front();
    const std::string metric = spoken_metric(study.metric);
    std::vector<const Evidence*> undecided = {&best};
    std::vector<const Evidence*> level = {&best};  // of them, those that these images do not put behind
    for (std::size_t i = 1; i < all.size(); ++i) {
        RankedCandidate& other = all[i].ranked;
        other.behind = lead_of(best.influences, all[i].influences);
        const bool separated = is_separated(other.behind);
        if (!separated) undecided.push_back(&all[i]);
        if (!other.behind || other.behind->interval.low <= 0) level.push_back(&all[i]);
        if (other.behind)
            choice.reasons.push_back(fmt::format(
                "'{}' leads '{}' by {:.3f} {} (95 % interval {:.3f} to {:.3f}, paired by seed and item): {}.",
                best.ranked.candidate, other.candidate, other.behind->mean, metric,
                other.behind->interval.low, other.behind->interval.high,
                separated                            ? "a real difference"
                : other.behind->seeds == 1           ? "with one seed the noise of seeds is unknown"
                : other.behind->seeds < fewest_seeds ? "with two seeds the noise of seeds is hardly known"
                                                     : "not distinguishable"));
        else
            choice.reasons.push_back(
                fmt::format("'{}' and '{}' share no seed on the same items, so they are not paired.",
                            best.ranked.candidate, other.candidate));
    }
    choice.clear = undecided.size() == 1 && all.size() > 1;
    const Evidence* cheapest = best_of_the_cheapest(level);
    choice.chosen = cheapest->ranked.candidate;
    std::string verdict;
    if (all.size() == 1)
        verdict =
            fmt::format("Only '{}' has finished runs; there is nothing to compare it with.", choice.chosen);
    else if (choice.clear)
        verdict = fmt::format(
            "Use '{}': its {} of {:.3f} on validation is above that of every other candidate, beyond "
            "the noise of seeds and items.",
            choice.chosen, metric, best.ranked.mean);
    else if (level.size() < undecided.size())
        verdict = fmt::format(
            "Use '{}' for the time being: {}, but of fewer than {} seeds the noise is hardly known; train "
            "more seeds.",
            choice.chosen,
            level.size() == 1
                ? std::string("it leads every other candidate on these images")
                : fmt::format("it is the cheapest of the {} that lead the others on these images",
                              level.size()),
            fewest_seeds);
    else if (undecided.size() == all.size())
        verdict = fmt::format(
            "The evidence does not separate the candidates; '{}' is the cheapest to train ({:.2g} s a "
            "run).",
            choice.chosen, cheapest->ranked.seconds);
    else
        verdict = fmt::format(
            "Use '{}': the evidence does not separate it from {} other candidate{} at the top, and it is "
            "the cheapest of them to train ({:.2g} s a run).",
            choice.chosen, undecided.size() - 1, undecided.size() == 2 ? "" : "s", cheapest->ranked.seconds);
    choice.reasons.insert(choice.reasons.begin(), verdict);
    if (!unfinished.empty())
        choice.reasons.push_back(
            fmt::format("{} not finished and {} not count: {}{}.",
                        unfinished.size() == 1 ? "1 run is" : fmt::format("{} runs are", unfinished.size()),
                        unfinished.size() == 1 ? "does" : "do", unfinished.front(),
                        unfinished.size() > 1 ? ", ..." : ""));
    for (Evidence& evidence : all) choice.ranking.push_back(std::move(evidence.ranked));
    return choice;
}

}  // namespace jevrin
