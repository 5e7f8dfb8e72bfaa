// Diagnosis of learning curves: what they show, with the numbers as evidence.
//
//     const Diagnosis diagnosis = diagnose(ledger.curve(run.id), {.metric = study.metric, .baseline = ...});
//     diagnosis.findings.front().text()   // "overfit since epoch 9: validation loss rose from 0.47 to 0.61
//     ..."
//
// docs/diagnosis.md states every rule and threshold.
#pragma once

#include "jevrin/ledger/records.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

enum class Finding {
    too_short,        // to say anything
    at_baseline,      // no better than the majority class or chance
    rate_too_high,    // training itself jumps or diverges
    rate_too_low,     // training falls steadily and has hardly started
    overfit,          // validation loss rises while training loss falls, or lies far above it
    underfit,         // training itself stays poor and no longer improves
    unstable,         // validation jumps from epoch to epoch
    still_improving,  // more epochs would help
    good_fit,
};
// "overfit", "learning rate too high".
std::string spoken_finding(Finding finding);

// Losses are cross-entropies, in nats; all thresholds are fractions of other numbers of the same run.
struct DiagnosisThresholds {
    std::int64_t fewest_epochs = 4;
    double rise = 0.05;        // of the lowest validation loss: overfit when it rises by more,
    double least_rise = 0.02;  // and by more than so many nats
    double gap = 0.5;          // of the validation loss: overfit when training loss ends below it,
    double gap_opens = 0.8;    // since training loss fell below so much of it
    double poor = 0.5;         // of the loss of the baseline: training loss above it is poor
    double jump = 0.10;        // of the loss: mean departure of an epoch from its neighbours
    double divergence = 0.10;  // above the first epoch's training loss
    double fall = 0.03;        // of the validation loss, over the last quarter: still improving,
    double sure = 2.5;         // when the slope is so many of its standard errors
    double begun =
        0.30;  // of the first epoch's training loss: a steady fall that is smaller has hardly started
};

// The scores, on the same items, of baselines that look at no image.
struct Baseline {
    double score = 0.0;           // of the metric, always the commonest class
    double standard_error = 0.0;  // of the metric, for a classifier that guesses
    double loss = 0.0;            // cross-entropy of the classes' shares
    std::int64_t items = 0;
};
Baseline baseline_of(const ConfusionMatrix& validation, Metric metric);

struct DiagnosisSettings {
    Metric metric = Metric::balanced_accuracy;
    Baseline baseline = {};
    DiagnosisThresholds thresholds = {};
};

struct Observation {
    struct Number {
        double value = 0.0;
        int decimals = 3;
    };

    Finding finding = Finding::good_fit;
    std::string pattern = {};  // a sentence with "{}" for each number
    std::vector<Number> numbers = {};

    std::string text() const;
};
// Observations of the same pattern in one sentence: numbers that differ become ranges, "0.217-0.264".
std::string text_of(const std::vector<const Observation*>& observations);

struct Diagnosis {
    std::vector<Observation> findings;  // the gravest first; at least one
    std::int64_t overfit_since = 0;     // the epoch of the lowest validation loss, or after which the gap
                                        // opened; 0: not overfit
    double overfit_by = 0.0;            // validation loss at the end above its lowest, nats
    double slope = 0.0;                 // of the validation loss over the last quarter, nats an epoch

    Finding finding() const { return findings.front().finding; }
};

// curve: the epochs of one run in their order, at least one; the rules stand in docs/diagnosis.md.
Diagnosis diagnose(const std::vector<EpochRecord>& curve, const DiagnosisSettings& settings);

}  // namespace jevrin::inline v1
