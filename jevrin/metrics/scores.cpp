#include "jevrin/metrics/scores.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/metrics/calibration.hpp"
#include "jevrin/metrics/ranking.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

constexpr double undefined = std::numeric_limits<double>::quiet_NaN();
constexpr double least_probability = 1e-12;

struct MeasureNames {
    const char* name;
    const char* spoken;
};
constexpr std::array<MeasureNames, measure_count> names = {{
    {"accuracy", "accuracy"},
    {"balanced_accuracy", "balanced accuracy"},
    {"macro_precision", "macro precision"},
    {"micro_precision", "micro precision"},
    {"weighted_precision", "weighted precision"},
    {"macro_recall", "macro recall"},
    {"micro_recall", "micro recall"},
    {"weighted_recall", "weighted recall"},
    {"macro_f1", "macro F1"},
    {"micro_f1", "micro F1"},
    {"weighted_f1", "weighted F1"},
    {"top_k", "top"},
    {"cross_entropy", "cross-entropy"},
    {"brier", "Brier score"},
    {"kappa", "Cohen's kappa"},
    {"matthews", "Matthews correlation"},
    {"roc_auc", "ROC AUC, macro"},
    {"average_precision", "average precision, macro"},
    {"calibration_error", "calibration error"},
}};

double ratio(double part, double whole) {
    return whole == 0.0 ? 0.0 : part / whole;
}

// What one item adds to the scores that are means over items.
struct ItemScores {
    std::uint32_t label = 0;
    std::uint32_t predicted = 0;
    std::uint32_t bin = 0;
    bool in_top_k = false;
    double loss = 0.0;
    double brier = 0.0;
    double confidence = 0.0;
};

ItemScores score_item(std::span<const float> row, std::size_t label, std::size_t k) {
    ItemScores item;
    item.label = static_cast<std::uint32_t>(label);
    const float own = row[label];
    float top = row[0];
    float squares = 0.0F;
    std::size_t before = 0;
    for (std::size_t c = 0; c < row.size(); ++c) {
        top = std::max(top, row[c]);
        squares += row[c] * row[c];
        before += row[c] > own || (row[c] == own && c < label) ? 1U : 0U;
    }
    item.predicted = static_cast<std::uint32_t>(std::find(row.begin(), row.end(), top) - row.begin());
    item.in_top_k = before < k;
    const double p = own;
    item.loss = -std::log(std::max(p, least_probability));
    item.brier = static_cast<double>(squares) - p * p + (1.0 - p) * (1.0 - p);
    item.confidence = std::min(1.0, static_cast<double>(top));
    item.bin = static_cast<std::uint32_t>(reliability_bin(item.confidence, usual_reliability_bins));
    return item;
}

std::vector<ItemScores> score_items(const PredictionTable& table, std::size_t k) {
    std::vector<ItemScores> items(table.items());
    constexpr std::int64_t rows_at_a_time = 512;
    const auto rows = static_cast<std::int64_t>(table.items());
    const std::int64_t chunks = (rows + rows_at_a_time - 1) / rows_at_a_time;
    parallel_for(chunks, [&](std::int64_t chunk) {
        const IndexRange range = chunk_range(rows, chunks, chunk);
        for (auto i = static_cast<std::size_t>(range.begin); i < static_cast<std::size_t>(range.end); ++i)
            items[i] = score_item(table.row(i), table.labels[i], k);
    });
    return items;
}

// The margins and the diagonal of a confusion matrix: all that its scores need.
struct Margins {
    std::vector<double> support;
    std::vector<double> predictions;
    std::vector<double> correct;

    explicit Margins(std::size_t classes)
        : support(classes, 0.0), predictions(classes, 0.0), correct(classes, 0.0) {}
};

class Filling {
  public:
    explicit Filling(Scores& scores) : scores_(scores) {}
    double& operator[](Measure measure) { return scores_.values[static_cast<std::size_t>(measure)]; }

  private:
    Scores& scores_;
};

void fill_matrix_scores(const Margins& m, Scores& scores) {
    Filling fill(scores);
    double total = 0.0;
    double correct = 0.0;
    double classes_with_items = 0.0;
    double classes_seen = 0.0;
    double precision = 0.0;
    double recall = 0.0;
    double f1 = 0.0;
    double weighted_precision = 0.0;
    double weighted_f1 = 0.0;
    double products = 0.0;
    double support_squares = 0.0;
    double prediction_squares = 0.0;
    for (std::size_t c = 0; c < m.support.size(); ++c) {
        const double support = m.support[c];
        const double predictions = m.predictions[c];
        total += support;
        correct += m.correct[c];
        products += support * predictions;
        support_squares += support * support;
        prediction_squares += predictions * predictions;
        if (support + predictions == 0.0) continue;
        const double own_precision = ratio(m.correct[c], predictions);
        const double own_f1 = 2.0 * m.correct[c] / (support + predictions);
        ++classes_seen;
        classes_with_items += support > 0.0 ? 1.0 : 0.0;
        precision += own_precision;
        recall += ratio(m.correct[c], support);
        f1 += own_f1;
        weighted_precision += support * own_precision;
        weighted_f1 += support * own_f1;
    }
    const double accuracy = ratio(correct, total);
    for (const Measure measure : {Measure::accuracy, Measure::micro_precision, Measure::micro_recall,
                                  Measure::weighted_recall, Measure::micro_f1})
        fill[measure] = accuracy;
    fill[Measure::balanced_accuracy] = fill[Measure::macro_recall] = ratio(recall, classes_with_items);
    fill[Measure::macro_precision] = ratio(precision, classes_seen);
    fill[Measure::macro_f1] = ratio(f1, classes_seen);
    fill[Measure::weighted_precision] = ratio(weighted_precision, total);
    fill[Measure::weighted_f1] = ratio(weighted_f1, total);
    const double squared = total * total;
    const double chance = ratio(products, squared);
    fill[Measure::kappa] = ratio(accuracy - chance, 1.0 - chance);
    fill[Measure::matthews] = ratio(correct * total - products,
                                    std::sqrt((squared - support_squares) * (squared - prediction_squares)));
}

// The scores of the items, each counted so often.
Scores weighted_scores(const std::vector<ItemScores>& items, std::span<const std::uint32_t> counts,
                       std::size_t classes, std::size_t k) {
    Scores scores;
    scores.k = k;
    Margins margins(classes);
    std::array<ReliabilityBin, usual_reliability_bins> bins{};
    double total = 0.0;
    double top = 0.0;
    double loss = 0.0;
    double brier = 0.0;
    for (std::size_t i = 0; i < items.size(); ++i) {
        if (counts[i] == 0) continue;
        const ItemScores& item = items[i];
        const double count = counts[i];
        const bool correct = item.label == item.predicted;
        total += count;
        margins.support[item.label] += count;
        margins.predictions[item.predicted] += count;
        margins.correct[item.label] += correct ? count : 0.0;
        top += item.in_top_k ? count : 0.0;
        loss += count * item.loss;
        brier += count * item.brier;
        ReliabilityBin& bin = bins[item.bin];
        bin.items += static_cast<std::int64_t>(count);
        bin.correct += correct ? static_cast<std::int64_t>(count) : 0;
        bin.confidence += count * item.confidence;
    }
    for (ReliabilityBin& bin : bins)
        if (bin.items > 0) bin.confidence /= static_cast<double>(bin.items);
    fill_matrix_scores(margins, scores);
    Filling fill(scores);
    fill[Measure::top_k] = ratio(top, total);
    fill[Measure::cross_entropy] = ratio(loss, total);
    fill[Measure::brier] = ratio(brier, total);
    fill[Measure::calibration_error] = debiased_calibration_error(bins);
    fill[Measure::roc_auc] = fill[Measure::average_precision] = undefined;
    scores.items = static_cast<std::int64_t>(total);
    scores.correct =
        static_cast<std::int64_t>(std::accumulate(margins.correct.begin(), margins.correct.end(), 0.0));
    return scores;
}

template <typename Ranks>
void fill_rank_means(const Ranks& ranks, Scores& scores) {
    double auc = 0.0;
    double precision = 0.0;
    double present = 0.0;
    for (const RankScores& rank : ranks)
        if (rank.roc_auc) {
            auc += *rank.roc_auc;
            precision += *rank.average_precision;
            ++present;
        }
    if (present == 0.0) return;
    Filling fill(scores);
    fill[Measure::roc_auc] = auc / present;
    fill[Measure::average_precision] = precision / present;
}

std::size_t usable_k(const PredictionTable& table, const ScoreSettings& settings) {
    return std::min(settings.k, table.classes);
}

// The fractions of the classes, and how many have items.
std::vector<double> supports(const PredictionTable& table) {
    std::vector<double> counts(table.classes, 0.0);
    for (const std::size_t label : table.labels) ++counts[label];
    return counts;
}

// ROC AUC and average precision of a constant: all items are tied.
void fill_constant_ranks(const std::vector<double>& counts, double total, Scores& scores) {
    double present = 0.0;
    double shares = 0.0;
    for (const double count : counts)
        if (count > 0.0 && count < total) {
            ++present;
            shares += count / total;
        }
    Filling fill(scores);
    fill[Measure::roc_auc] = present > 0.0 ? 0.5 : undefined;
    fill[Measure::average_precision] = present > 0.0 ? shares / present : undefined;
}

bool is_share(Measure measure) {
    switch (measure) {
        case Measure::accuracy:
        case Measure::micro_precision:
        case Measure::micro_recall:
        case Measure::weighted_recall:
        case Measure::micro_f1:
        case Measure::top_k:
            return true;
        default:
            return false;
    }
}

Interval mean_recall_interval(const Margins& margins, double confidence) {
    double present = 0.0;
    double mean = 0.0;
    double below = 0.0;
    double above = 0.0;
    for (std::size_t c = 0; c < margins.support.size(); ++c) {
        if (margins.support[c] == 0.0) continue;
        const double recall = margins.correct[c] / margins.support[c];
        const Interval own = wilson_interval(static_cast<std::int64_t>(margins.correct[c]),
                                             static_cast<std::int64_t>(margins.support[c]), confidence);
        ++present;
        mean += recall;
        below += (recall - own.low) * (recall - own.low);
        above += (own.high - recall) * (own.high - recall);
    }
    if (present == 0.0) return {0.0, 1.0};
    return {std::max(0.0, (mean - std::sqrt(below)) / present),
            std::min(1.0, (mean + std::sqrt(above)) / present)};
}

// The quantiles of the values, interpolated; those that are not defined are left out.
std::optional<Interval> percentiles(std::vector<double> values, double confidence) {
    std::erase_if(values, [](double v) { return std::isnan(v); });
    if (values.size() < 2) return std::nullopt;
    std::sort(values.begin(), values.end());
    const auto at = [&](double share) {
        const double place = share * static_cast<double>(values.size() - 1);
        const auto below = static_cast<std::size_t>(place);
        const std::size_t above = std::min(below + 1, values.size() - 1);
        return values[below] + (place - static_cast<double>(below)) * (values[above] - values[below]);
    };
    return Interval{at((1.0 - confidence) / 2), at((1.0 + confidence) / 2)};
}

// Of an error that is never below 0 and that every draw makes larger, since a draw adds its noise to that of
// the items: the draws about the estimate.
std::optional<Interval> error_interval(const std::vector<double>& drawn, double estimate, double confidence) {
    const std::optional<Interval> spread = percentiles(drawn, confidence);
    if (!spread) return std::nullopt;
    const double centre =
        std::accumulate(drawn.begin(), drawn.end(), 0.0) / static_cast<double>(drawn.size());
    return Interval{std::max(0.0, estimate + spread->low - centre),
                    std::max(0.0, estimate + spread->high - centre)};
}

}  // namespace

std::string measure_name(Measure measure) {
    return names[static_cast<std::size_t>(measure)].name;
}

std::string spoken_measure(Measure measure, std::size_t k) {
    if (measure == Measure::top_k) return fmt::format("top-{} accuracy", k);
    return names[static_cast<std::size_t>(measure)].spoken;
}

Evaluation evaluate(const PredictionTable& table, const ScoreSettings& settings) {
    const std::size_t k = usable_k(table, settings);
    const std::vector<ItemScores> items = score_items(table, k);
    const std::vector<RankScores> ranks = rank_scores(table);
    Evaluation result;
    result.scores = weighted_scores(items, std::vector<std::uint32_t>(table.items(), 1), table.classes, k);
    Filling(result.scores)[Measure::calibration_error] =
        std::max(0.0, result.scores[Measure::calibration_error]);
    fill_rank_means(ranks, result.scores);
    result.classes.resize(table.classes);
    for (const ItemScores& item : items) {
        ++result.classes[item.label].support;
        if (item.predicted == item.label) {
            ++result.classes[item.label].true_positives;
        } else {
            ++result.classes[item.label].false_negatives;
            ++result.classes[item.predicted].false_positives;
        }
    }
    for (std::size_t c = 0; c < table.classes; ++c) {
        ClassScores& scores = result.classes[c];
        const std::int64_t predictions = scores.true_positives + scores.false_positives;
        const auto correct = static_cast<double>(scores.true_positives);
        scores.precision = ratio(correct, static_cast<double>(predictions));
        scores.recall = ratio(correct, static_cast<double>(scores.support));
        scores.f1 = ratio(2.0 * correct, static_cast<double>(predictions + scores.support));
        scores.precision_interval = wilson_interval(scores.true_positives, predictions);
        scores.recall_interval = wilson_interval(scores.true_positives, scores.support);
        scores.roc_auc = ranks[c].roc_auc;
        scores.average_precision = ranks[c].average_precision;
    }
    return result;
}

Scores score_predictions(const PredictionTable& table, const ScoreSettings& settings) {
    return evaluate(table, settings).scores;
}

std::vector<ClassScores> score_classes(const PredictionTable& table) {
    return evaluate(table).classes;
}

Scores majority_baseline(const PredictionTable& table, const ScoreSettings& settings) {
    const std::vector<double> counts = supports(table);
    const auto total = static_cast<double>(table.items());
    const auto commonest =
        static_cast<std::size_t>(std::max_element(counts.begin(), counts.end()) - counts.begin());
    Margins margins(table.classes);
    margins.support = counts;
    margins.predictions[commonest] = total;
    margins.correct[commonest] = counts[commonest];
    Scores scores;
    scores.items = static_cast<std::int64_t>(table.items());
    scores.correct = static_cast<std::int64_t>(counts[commonest]);
    scores.k = usable_k(table, settings);
    fill_matrix_scores(margins, scores);
    Filling fill(scores);
    std::vector<double> sorted = counts;
    std::sort(sorted.rbegin(), sorted.rend());
    fill[Measure::top_k] = ratio(
        std::accumulate(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(scores.k), 0.0), total);
    double entropy = 0.0;
    double squares = 0.0;
    for (const double count : counts) {
        const double share = ratio(count, total);
        if (share > 0.0) entropy -= share * std::log(share);
        squares += share * share;
    }
    fill[Measure::cross_entropy] = entropy;
    fill[Measure::brier] = total > 0.0 ? 1.0 - squares : 0.0;
    fill[Measure::calibration_error] = 0.0;
    fill_constant_ranks(counts, total, scores);
    return scores;
}

Scores random_baseline(const PredictionTable& table, const ScoreSettings& settings) {
    const std::vector<double> counts = supports(table);
    const auto total = static_cast<double>(table.items());
    const auto classes = static_cast<double>(table.classes);
    // What is to be expected.
    Margins margins(table.classes);
    for (std::size_t c = 0; c < table.classes; ++c) {
        margins.support[c] = counts[c];
        margins.predictions[c] = total / classes;
        margins.correct[c] = counts[c] / classes;
    }
    Scores scores;
    scores.items = static_cast<std::int64_t>(table.items());
    scores.correct = static_cast<std::int64_t>(total / classes + 0.5);
    scores.k = usable_k(table, settings);
    fill_matrix_scores(margins, scores);
    Filling fill(scores);
    fill[Measure::top_k] = static_cast<double>(scores.k) / classes;
    fill[Measure::cross_entropy] = std::log(classes);
    fill[Measure::brier] = 1.0 - 1.0 / classes;
    // Its probability is 1 / classes, and so is its accuracy; it does not agree beyond chance.
    fill[Measure::calibration_error] = fill[Measure::kappa] = fill[Measure::matthews] = 0.0;
    fill_constant_ranks(counts, total, scores);
    return scores;
}

std::array<std::optional<Interval>, measure_count> score_intervals(const PredictionTable& table,
                                                                   const ScoreSettings& settings,
                                                                   const BootstrapSettings& bootstrap) {
    std::array<std::optional<Interval>, measure_count> intervals;
    const std::size_t n = table.items();
    if (n == 0) return intervals;
    const std::size_t k = usable_k(table, settings);
    const std::vector<ItemScores> items = score_items(table, k);
    std::vector<ClassRanking> rankings;
    if (table.probabilities.size() <= bootstrap.most_ranked)
        for (std::size_t c = 0; c < table.classes; ++c) rankings.emplace_back(table, c);
    std::vector<Scores> drawn(static_cast<std::size_t>(bootstrap.resamples));
    parallel_for(bootstrap.resamples, [&](std::int64_t resample) {
        RandomStream random({.seed = bootstrap.seed,
                             .purpose = Purpose::bootstrap,
                             .epoch = static_cast<std::uint32_t>(resample)});
        std::vector<std::uint32_t> counts(n, 0);
        for (std::size_t draw = 0; draw < n; ++draw) ++counts[random.below(static_cast<std::uint32_t>(n))];
        Scores& scores = drawn[static_cast<std::size_t>(resample)];
        scores = weighted_scores(items, counts, table.classes, k);
        std::vector<RankScores> ranks;
        for (const ClassRanking& ranking : rankings) ranks.push_back(ranking.scores(counts));
        fill_rank_means(ranks, scores);
    });
    Margins margins(table.classes);
    std::int64_t in_top_k = 0;
    std::int64_t correct = 0;
    for (const ItemScores& item : items) {
        ++margins.support[item.label];
        margins.correct[item.label] += item.label == item.predicted ? 1.0 : 0.0;
        in_top_k += item.in_top_k ? 1 : 0;
        correct += item.label == item.predicted ? 1 : 0;
    }
    for (std::size_t m = 0; m < measure_count; ++m) {
        const auto measure = static_cast<Measure>(m);
        if (is_share(measure)) {
            intervals[m] = wilson_interval(measure == Measure::top_k ? in_top_k : correct,
                                           static_cast<std::int64_t>(n), bootstrap.confidence);
        } else if (measure == Measure::balanced_accuracy || measure == Measure::macro_recall) {
            intervals[m] = mean_recall_interval(margins, bootstrap.confidence);
        } else {
            std::vector<double> values;
            for (const Scores& scores : drawn) values.push_back(scores[measure]);
            if (measure == Measure::calibration_error)
                intervals[m] = error_interval(
                    values,
                    weighted_scores(items, std::vector<std::uint32_t>(n, 1), table.classes, k)[measure],
                    bootstrap.confidence);
            else
                intervals[m] = percentiles(std::move(values), bootstrap.confidence);
        }
    }
    return intervals;
}

std::vector<Confusion> strongest_confusions(const ConfusionMatrix& matrix, std::size_t most) {
    std::vector<Confusion> cells;
    for (std::size_t i = 0; i < matrix.classes(); ++i) {
        const std::int64_t support = matrix.support(i);
        for (std::size_t j = 0; j < matrix.classes(); ++j)
            if (i != j && matrix.at(i, j) > 0) cells.push_back({i, j, matrix.at(i, j), support});
    }
    std::stable_sort(cells.begin(), cells.end(), [](const Confusion& a, const Confusion& b) {
        return a.count != b.count ? a.count > b.count : a.support < b.support;
    });
    cells.resize(std::min(cells.size(), most));
    return cells;
}

}  // namespace jevrin::inline v1
