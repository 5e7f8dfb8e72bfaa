// The difference of two candidates' matrices, and the mean of several runs'.
#include "confusion.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/matrices.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/matrices_figure.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {
namespace {

// One side of a difference: the finished runs that the names mean, as one candidate.
CandidateEvidence side_of(const OpenStudy& open, const std::vector<std::string>& names) {
    StudyEvidence evidence =
        gather_evidence(open.ledger, open.study, runs_called(open.ledger, open.study, names));
    if (evidence.candidates.size() > 1)
        throw InputError(
            fmt::format("{} candidates are meant on one side of --minus, '{}' and '{}' among them; name one",
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

// The matrix when it fits, then gains and the largest cells.
std::string difference_text(const MatrixDifference& difference, const std::vector<std::string>& classes) {
    std::string text;
    const std::size_t n = classes.size();
    if (n <= 12) {
        std::vector<std::string> heads = {"true"};
        std::vector<std::size_t> right;
        for (std::size_t c = 0; c < n; ++c) {
            heads.push_back(short_cell(classes[c], 12));
            right.push_back(c + 1);
        }
        Table table(heads, right);
        std::vector<std::vector<std::string>> cells(n);
        for (std::size_t i = 0; i < n; ++i) {
            cells[i].push_back(short_cell(classes[i], 24));
            for (std::size_t j = 0; j < n; ++j) cells[i].push_back(signed_cell(difference.difference[i][j]));
        }
        for (const CellDifference& cell : difference.cells)
            if (cell.beyond_chance) cells[cell.true_class][cell.predicted + 1] += "*";
        for (auto& row : cells) table.add(std::move(row));
        text += table.text() + "\n";
    }
    constexpr std::size_t most = 20;
    Table gains({"gain of recall", "items", "first", "second", "gain", "95 % interval", "p", ""},
                {1, 2, 3, 4, 6});
    for (std::size_t k = 0; k < std::min(most, difference.gains.size()); ++k) {
        const ClassGain& gain = difference.gains[k];
        gains.add({short_cell(classes[gain.true_class]), std::to_string(gain.items),
                   three_decimals(gain.first), three_decimals(gain.second),
                   fmt::format("{:+.3f}", gain.gain()),
                   fmt::format("{:+.3f} to {:+.3f}", gain.interval.low, gain.interval.high),
                   three_decimals(gain.adjusted_p), gain.beyond_chance ? "beyond chance" : ""});
    }
    text += gains.text();
    if (difference.gains.size() > most)
        text += fmt::format("... and {} more classes (--json for all)\n", difference.gains.size() - most);
    std::string largest;
    constexpr std::size_t most_cells = 5;
    std::size_t shown = 0;
    for (const CellDifference& cell : difference.cells) {
        if (cell.true_class == cell.predicted || cell.difference() == 0.0 || shown == most_cells) continue;
        largest += fmt::format("  {} called {}: {:+.3f} ({:.3f} against {:.3f}){}\n",
                               short_cell(classes[cell.true_class]), short_cell(classes[cell.predicted]),
                               cell.difference(), cell.first, cell.second,
                               cell.beyond_chance ? ", beyond chance" : "");
        ++shown;
    }
    if (!largest.empty()) text += "\nlargest differences between mistakes:\n" + largest;
    return text +
           (difference.seeds < fewest_seeds
                ? "with fewer than three seeds nothing is called beyond chance\n"
                : "* beyond chance: p below 0.05, corrected for the number of cells or classes compared\n");
}

Json difference_json(const MatrixDifference& difference, const CandidateEvidence& first,
                     const CandidateEvidence& second, const StudyRecord& study) {
    const auto names = [](const CandidateEvidence& side) {
        Json json = Json::array();
        for (const RunEvidence& run : side.runs) json.push_back(run.run.name());
        return json;
    };
    Json cells = Json::array();
    for (const CellDifference& cell : difference.cells)
        cells.push_back({{"true", study.classes[cell.true_class]},
                         {"called", study.classes[cell.predicted]},
                         {"first", cell.first},
                         {"second", cell.second},
                         {"difference", cell.difference()},
                         {"interval", interval_json(cell.interval)},
                         {"adjusted_p", cell.adjusted_p},
                         {"beyond_chance", cell.beyond_chance}});
    Json gains = Json::array();
    for (const ClassGain& gain : difference.gains)
        gains.push_back({{"class", study.classes[gain.true_class]},
                         {"items", gain.items},
                         {"first", gain.first},
                         {"second", gain.second},
                         {"gain", gain.gain()},
                         {"interval", interval_json(gain.interval)},
                         {"adjusted_p", gain.adjusted_p},
                         {"beyond_chance", gain.beyond_chance}});
    return {{"runs", names(first)},
            {"minus", names(second)},
            {"part", "validation"},
            {"classes", study.classes},
            {"difference", difference.difference},
            {"cells", cells},
            {"gains", gains},
            {"test_looks", study.test_looks}};
}

}  // namespace

void print_difference(const ConfusionOptions& options) {
    if (options.part != "validation" || options.epoch != 0)
        throw InputError(
            "--minus compares the best epochs on the validation part; leave --part and --epoch away");
    const OpenStudy open = open_study(options.ledger);
    const CandidateEvidence first = side_of(open, options.runs);
    const CandidateEvidence second = side_of(open, {options.minus});
    const MatrixDifference difference = compare_matrices(first, second, open.study.classes.size());
    const std::string what =
        fmt::format("{} minus {}, shares of the true class", side_name(first), side_name(second));
    if (!options.figure.empty()) draw_difference(difference, open.study.classes, what, options.figure);
    if (!options.csv.empty()) write_file(options.csv, matrix_csv(difference.difference, open.study.classes));
    if (options.ledger.json) {
        print_json(difference_json(difference, first, second, open.study));
        return;
    }
    print(what + "\n\n" + difference_text(difference, open.study.classes) + "\n" + test_look_line(open));
    print_files(options);
}

void print_mean(const ConfusionOptions& options) {
    OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = runs_with_matrices(open.ledger, open.study, options.runs);
    std::vector<ConfusionMatrix> matrices;
    for (const RunRecord& run : runs) matrices.push_back(find_matrix(options, open, {run}).matrix);
    open.study = open.ledger.study(open.study.name);  // counts a look at the test part
    const MatrixSpread spread = matrix_spread(matrices);
    const std::vector<std::string>& classes = open.study.classes;
    const bool one_candidate = std::all_of(runs.begin(), runs.end(), [&](const RunRecord& run) {
        return run.candidate == runs.front().candidate;
    });
    const std::string what = fmt::format("{}mean of {} on the {} part, shares of the true class",
                                         one_candidate ? printable(runs.front().candidate) + ", " : "",
                                         plural(spread.runs, "run"), options.part);
    if (!options.figure.empty()) draw_spread(spread, classes, what, options.figure);
    if (!options.csv.empty()) write_file(options.csv, matrix_csv(spread.mean, classes));
    if (options.ledger.json) {
        Json names = Json::array();
        for (const RunRecord& run : runs) names.push_back(run.name());
        print_json({{"runs", names},
                    {"part", options.part},
                    {"classes", classes},
                    {"mean", spread.mean},
                    {"deviation", spread.deviation},
                    {"test_looks", open.study.test_looks}});
        return;
    }
    Table table({"true", "called", "mean share", "deviation over runs"}, {2, 3});
    constexpr std::size_t most = 40;
    std::size_t rows = 0;
    for (std::size_t i = 0; i < classes.size(); ++i)
        for (std::size_t j = 0; j < classes.size(); ++j)
            if (spread.mean[i][j] > 0.0 && rows++ < most)
                table.add({short_cell(classes[i]), short_cell(classes[j]), three_decimals(spread.mean[i][j]),
                           three_decimals(spread.deviation[i][j])});
    print(what + "\n\n" + table.text());
    if (rows > most)
        print(fmt::format("... and {} more cells (--csv FILE or --json for all)\n", rows - most));
    print("\n" + test_look_line(open));
    print_files(options);
}

}  // namespace jevrin::app
