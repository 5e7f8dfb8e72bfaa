// The confusion matrix and the scores that follow from it. Rows are true classes, columns predicted ones.
//
//     ConfusionMatrix matrix(3);
//     matrix.add(/*true_class=*/0, /*predicted=*/2);
//     double score = matrix.balanced_accuracy();
//
// A score over classes leaves out classes without items; a ratio without cases is 0 where stated. An empty
// matrix scores 0.
#pragma once

#include "jevrin/base/class_counts.hpp"
#include "jevrin/base/enumeration.hpp"

#include <array>
#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class ConfusionMatrix {
  public:
    ConfusionMatrix() = default;
    explicit ConfusionMatrix(std::size_t classes);
    // From labels and predictions of equal length, all below classes.
    ConfusionMatrix(std::size_t classes, std::span<const std::size_t> labels,
                    std::span<const std::size_t> predicted);

    void add(std::size_t true_class, std::size_t predicted, std::int64_t count = 1);
    // Every cell of another one of as many classes.
    void add(const ConfusionMatrix& other);

    std::size_t classes() const { return classes_; }
    std::int64_t at(std::size_t true_class, std::size_t predicted) const {
        return counts_[true_class * classes_ + predicted];
    }
    std::int64_t total() const;
    std::int64_t correct() const;
    // What the scores are made of.
    ClassCounts counts() const;
    // Items whose true class is this.
    std::int64_t support(std::size_t true_class) const;
    // Items predicted as this class.
    std::int64_t predictions(std::size_t predicted) const;

    // Fraction of items predicted correctly.
    double accuracy() const;
    // Mean recall over the classes that have items (Brodersen 2010).
    double balanced_accuracy() const;
    // Mean F1 over the classes that have items or predictions; F1 = 2 TP / (2 TP + FP + FN).
    double macro_f1() const;

    // 0 when the class has no items.
    double recall(std::size_t true_class) const;
    // 0 when nothing is predicted as the class.
    double precision(std::size_t predicted) const;
    // 0 when the class has neither items nor predictions.
    double f1(std::size_t one_class) const;

  private:
    std::size_t classes_ = 0;
    std::vector<std::int64_t> counts_;
};

// The scores a plan may compare candidates by.
enum class Metric { accuracy, balanced_accuracy, macro_f1 };
const EnumNames<Metric>& names_of(Metric);
// The same for sentences and axes: "balanced accuracy".
std::string spoken_metric(Metric metric);
// 0 without items. By the metric, the same from counts as from the matrix that they are of.
double score(const ClassCounts& counts, Metric metric);
double score(const ConfusionMatrix& matrix, Metric metric);

inline constexpr Metric all_metrics[] = {Metric::accuracy, Metric::balanced_accuracy, Metric::macro_f1};

// A score by each metric.
struct MetricScores {
    std::array<double, std::size(all_metrics)> values{};  // in the order of all_metrics

    double& operator[](Metric metric) { return values[static_cast<std::size_t>(metric)]; }
    double operator[](Metric metric) const { return values[static_cast<std::size_t>(metric)]; }
};
MetricScores scores_by_metric(const ClassCounts& counts);

}  // namespace jevrin::inline v1
