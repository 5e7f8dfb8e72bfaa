#include "jevrin/metrics/influence.hpp"

namespace jevrin::inline v1 {
namespace {

// What scores over classes are made of.
class ClassSums {
  public:
    ClassSums(std::size_t classes, std::span<const std::size_t> labels,
              std::span<const std::size_t> predicted)
        : support_(classes, 0.0), predictions_(classes, 0.0), correct_(classes, 0.0) {
        for (std::size_t i = 0; i < labels.size(); ++i) {
            ++support_[labels[i]];
            ++predictions_[predicted[i]];
            if (labels[i] == predicted[i]) ++correct_[labels[i]];
        }
        items_ = static_cast<double>(labels.size());
        for (std::size_t c = 0; c < classes; ++c) {
            with_items_ += support_[c] > 0.0;
            with_any_ += support_[c] + predictions_[c] > 0.0;
            all_correct_ += correct_[c];
            recalls_ += support_[c] > 0.0 ? recall(c) : 0.0;
            f1s_ += support_[c] + predictions_[c] > 0.0 ? f1(c) : 0.0;
        }
    }

    double score(Metric metric) const {
        switch (metric) {
            case Metric::accuracy:
                return all_correct_ / items_;
            case Metric::balanced_accuracy:
                return recalls_ / with_items_;
            case Metric::macro_f1:
                return f1s_ / with_any_;
        }
        unhandled(metric);
    }

    // Of the score, by the weight of an item of this cell.
    double derivative(std::size_t label, std::size_t predicted, Metric metric) const {
        const double correct = label == predicted ? 1.0 : 0.0;
        switch (metric) {
            case Metric::accuracy:
                return (correct - all_correct_ / items_) / items_;
            case Metric::balanced_accuracy:
                return (correct - recall(label)) / support_[label] / with_items_;
            case Metric::macro_f1:
                // F1 = 2 correct / (support + predictions).
                if (label == predicted) return 2.0 * (1.0 - f1(label)) / used(label) / with_any_;
                return (-f1(label) / used(label) - f1(predicted) / used(predicted)) / with_any_;
        }
        unhandled(metric);
    }

  private:
    double recall(std::size_t one) const { return correct_[one] / support_[one]; }
    double used(std::size_t one) const { return support_[one] + predictions_[one]; }
    double f1(std::size_t one) const { return 2.0 * correct_[one] / used(one); }

    std::vector<double> support_;
    std::vector<double> predictions_;
    std::vector<double> correct_;
    double items_ = 0.0;
    double all_correct_ = 0.0;
    double recalls_ = 0.0;
    double with_items_ = 0.0;
    double f1s_ = 0.0;
    double with_any_ = 0.0;
};

}  // namespace

std::vector<double> item_influences(std::size_t classes, std::span<const std::size_t> labels,
                                    std::span<const std::size_t> predicted, Metric metric) {
    if (labels.empty()) return {};
    const ClassSums sums(classes, labels, predicted);
    const double all = sums.score(metric);
    const auto n = static_cast<double>(labels.size());
    std::vector<double> values;
    values.reserve(labels.size());
    for (std::size_t i = 0; i < labels.size(); ++i)
        values.push_back(all + n * sums.derivative(labels[i], predicted[i], metric));
    return values;
}

std::vector<std::uint32_t> item_strata(std::span<const std::size_t> labels, Metric metric) {
    if (metric == Metric::accuracy) return {};
    std::vector<std::uint32_t> strata;
    for (const std::size_t label : labels) strata.push_back(static_cast<std::uint32_t>(label));
    return strata;
}

}  // namespace jevrin::inline v1
