#include "jevrin/metrics/confusion_matrix.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <array>
#include <cassert>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

double ratio(std::int64_t part, std::int64_t whole) {
    return whole == 0 ? 0.0 : static_cast<double>(part) / static_cast<double>(whole);
}

// Of a fraction of each class, over the classes of which there is a whole.
template <typename ShareOf>
double mean_of_classes(std::size_t classes, ShareOf share_of) {
    double sum = 0.0;
    std::int64_t present = 0;
    for (std::size_t c = 0; c < classes; ++c) {
        const auto [part, whole] = share_of(c);
        if (whole == 0) continue;
        sum += ratio(part, whole);
        ++present;
    }
    return present == 0 ? 0.0 : sum / static_cast<double>(present);
}

}  // namespace

ConfusionMatrix::ConfusionMatrix(std::size_t classes) : classes_(classes), counts_(classes * classes, 0) {}

ConfusionMatrix::ConfusionMatrix(std::size_t classes, std::span<const std::size_t> labels,
                                 std::span<const std::size_t> predicted)
    : ConfusionMatrix(classes) {
    assert(labels.size() == predicted.size());
    for (std::size_t i = 0; i < labels.size(); ++i) add(labels[i], predicted[i]);
}

void ConfusionMatrix::add(std::size_t true_class, std::size_t predicted, std::int64_t count) {
    assert(true_class < classes_ && predicted < classes_);
    counts_[true_class * classes_ + predicted] += count;
}

void ConfusionMatrix::add(const ConfusionMatrix& other) {
    assert(other.classes_ == classes_);
    for (std::size_t i = 0; i < counts_.size(); ++i) counts_[i] += other.counts_[i];
}

std::int64_t ConfusionMatrix::total() const {
    return std::accumulate(counts_.begin(), counts_.end(), std::int64_t{0});
}

std::int64_t ConfusionMatrix::correct() const {
    std::int64_t sum = 0;
    for (std::size_t c = 0; c < classes_; ++c) sum += at(c, c);
    return sum;
}

std::int64_t ConfusionMatrix::support(std::size_t true_class) const {
    std::int64_t sum = 0;
    for (std::size_t c = 0; c < classes_; ++c) sum += at(true_class, c);
    return sum;
}

std::int64_t ConfusionMatrix::predictions(std::size_t predicted) const {
    std::int64_t sum = 0;
    for (std::size_t c = 0; c < classes_; ++c) sum += at(c, predicted);
    return sum;
}

ClassCounts ConfusionMatrix::counts() const {
    ClassCounts counts = ClassCounts::of_classes(classes_);
    for (std::size_t i = 0; i < classes_; ++i) {
        counts.correct[i] = at(i, i);
        for (std::size_t j = 0; j < classes_; ++j) {
            counts.labelled[i] += at(i, j);
            counts.predicted[j] += at(i, j);
        }
    }
    return counts;
}

double ConfusionMatrix::accuracy() const {
    return score(counts(), Metric::accuracy);
}

double ConfusionMatrix::balanced_accuracy() const {
    return score(counts(), Metric::balanced_accuracy);
}

double ConfusionMatrix::macro_f1() const {
    return score(counts(), Metric::macro_f1);
}

double ConfusionMatrix::recall(std::size_t true_class) const {
    return ratio(at(true_class, true_class), support(true_class));
}

double ConfusionMatrix::precision(std::size_t predicted) const {
    return ratio(at(predicted, predicted), predictions(predicted));
}

double ConfusionMatrix::f1(std::size_t one_class) const {
    // support = TP + FN and predictions = TP + FP.
    return ratio(2 * at(one_class, one_class), support(one_class) + predictions(one_class));
}

const EnumNames<Metric>& names_of(Metric) {
    static const EnumNames<Metric> names("metric", {{Metric::accuracy, "accuracy"},
                                                    {Metric::balanced_accuracy, "balanced_accuracy"},
                                                    {Metric::macro_f1, "macro_f1"}});
    return names;
}

std::string spoken_metric(Metric metric) {
    switch (metric) {
        case Metric::accuracy:
            return "accuracy";
        case Metric::balanced_accuracy:
            return "balanced accuracy";
        case Metric::macro_f1:
            return "macro F1";
    }
    unhandled(metric);
}

double score(const ClassCounts& counts, Metric metric) {
    switch (metric) {
        case Metric::accuracy:
            return ratio(std::accumulate(counts.correct.begin(), counts.correct.end(), std::int64_t{0}),
                         counts.total());
        case Metric::balanced_accuracy:
            return mean_of_classes(counts.labelled.size(), [&](std::size_t c) {
                return std::pair(counts.correct[c], counts.labelled[c]);
            });
        case Metric::macro_f1:
            return mean_of_classes(counts.labelled.size(), [&](std::size_t c) {
                return std::pair(2 * counts.correct[c], counts.labelled[c] + counts.predicted[c]);
            });
    }
    unhandled(metric);
}

double score(const ConfusionMatrix& matrix, Metric metric) {
    return score(matrix.counts(), metric);
}

MetricScores scores_by_metric(const ClassCounts& counts) {
    MetricScores scores;
    for (const Metric metric : all_metrics) scores[metric] = score(counts, metric);
    return scores;
}

}  // namespace jevrin::inline v1
