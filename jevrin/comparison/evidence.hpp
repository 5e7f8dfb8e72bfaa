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
    std::vector<std::size_t> predicted;

    ConfusionMatrix matrix(std::size_t classes) const { return {classes, labels, predicted}; }
};

struct CandidateEvidence {
    std::string candidate;
    Regime regime = Regime::scratch;
    std::vector<RunEvidence> runs;  // by seed, then fold

    // By seed: of its run, or of its folds, which together see every item once.
    std::map<std::int64_t, ConfusionMatrix> seed_matrices(std::size_t classes) const;
    std::map<std::int64_t, double> seed_scores(std::size_t classes, Metric metric) const;
    // Seconds of training of a run, mean.
    double seconds() const;
};

struct StudyEvidence {
    std::size_t classes = 0;
    std::vector<CandidateEvidence> candidates;  // in order of their first run
    // What cannot be compared, in sentences: runs that are not finished, runs that saw another version of the
    // image set than most.
    std::vector<std::string> set_apart;
};

// Of the study's finished runs. Runs that saw different image sets cannot be compared: those on the set that
// the study has now count, or while there are none, those on the one added last. InputError when no run is
// finished.
StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study);
// The same for some of its runs.
StudyEvidence gather_evidence(const Ledger& ledger, const StudyRecord& study,
                              const std::vector<RunRecord>& runs);
// For leads by a score of one's own: influences and correct say of each item what it does to the score of the
// run (the mean of the influences is the score) and whether it is right. Each unit gets the influence of all
// its items, (G / n) times their sum for G units and n items: the mean stays, and its variance is that of
// units (cluster-robust: Liang & Zeger 1986).
RunOutcomes unit_outcomes(const RunEvidence& run, std::span<const double> influences,
                          std::span<const double> correct, double score);
// For leads by this metric.
CandidateOutcomes outcomes_of(const CandidateEvidence& evidence, std::size_t classes, Metric metric);

}  // namespace jevrin::inline v1
