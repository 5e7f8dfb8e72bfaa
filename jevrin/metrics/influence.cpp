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
            all_correct_ += correct_[c];
            recalls_ += recall(support_[c], correct_[c]);
            with_items_ += support_[c] > 0.0;
            f1s_ += f1(support_[c], predictions_[c], correct_[c]);
            with_any_ += support_[c] + predictions_[c] > 0.0;
        }
    }

    double support(std::size_t one) const { return support_[one]; }

    // The score without one item of this cell; its class has others.
    double score_without(std::size_t label, std::size_t predicted, Metric metric) const {
        const double correct = label == predicted ? 1.0 : 0.0;
        switch (metric) {
            case Metric::accuracy:
                return (all_correct_ - correct) / (items_ - 1.0);
            case Metric::balanced_accuracy:
                return (recalls_ - recall(support_[label], correct_[label]) +
                        recall(support_[label] - 1.0, correct_[label] - correct)) /
                       with_items_;
            case Metric::macro_f1:
                return macro_f1_without(label, predicted);
        }
        unhandled(metric);
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

  private:
    double macro_f1_without(std::size_t label, std::size_t predicted) const {
        double sum = f1s_ - f1(support_[label], predictions_[label], correct_[label]);
        double counted = with_any_;
        if (label == predicted) {
            sum += f1(support_[label] - 1.0, predictions_[label] - 1.0, correct_[label] - 1.0);
        } else {
            sum += f1(support_[label] - 1.0, predictions_[label], correct_[label]);
            sum += f1(support_[predicted], predictions_[predicted] - 1.0, correct_[predicted]) -
                   f1(support_[predicted], predictions_[predicted], correct_[predicted]);
            // A class that was predicted once and has no items is no longer there.
            if (support_[predicted] + predictions_[predicted] == 1.0) counted -= 1.0;
        }
        return sum / counted;
    }
    static double recall(double support, double correct) { return support > 0.0 ? correct / support : 0.0; }
    static double f1(double support, double predictions, double correct) {
        return support + predictions > 0.0 ? 2.0 * correct / (support + predictions) : 0.0;
    }

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
        values.push_back(sums.support(labels[i]) > 1.0
                             ? n * all - (n - 1) * sums.score_without(labels[i], predicted[i], metric)
                             : all);
    return values;
}

}  // namespace jevrin::inline v1
