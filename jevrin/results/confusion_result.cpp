#include "jevrin/results/confusion_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/metrics/scores.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

std::string worst_cells(const ConfusionMatrix& matrix, const std::vector<std::string>& classes,
                        std::size_t width) {
    std::string text;
    constexpr std::size_t most = 3;
    for (const Confusion& cell : strongest_confusions(matrix, most))
        text += fmt::format("{}{} predicted as {}: {} of {}", text.empty() ? "most confused: " : "; ",
                            shortened_name(classes[cell.true_class], 40),
                            shortened_name(classes[cell.predicted], 40), cell.count, cell.support);
    return text.empty() ? "no mistakes\n" : wrapped(text, width);
}

Json run_names(const std::vector<RunRecord>& runs) {
    Json names = Json::array();
    for (const RunRecord& run : runs) names.push_back(run.name());
    return names;
}

}  // namespace

std::string ConfusionResult::title() const {
    const std::string what =
        runs.size() == 1
            ? fmt::format("{}, {} part, epoch {}", printable(runs[0].name()), name_of(part), shown.epoch)
            : fmt::format("sum of {}, {} part", plural(std::ssize(runs), "run"), name_of(part));
    return fmt::format("{}: {} of {} correct", what, shown.matrix.correct(), shown.matrix.total());
}

ConfusionResult report_confusion(const Ledger& ledger, const StudyRecord& study, const ConfusionQuery& query,
                                 CellValue value, const PredictionProgress& progress) {
    ConfusionResult result{.context = {},
                           .runs = runs_with_matrices(ledger, study, query.runs),
                           .part = query.part,
                           .shown = {},
                           .value = value};
    result.shown = sum_of_matrices(ledger, study, result.runs, query.part, query.epoch, progress);
    result.context = context_of(ledger, study);
    return result;
}

std::string to_json(const ConfusionResult& result) {
    const ConfusionMatrix& matrix = result.shown.matrix;
    Json counts = Json::array();
    for (std::size_t i = 0; i < matrix.classes(); ++i) {
        Json row = Json::array();
        for (std::size_t j = 0; j < matrix.classes(); ++j) row.push_back(matrix.at(i, j));
        counts.push_back(row);
    }
    const Json names = run_names(result.runs);
    Json json = {{"run", result.runs.size() == 1 ? names[0] : Json()},
                 {"runs", names},
                 {"part", name_of(result.part)},
                 {"epoch", result.runs.size() == 1 ? Json(result.shown.epoch) : Json()},
                 {"classes", result.context.study.classes},
                 {"counts", counts},
                 {"test_looks", result.context.looks.size()}};
    if (result.value != CellValue::counts) json["fractions"] = cell_values(matrix, result.value);
    return document(json);
}

ResultTable to_table(const ConfusionResult& result) {
    return matrix_table(cell_values(result.shown.matrix, result.value), result.context.study.classes);
}

std::string to_text(const ConfusionResult& result, const TextForm& form) {
    const ConfusionMatrix& matrix = result.shown.matrix;
    const std::vector<std::string>& classes = result.context.study.classes;
    std::string text = result.title() + "\n" + fmt::format("accuracy {:.3f}", matrix.accuracy());
    // Added up, an item counts once for each run: as if there were more of them than there are.
    if (result.runs.size() == 1) {
        const Interval interval = wilson_interval(matrix.correct(), matrix.total());
        text += fmt::format(" (95 % interval {:.3f} to {:.3f})", interval.low, interval.high);
    }
    return text +
           fmt::format(", balanced accuracy {:.3f}, macro F1 {:.3f}\n", matrix.balanced_accuracy(),
                       matrix.macro_f1()) +
           worst_cells(matrix, classes, form.width) + "\n" +
           terminal_confusion(matrix, classes, form.width, result.value) + "\n";
}

std::vector<ConfusionFrame> confusion_frames(const Ledger& ledger, const RunRecord& run) {
    constexpr std::size_t most = 12;
    const std::vector<RecordedEpoch> epochs = ledger.epochs(run.id);
    const std::size_t count = std::min(most, epochs.size());
    std::vector<ConfusionFrame> frames;
    for (std::size_t k = 0; k < count; ++k) {
        const RecordedEpoch& epoch = epochs[count == 1 ? 0 : k * (epochs.size() - 1) / (count - 1)];
        frames.push_back(
            {epoch.validation, fmt::format("epoch {}{}: {} of {} correct", epoch.epoch,
                                           run.best && run.best->epoch == epoch.epoch ? " (best)" : "",
                                           epoch.validation.correct(), epoch.validation.total())});
    }
    return frames;
}

std::string MatrixMeanResult::title() const {
    const bool one_candidate = std::all_of(runs.begin(), runs.end(), [&](const RunRecord& run) {
        return run.candidate == runs.front().candidate;
    });
    return fmt::format("{}mean of {} on the {} part, fractions of the true class",
                       one_candidate ? printable(runs.front().candidate) + ", " : "",
                       plural(spread.runs, "run"), name_of(part));
}

MatrixMeanResult report_mean_confusion(const Ledger& ledger, const StudyRecord& study,
                                       const ConfusionQuery& query, const PredictionProgress& progress) {
    MatrixMeanResult result{.context = {},
                            .runs = runs_with_matrices(ledger, study, query.runs),
                            .part = query.part,
                            .spread = {}};
    std::vector<ConfusionMatrix> matrices;
    for (const RunRecord& run : result.runs)
        matrices.push_back(matrix_of(ledger, study, run, query.part, query.epoch, progress).matrix);
    result.spread = matrix_spread(matrices);
    result.context = context_of(ledger, study);
    return result;
}

std::string to_json(const MatrixMeanResult& result) {
    return document({{"runs", run_names(result.runs)},
                     {"part", name_of(result.part)},
                     {"classes", result.context.study.classes},
                     {"mean", result.spread.mean},
                     {"deviation", result.spread.deviation},
                     {"test_looks", result.context.looks.size()}});
}

ResultTable to_table(const MatrixMeanResult& result) {
    return matrix_table(result.spread.mean, result.context.study.classes);
}

std::string to_text(const MatrixMeanResult& result, const TextForm& form) {
    const std::vector<std::string>& classes = result.context.study.classes;
    const MatrixSpread& spread = result.spread;
    ResultTable table({"true", "predicted", "mean fraction", "standard deviation"}, {2, 3});
    for (std::size_t i = 0; i < classes.size(); ++i)
        for (std::size_t j = 0; j < classes.size(); ++j)
            if (spread.mean[i][j] > 0.0)
                table.add({name_cell(classes[i]), name_cell(classes[j]), three_decimals(spread.mean[i][j]),
                           three_decimals(spread.deviation[i][j])});
    const std::size_t rows = form.rows_of(table.rows(), 40);
    return result.title() + "\n\n" + table.text(form.width, rows) +
           form.and_more(table.rows() - rows, "cells") + "\n";
}

}  // namespace jevrin::inline v1
