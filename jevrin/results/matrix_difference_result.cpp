// The difference of two candidates' matrices.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/confusion_result.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// One side of a difference: the finished runs that the names mean, as one candidate.
CandidateEvidence side_of(const Ledger& ledger, const StudyRecord& study,
                          const std::vector<std::string>& names) {
    StudyEvidence evidence = gather_evidence(ledger, study, runs_called(ledger, study, names));
    if (evidence.candidates.size() > 1)
        throw InputError(fmt::format(
            "{} candidates are named on one side of the difference, '{}' and '{}' among them; name one",
            evidence.candidates.size(), printable(evidence.candidates[0].candidate),
            printable(evidence.candidates[1].candidate)));
    return std::move(evidence.candidates.front());
}

// "frozen/1", or a candidate's name with the number of its runs.
std::string side_name(const CandidateEvidence& side) {
    return side.runs.size() == 1 ? printable(side.runs.front().run.name())
                                 : fmt::format("{} ({} runs)", printable(side.candidate), side.runs.size());
}

std::string signed_cell(double value) {
    return value == 0.0 ? "." : fmt::format("{:+.3f}", value);
}

// Cell by cell, when it fits.
std::string matrix_text(const MatrixDifference& difference, const std::vector<std::string>& classes,
                        std::size_t width) {
    const std::size_t n = classes.size();
    if (n > 12) return "";
    std::vector<std::string> heads = {"true"};
    std::vector<std::size_t> right;
    for (std::size_t c = 0; c < n; ++c) {
        heads.push_back(shortened_text(classes[c], 12));
        right.push_back(c + 1);
    }
    std::vector<std::vector<std::string>> cells(n);
    for (std::size_t i = 0; i < n; ++i) {
        cells[i].push_back(shortened_name(classes[i], 24));
        for (std::size_t j = 0; j < n; ++j) cells[i].push_back(signed_cell(difference.difference[i][j]));
    }
    for (const CellDifference& cell : difference.cells)
        if (cell.beyond_chance) cells[cell.true_class][cell.predicted + 1] += "*";
    ResultTable table(heads, right);
    for (const auto& row : cells) table.add({row.begin(), row.end()});
    return table.text(width) + "\n";
}

std::string gains_text(const MatrixDifference& difference, const std::vector<std::string>& classes,
                       const TextForm& form) {
    ResultTable table({"difference in recall", "items", "first", "second", "gain", "95 % interval", "p", ""},
                      {1, 2, 3, 4, 6});
    for (const ClassGain& gain : difference.gains)
        table.add({name_cell(classes[gain.true_class]), std::to_string(gain.items),
                   three_decimals(gain.first), three_decimals(gain.second),
                   fmt::format("{:+.3f}", gain.gain()),
                   fmt::format("{:+.3f} to {:+.3f}", gain.interval.low, gain.interval.high),
                   three_decimals(gain.adjusted_p), gain.beyond_chance ? "significant" : ""});
    const std::size_t rows = form.rows_of(table.rows());
    return table.text(form.width, rows) + form.and_more(table.rows() - rows, "classes");
}

std::string largest_text(const MatrixDifference& difference, const std::vector<std::string>& classes) {
    std::string text;
    constexpr std::size_t most = 5;
    std::size_t shown = 0;
    for (const CellDifference& cell : difference.cells) {
        if (cell.true_class == cell.predicted || cell.difference() == 0.0 || shown == most) continue;
        text += fmt::format("  {} predicted as {}: {:+.3f} ({:.3f} and {:.3f}){}\n",
                            shortened_name(classes[cell.true_class], 40),
                            shortened_name(classes[cell.predicted], 40), cell.difference(), cell.first,
                            cell.second, cell.beyond_chance ? ", significant" : "");
        ++shown;
    }
    return text.empty() ? "" : "\nlargest differences between misclassifications:\n" + text;
}

}  // namespace

std::string MatrixDifferenceResult::title() const {
    return fmt::format("{} minus {}, fractions of the true class", side_name(first), side_name(second));
}

MatrixDifferenceResult report_difference(const Ledger& ledger, const StudyRecord& study,
                                         const std::vector<std::string>& first,
                                         const std::vector<std::string>& second) {
    MatrixDifferenceResult result{.context = context_of(ledger, study),
                                  .first = side_of(ledger, study, first),
                                  .second = side_of(ledger, study, second),
                                  .difference = {}};
    result.difference = compare_matrices(result.first, result.second, study.classes.size());
    return result;
}

std::string to_json(const MatrixDifferenceResult& result) {
    const std::vector<std::string>& classes = result.context.study.classes;
    const auto names = [](const CandidateEvidence& side) {
        Json json = Json::array();
        for (const RunEvidence& run : side.runs) json.push_back(run.run.name());
        return json;
    };
    Json cells = Json::array();
    for (const CellDifference& cell : result.difference.cells)
        cells.push_back({{"true", classes[cell.true_class]},
                         {"predicted", classes[cell.predicted]},
                         {"first", cell.first},
                         {"second", cell.second},
                         {"difference", cell.difference()},
                         {"interval", interval_json(cell.interval)},
                         {"adjusted_p", cell.adjusted_p},
                         {"beyond_chance", cell.beyond_chance}});
    Json gains = Json::array();
    for (const ClassGain& gain : result.difference.gains)
        gains.push_back({{"class", classes[gain.true_class]},
                         {"items", gain.items},
                         {"first", gain.first},
                         {"second", gain.second},
                         {"gain", gain.gain()},
                         {"interval", interval_json(gain.interval)},
                         {"adjusted_p", gain.adjusted_p},
                         {"beyond_chance", gain.beyond_chance}});
    return document({{"runs", names(result.first)},
                     {"minus", names(result.second)},
                     {"part", "validation"},
                     {"classes", classes},
                     {"difference", result.difference.difference},
                     {"cells", cells},
                     {"gains", gains},
                     {"test_looks", result.context.looks.size()}});
}

ResultTable to_table(const MatrixDifferenceResult& result) {
    return matrix_table(result.difference.difference, result.context.study.classes);
}

std::string to_text(const MatrixDifferenceResult& result, const TextForm& form) {
    const std::vector<std::string>& classes = result.context.study.classes;
    const MatrixDifference& difference = result.difference;
    return result.title() + "\n\n" + matrix_text(difference, classes, form.width) +
           gains_text(difference, classes, form) + largest_text(difference, classes) +
           (difference.seeds < fewest_seeds
                ? "with fewer than three seeds no difference is tested for significance\n"
                : "* significant: p below 0.05, corrected for the number of cells or classes compared\n") +
           "\n";
}

}  // namespace jevrin::inline v1
