#include "jevrin/comparison/matrices.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/metrics/significance.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace jevrin::inline v1 {
namespace {

// What each seed predicted for the same items at its best epoch; folds of a seed put together.
struct CommonPredictions {
    std::vector<std::int64_t> items;
    std::vector<std::int64_t> units;
    std::vector<std::size_t> labels;
    std::vector<std::vector<std::size_t>> predicted;  // [seed][item]
};

CommonPredictions put_together(const CandidateEvidence& evidence) {
    struct Outcome {
        std::int64_t unit = 0;
        std::size_t label = 0;
        std::size_t predicted = 0;
    };
    std::map<std::int64_t, std::map<std::int64_t, Outcome>> seeds;
    for (const RunEvidence& run : evidence.runs)
        for (std::size_t i = 0; i < run.items.size(); ++i)
            seeds[run.run.seed][run.items[i]] = {run.units[i], run.labels[i], run.predicted[i]};
    CommonPredictions result;
    for (const auto& [seed, items] : seeds) {
        std::vector<std::int64_t> numbers;
        result.predicted.emplace_back();
        result.labels.clear();
        result.units.clear();
        for (const auto& [item, outcome] : items) {
            numbers.push_back(item);
            result.units.push_back(outcome.unit);
            result.labels.push_back(outcome.label);
            result.predicted.back().push_back(outcome.predicted);
        }
        if (result.predicted.size() > 1 && numbers != result.items)
            throw InputError(
                fmt::format("the runs of '{}' were validated on different items; name one of them",
                            printable(evidence.candidate)));
        result.items = std::move(numbers);
    }
    return result;
}

// The units of one class, as columns of tables whose mean is the share of its items that is predicted as a
// class: of G units of n items each counts G / n times its items predicted so.
class ClassColumns {
  public:
    ClassColumns(const CommonPredictions& predictions, const std::vector<std::size_t>& places)
        : predictions_(predictions), places_(places) {
        std::map<std::int64_t, std::size_t> columns;
        for (const std::size_t place : places)
            columns_.push_back(columns.try_emplace(predictions.units[place], columns.size()).first->second);
        units_ = columns.size();
    }

    std::vector<std::vector<double>> predicted(std::size_t one) const {
        std::vector<std::vector<double>> table;
        const double of_item = static_cast<double>(units_) / static_cast<double>(places_.size());
        for (const auto& row : predictions_.predicted) {
            table.emplace_back(units_, 0.0);
            for (std::size_t k = 0; k < places_.size(); ++k)
                if (row[places_[k]] == one) table.back()[columns_[k]] += of_item;
        }
        return table;
    }

  private:
    const CommonPredictions& predictions_;
    const std::vector<std::size_t>& places_;
    std::vector<std::size_t> columns_;  // of each place
    std::size_t units_ = 0;
};

double grand_mean(const std::vector<std::vector<double>>& table) {
    double sum = 0.0;
    for (const auto& row : table)
        for (const double value : row) sum += value;
    return sum / static_cast<double>(table.size() * table.front().size());
}

struct Compared {
    double first = 0.0;
    double second = 0.0;
    Interval interval;
    double p_value = 1.0;
};

Compared compare(const std::vector<std::vector<double>>& first,
                 const std::vector<std::vector<double>>& second) {
    Compared result{.first = grand_mean(first), .second = grand_mean(second)};
    const double difference = result.first - result.second;
    const std::size_t units = first.front().size();
    // A single unit allows no inference.
    if (units < 2) {
        result.interval = {-1.0, 1.0};
        return result;
    }
    const CrossedEstimate estimate =
        crossed_difference({first.begin(), first.end()}, {second.begin(), second.end()});
    result.interval = {std::max(-1.0, estimate.interval.low), std::min(1.0, estimate.interval.high)};
    std::int64_t more = 0;
    std::int64_t less = 0;
    for (std::size_t i = 0; i < units; ++i) {
        double sum = 0.0;
        for (const auto& row : first) sum += row[i] / static_cast<double>(first.size());
        for (const auto& row : second) sum -= row[i] / static_cast<double>(second.size());
        more += sum > 1e-9;
        less += sum < -1e-9;
    }
    result.p_value = difference == 0.0 ? 1.0 : std::max(estimate.p_value, mcnemar_p_value(more, less));
    return result;
}

// Corrects the p-values of what was compared together.
template <typename Row>
void correct(std::vector<Row>& rows, std::int64_t seeds) {
    std::vector<double> p_values;
    for (const Row& row : rows) p_values.push_back(row.adjusted_p);
    const std::vector<double> adjusted = holm_adjusted(p_values);
    for (std::size_t k = 0; k < rows.size(); ++k) {
        rows[k].adjusted_p = adjusted[k];
        rows[k].beyond_chance = adjusted[k] < 0.05 && seeds >= fewest_seeds;
    }
}

}  // namespace

MatrixSpread matrix_spread(const std::vector<ConfusionMatrix>& matrices) {
    const std::size_t n = matrices.front().classes();
    const auto runs = static_cast<double>(matrices.size());
    MatrixSpread spread{.mean = CellFractions(n, std::vector<double>(n, 0.0)),
                        .deviation = CellFractions(n, std::vector<double>(n, 0.0)),
                        .runs = std::ssize(matrices)};
    const auto share = [](const ConfusionMatrix& matrix, std::size_t i, std::size_t j, double support) {
        return support > 0.0 ? static_cast<double>(matrix.at(i, j)) / support : 0.0;
    };
    for (std::size_t i = 0; i < n; ++i) {
        std::vector<double> supports;
        for (const ConfusionMatrix& matrix : matrices)
            supports.push_back(static_cast<double>(matrix.support(i)));
        for (std::size_t j = 0; j < n; ++j) {
            double& mean = spread.mean[i][j];
            for (std::size_t k = 0; k < matrices.size(); ++k)
                mean += share(matrices[k], i, j, supports[k]) / runs;
            double squares = 0.0;
            for (std::size_t k = 0; k < matrices.size(); ++k) {
                const double from_mean = share(matrices[k], i, j, supports[k]) - mean;
                squares += from_mean * from_mean;
            }
            if (matrices.size() > 1) spread.deviation[i][j] = std::sqrt(squares / (runs - 1));
        }
    }
    return spread;
}

MatrixDifference compare_matrices(const CandidateEvidence& first, const CandidateEvidence& second,
                                  std::size_t classes) {
    const CommonPredictions ours = put_together(first);
    const CommonPredictions theirs = put_together(second);
    if (ours.items != theirs.items)
        throw InputError(
            fmt::format("'{}' and '{}' were not validated on the same items, so their matrices "
                        "cannot be subtracted",
                        printable(first.candidate), printable(second.candidate)));
    MatrixDifference result{.difference = CellFractions(classes, std::vector<double>(classes, 0.0)),
                            .cells = {},
                            .gains = {},
                            .seeds = std::min(std::ssize(ours.predicted), std::ssize(theirs.predicted))};
    std::vector<std::vector<std::size_t>> places(classes);
    for (std::size_t i = 0; i < ours.labels.size(); ++i) places[ours.labels[i]].push_back(i);
    for (std::size_t label = 0; label < classes; ++label) {
        if (places[label].empty()) continue;
        std::vector<bool> used(classes, false);
        for (const CommonPredictions* side : {&ours, &theirs})
            for (const auto& row : side->predicted)
                for (const std::size_t place : places[label]) used[row[place]] = true;
        used[label] = true;
        const ClassColumns of_first(ours, places[label]);
        const ClassColumns of_second(theirs, places[label]);
        for (std::size_t predicted = 0; predicted < classes; ++predicted) {
            if (!used[predicted]) continue;
            const Compared cell = compare(of_first.predicted(predicted), of_second.predicted(predicted));
            result.difference[label][predicted] = cell.first - cell.second;
            result.cells.push_back({label, predicted, cell.first, cell.second, cell.interval, cell.p_value});
            if (predicted == label)
                result.gains.push_back(
                    {label, std::ssize(places[label]), cell.first, cell.second, cell.interval, cell.p_value});
        }
    }
    correct(result.cells, result.seeds);
    correct(result.gains, result.seeds);
    std::stable_sort(result.cells.begin(), result.cells.end(),
                     [](const CellDifference& a, const CellDifference& b) {
                         return std::abs(a.difference()) > std::abs(b.difference());
                     });
    std::stable_sort(result.gains.begin(), result.gains.end(),
                     [](const ClassGain& a, const ClassGain& b) { return a.gain() > b.gain(); });
    return result;
}

RecallTable recalls_of(const StudyEvidence& evidence) {
    const std::size_t n = evidence.classes;
    RecallTable table{.candidates = {},
                      .items = std::vector<std::int64_t>(n, 0),
                      .recalls = std::vector<std::vector<double>>(n),
                      .deviations = std::vector<std::vector<double>>(n)};
    for (const CandidateEvidence& candidate : evidence.candidates) {
        table.candidates.push_back(candidate.candidate);
        std::vector<ConfusionMatrix> matrices;
        for (const auto& [seed, matrix] : candidate.seed_matrices(n)) matrices.push_back(matrix);
        const MatrixSpread spread = matrix_spread(matrices);
        for (std::size_t c = 0; c < n; ++c) {
            const std::int64_t items = matrices.front().support(c);
            table.items[c] = std::max(table.items[c], items);
            table.recalls[c].push_back(items > 0 ? spread.mean[c][c]
                                                 : std::numeric_limits<double>::quiet_NaN());
            table.deviations[c].push_back(spread.deviation[c][c]);
        }
    }
    return table;
}

}  // namespace jevrin::inline v1
