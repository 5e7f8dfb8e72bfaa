// All scores of predictions, overall and by class.
//
//     Scores scores = score_predictions(table);
//     double kappa = scores[Measure::kappa];
//     std::vector<ClassScores> classes = score_classes(table);
//
// Means over classes leave out what is not there: recall those without items; precision and F1 those with
// neither items nor predictions; ROC AUC and average precision those without items, or without others. A
// ratio without cases is 0. The predicted class of a tie is the first in the order of the classes.
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/metrics/intervals.hpp"
#include "jevrin/metrics/predictions.hpp"

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

enum class Measure {
    accuracy,
    balanced_accuracy,   // mean recall (Brodersen 2010)
    macro_precision,     // mean over classes
    micro_precision,     // of all decisions together: accuracy, as each item has one label and one prediction
    weighted_precision,  // mean over classes, weighted by their items
    macro_recall,        // the same as balanced accuracy
    micro_recall,
    weighted_recall,  // the same as accuracy
    macro_f1,
    micro_f1,
    weighted_f1,
    top_k,              // fraction of items whose class is among the k of highest probability
    cross_entropy,      // mean of -log(probability of the label), in nats; below 1e-12 counts as 1e-12
    brier,              // mean of the summed squared errors of the probabilities, from 0 to 2 (Brier 1950)
    kappa,              // agreement beyond chance (Cohen 1960)
    matthews,           // correlation of labels and predictions (Matthews 1975; Gorodkin 2004)
    roc_auc,            // mean over classes, each against the rest
    average_precision,  // the same
    calibration_error,  // expected, over 10 bins (Guo 2017), debiased (calibration.hpp)
};
inline constexpr std::size_t measure_count = static_cast<std::size_t>(Measure::calibration_error) + 1;

// "macro_f1", and for people "macro F1"; top_k is named with its k.
std::string measure_name(Measure measure);
std::string spoken_measure(Measure measure, std::size_t k);

struct Scores {
    std::int64_t items = 0;
    std::int64_t correct = 0;
    std::size_t k = 0;  // of top_k
    std::array<double, measure_count> values{};

    // NaN when it is not defined: ROC AUC with a single class.
    double operator[](Measure measure) const { return values[static_cast<std::size_t>(measure)]; }
};

struct ScoreSettings {
    std::size_t k = 2;  // of top_k, at most the number of classes
};

// Every measure over all items of the table, at least one; the formulas stand at Measure.
Scores score_predictions(const PredictionTable& table, const ScoreSettings& settings = {});

// The scores, on the same items, of baselines that look at no image: always the commonest class with the
// classes' shares as probabilities, and a class drawn evenly with even probabilities.
Scores majority_baseline(const PredictionTable& table, const ScoreSettings& settings = {});
Scores random_baseline(const PredictionTable& table, const ScoreSettings& settings = {});

// By measure: Wilson's interval for fractions of items (accuracy and what equals it, top k); for balanced
// accuracy the recalls' Wilson intervals put together as Zou & Donner (2008) do for sums, which needs no
// mistake to be seen; for all others the percentile bootstrap by item (Efron 1979): items are drawn with
// replacement, resamples times, from the seed.
struct BootstrapSettings {
    std::int64_t resamples = 1000;
    std::uint64_t seed = 1;
    double confidence = 0.95;
    // ROC AUC and average precision get no interval when there are more probabilities than this.
    std::size_t most_ranked = 10'000'000;
};
std::array<std::optional<Interval>, measure_count> score_intervals(const PredictionTable& table,
                                                                   const ScoreSettings& settings = {},
                                                                   const BootstrapSettings& bootstrap = {});

// One class against the rest.
struct ClassScores {
    std::int64_t support = 0;          // items of the class
    std::int64_t true_positives = 0;   // of them, those predicted as it
    std::int64_t false_positives = 0;  // items of others predicted as it
    std::int64_t false_negatives = 0;  // its items predicted as others
    double precision = 0.0;
    double recall = 0.0;
    double f1 = 0.0;
    Interval precision_interval;  // Wilson
    Interval recall_interval;
    std::optional<double> roc_auc;
    std::optional<double> average_precision;
};
std::vector<ClassScores> score_classes(const PredictionTable& table);

// Both at once, in little more time than either.
struct Evaluation {
    Scores scores;
    std::vector<ClassScores> classes;
};
Evaluation evaluate(const PredictionTable& table, const ScoreSettings& settings = {});

// A cell off the diagonal that holds items.
struct Confusion {
    std::size_t true_class = 0;
    std::size_t predicted = 0;
    std::int64_t count = 0;
    std::int64_t support = 0;  // of the true class
};
// The fullest first; of equal ones the larger fraction of its class first.
std::vector<Confusion> strongest_confusions(const ConfusionMatrix& matrix, std::size_t most);

}  // namespace jevrin::inline v1
