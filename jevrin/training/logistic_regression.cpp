#include "jevrin/training/logistic_regression.hpp"

#include <Eigen/Core>

#include <algorithm>
#include <cassert>
#include <cmath>
#include <deque>

namespace jevrin::inline v1 {
namespace {

using DoubleMatrix = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
using Vector = Eigen::VectorXd;

constexpr std::size_t memory = 10;    // pairs that the method remembers
constexpr Eigen::Index block = 1024;  // items that are brought to double at a time
constexpr double sufficient = 1e-4;   // fraction of the promised decrease that a step must give (Armijo 1966)

class RegressionProblem {
  public:
    RegressionProblem(std::span<const float> features, std::span<const std::size_t> labels,
                      std::span<const double> weights, std::size_t classes, double l2)
        : features_(features),
          labels_(labels),
          weights_(weights),
          items_(static_cast<Eigen::Index>(labels.size())),
          width_(static_cast<Eigen::Index>(features.size() / labels.size())),
          classes_(static_cast<Eigen::Index>(classes)),
          l2_(l2 / static_cast<double>(labels.size())) {
        measure();
    }

    Eigen::Index size() const { return (width_ + 1) * classes_; }

    // The objective at weights [width + 1, classes], the last row being the biases, and its slope.
    double value(const Vector& at, Vector& slope) {
        const Eigen::Map<const DoubleMatrix> w(at.data(), width_ + 1, classes_);
        slope.setZero(size());
        Eigen::Map<DoubleMatrix> g(slope.data(), width_ + 1, classes_);
        loss_ = 0.0;
        for (Eigen::Index begin = 0; begin < items_; begin += block) {
            const Eigen::Index count = std::min(block, items_ - begin);
            const DoubleMatrix x = standardised(begin, count);
            DoubleMatrix p = x * w.topRows(width_);
            p.rowwise() += w.row(width_);
            for (Eigen::Index i = 0; i < count; ++i) {
                const auto item = static_cast<std::size_t>(begin + i);
                const double share = (weights_.empty() ? 1.0 : weights_[item]) / total_weight_;
                const auto label = static_cast<Eigen::Index>(labels_[item]);
                double* const row = p.row(i).data();
                const double most = *std::max_element(row, row + classes_);
                loss_ -= share * (row[label] - most);
                double sum = 0.0;
                for (Eigen::Index c = 0; c < classes_; ++c) sum += row[c] = std::exp(row[c] - most);
                loss_ += share * std::log(sum);
                for (Eigen::Index c = 0; c < classes_; ++c) row[c] *= share / sum;
                row[label] -= share;
            }
            g.topRows(width_).noalias() += x.transpose() * p;
            g.row(width_) += p.colwise().sum();
        }
        g.topRows(width_) += l2_ * w.topRows(width_);
        return loss_ + 0.5 * l2_ * w.topRows(width_).squaredNorm();
    }

    double loss() const { return loss_; }  // at the place of the last value()

    // The same function of features as they are.
    void unstandardise(const Vector& at, LogisticRegression& result) const {
        const Eigen::Map<const DoubleMatrix> w(at.data(), width_ + 1, classes_);
        result.weight = Tensor({width_, classes_});
        result.bias = Tensor({classes_});
        for (Eigen::Index c = 0; c < classes_; ++c) {
            double bias = w(width_, c);
            for (Eigen::Index f = 0; f < width_; ++f) {
                const double weight = w(f, c) * inverse_deviation_[f];
                bias -= weight * mean_[f];
                result.weight.data()[f * classes_ + c] = static_cast<float>(weight);
            }
            result.bias.data()[c] = static_cast<float>(bias);
        }
    }

  private:
    void measure() {
        mean_ = Vector::Zero(width_);
        inverse_deviation_ = Vector::Zero(width_);
        Vector squares = Vector::Zero(width_);
        const auto row = [&](Eigen::Index i) {
            return Eigen::Map<const Eigen::VectorXf>(features_.data() + i * width_, width_).cast<double>();
        };
        for (Eigen::Index i = 0; i < items_; ++i) mean_ += row(i);
        mean_ /= static_cast<double>(items_);
        for (Eigen::Index i = 0; i < items_; ++i) squares += (row(i) - mean_).cwiseAbs2();
        for (Eigen::Index f = 0; f < width_; ++f) {
            const double deviation = std::sqrt(squares[f] / static_cast<double>(items_));
            // A constant feature is ignored.
            if (deviation > 1e-12 * (1.0 + std::abs(mean_[f]))) inverse_deviation_[f] = 1.0 / deviation;
        }
        for (const double w : weights_) total_weight_ += w;
        if (weights_.empty()) total_weight_ = static_cast<double>(items_);
    }

    DoubleMatrix standardised(Eigen::Index begin, Eigen::Index count) const {
        using Rows = Eigen::Matrix<float, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
        const Eigen::Map<const Rows> rows(features_.data() + begin * width_, count, width_);
        DoubleMatrix x = rows.cast<double>();
        x.rowwise() -= mean_.transpose();
        x.array().rowwise() *= inverse_deviation_.transpose().array();
        return x;
    }

    std::span<const float> features_;
    std::span<const std::size_t> labels_;
    std::span<const double> weights_;
    Eigen::Index items_;
    Eigen::Index width_;
    Eigen::Index classes_;
    double l2_;
    double total_weight_ = 0.0;
    double loss_ = 0.0;
    Vector mean_;
    Vector inverse_deviation_;
};

// What the method remembers of a step: how far, and how the slope changed.
struct Pair {
    Vector step;
    Vector change;
    double scale;
};

// The two-loop recursion (Nocedal & Wright 2006, algorithm 7.4).
Vector direction(const Vector& slope, const std::deque<Pair>& pairs) {
    Vector q = slope;
    std::vector<double> shares(pairs.size());
    for (std::size_t k = pairs.size(); k-- > 0;) {
        shares[k] = pairs[k].scale * pairs[k].step.dot(q);
        q -= shares[k] * pairs[k].change;
    }
    if (!pairs.empty()) q *= 1.0 / (pairs.back().scale * pairs.back().change.squaredNorm());
    for (std::size_t k = 0; k < pairs.size(); ++k)
        q += (shares[k] - pairs[k].scale * pairs[k].change.dot(q)) * pairs[k].step;
    return -q;
}

}  // namespace

LogisticRegression fit_logistic_regression(std::span<const float> features,
                                           std::span<const std::size_t> labels,
                                           std::span<const double> weights, std::size_t classes,
                                           const LogisticSettings& settings) {
    assert(!labels.empty() && features.size() % labels.size() == 0);
    RegressionProblem problem(features, labels, weights, classes, settings.l2_regularisation);
    Vector at = Vector::Zero(problem.size());
    Vector slope(problem.size());
    double value = problem.value(at, slope);
    std::deque<Pair> pairs;
    LogisticRegression result;
    for (;; ++result.steps) {
        result.slope = slope.cwiseAbs().maxCoeff();
        result.converged = result.slope <= settings.tolerance;
        if (result.converged || result.steps == settings.most_steps) break;
        const Vector towards = direction(slope, pairs);
        const double promised = towards.dot(slope);
        double length = pairs.empty() ? 1.0 / std::max(1.0, slope.norm()) : 1.0;
        Vector next_slope(problem.size());
        Vector next = at + length * towards;
        double next_value = problem.value(next, next_slope);
        while (!(next_value <= value + sufficient * length * promised) && length > 1e-12) {
            length *= 0.5;
            next = at + length * towards;
            next_value = problem.value(next, next_slope);
        }
        if (!(next_value < value)) break;  // as low as double can tell
        Pair pair{next - at, next_slope - slope, 0.0};
        const double curvature = pair.step.dot(pair.change);
        if (curvature > 1e-12 * pair.change.squaredNorm()) {
            pair.scale = 1.0 / curvature;
            pairs.push_back(std::move(pair));
            if (pairs.size() > memory) pairs.pop_front();
        }
        at = std::move(next);
        slope = std::move(next_slope);
        value = next_value;
    }
    problem.value(at, slope);
    result.loss = problem.loss();
    problem.unstandardise(at, result);
    return result;
}

}  // namespace jevrin::inline v1
