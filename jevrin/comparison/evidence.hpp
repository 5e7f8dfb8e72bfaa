// The evidence of a study: the results of its finished runs by candidate, the input of every comparison.
#pragma once

#include "jevrin/comparison/lead.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <map>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// One finished run and what it predicted on its validation part, by the ledger's number of the item.
struct RunEvidence {
    RunRecord run;
    std::int64_t training_items = 0;  // of its split
    std::vector<std::int64_t> items;
    std::vector<std::int64_t> units;  // of the items (OutcomeRecord::unit)
    std::vector<std::size_t> labels;
    std::vector<std::size_t> predicted = {};     // at the best epoch
    std::vector<std::size_t> cross_fitted = {};  // each at the epoch that the other half of the units
                                                 // chose (cross_fitted()); empty: not known
    double common_epoch_excess = 0.0;  // of the score at the best epoch over that at the epoch that is the
                                       // candidate's best by its mean curve

    ConfusionMatrix matrix(std::size_t classes) const { return {classes, labels, predicted}; }
};

struct CandidateEvidence {
    std::string candidate;
    Regime regime = Regime::scratch;
    std::vector<RunEvidence> runs;  // by seed, then fold
    std::int64_t failed_seeds = 0;  // with a run that failed, and none of which finished
    bool redraws_training = false;  // each seed was trained on a training part of its own

    // By seed, at the best epochs: of its run, or of its folds, which together see every item once.
    std::map<std::int64_t, ConfusionMatrix> seed_matrices(std::size_t classes) const;
    std::map<std::int64_t, double> seed_scores(std::size_t classes, Metric metric) const;
    // Seconds of training of a run, mean.
    double seconds() const;
};

// By which epoch runs are compared.
enum class EpochChoice {
    cross_fitted,  // chosen on one half of the units and scored on the other, and the reverse
    common,  // one for all runs of a candidate, the best of its mean curve: some run has no predictions by
             // epoch
};

struct StudyEvidence {
    std::size_t classes = 0;
    EpochChoice epochs = EpochChoice::cross_fitted;
    std::vector<CandidateEvidence> candidates;  // in order of their first run
    // What cannot be compared, in sentences: runs that are not finished, runs that saw another version of the
    // image set than most.
    std::vector<std::string> set_apart;
};

// Runs that saw different image sets cannot be compared: those on the set that the study has now count, or
// while none of them is finished, those on the one added last. This is one of them; null when no run is
// finished.
const RunRecord* run_that_counts(const StudyRecord& study, const std::vector<RunRecord>& runs);

// Of the study's finished runs that count. InputError when no run is finished.
StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study);
// The same for some of its runs.
StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study,
                              const std::vector<RunRecord>& runs);

// What a seed predicted: its run, or its folds, which together see every item once.
struct SeedPredictions {
    std::int64_t seed = 0;
    std::int64_t training_items = 0;  // of a run
    std::vector<std::int64_t> items;  // ascending
    std::vector<std::int64_t> units;
    std::vector<std::int64_t> folds;  // of each item; empty without folds
    std::vector<std::size_t> labels;
    std::vector<std::size_t> predicted;
    double excess = 0.0;  // of its score over the one that is compared

    ConfusionMatrix matrix(std::size_t classes) const { return {classes, labels, predicted}; }
};
// By seed, what is compared: cross-fitted where all runs are. Of seeds in folds those that have fewer folds
// than the others are left out.
std::vector<SeedPredictions> seed_predictions(const CandidateEvidence& evidence);

// For leads by a score of one's own: influences and correct say of each item what it does to the score of the
// seed (the mean of the influences is the score) and whether it is right; strata, the class of each where the
// score is a mean over classes, and empty otherwise. Each unit gets the influence of all its items, (G / n)
// times their sum for G units and n items: the mean stays, and its variance is that of units (cluster-robust:
// Liang & Zeger 1986). The stratum of a unit is that of most of its items.
SeedOutcomes unit_outcomes(const SeedPredictions& seed, std::span<const double> influences,
                           std::span<const double> correct, double score,
                           std::span<const std::uint32_t> strata = {});
// For leads by this metric. Seeds with fewer than two units are left out.
CandidateOutcomes outcomes_of(const CandidateEvidence& evidence, std::size_t classes, Metric metric);

}  // namespace jevrin::inline v1
