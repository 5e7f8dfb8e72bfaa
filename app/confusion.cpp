#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/matrices.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/matrices_figure.hpp"
#include "jevrin/metrics/intervals.hpp"
#include "jevrin/metrics/scores.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {
namespace {

struct Options {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string part = "validation";
    std::int64_t epoch = 0;  // 0: the best
    std::string shares;
    std::string minus;
    bool mean = false;
    std::filesystem::path figure;
    std::filesystem::path strip;
    std::filesystem::path csv;
};

// The runs named, or all of a candidate, with at least one epoch.
std::vector<RunRecord> find_runs(const std::vector<std::string>& names, const OpenStudy& open) {
    std::vector<RunRecord> found = runs_called(open.ledger, open.study, names);
    for (const RunRecord& run : found)
        if (!run.best && found.size() == 1)
            throw InputError(
                fmt::format("run '{}' has no finished epoch yet; train it first", printable(run.name())));
    std::erase_if(found, [](const RunRecord& run) { return !run.best; });
    if (found.empty()) throw InputError("none of these runs has a finished epoch yet; train them first");
    return found;
}

struct Shown {
    ConfusionMatrix matrix;
    std::int64_t epoch = 0;
};

Shown find_matrix(const Options& options, const OpenStudy& open, const RunRecord& run) {
    if (options.part != "validation") {
        ProgressBars bar;
        const PartPredictions predictions =
            predict_part(options.ledger.directory, open.study.name, run.name(), *part_from_name(options.part),
                         options.epoch == 0 ? std::nullopt : std::optional(options.epoch),
                         [&](std::int64_t done, std::int64_t total) { bar.show("predicting", done, total); });
        return {predictions.matrix(), predictions.epoch};
    }
    const std::int64_t wanted = options.epoch == 0 ? run.best->epoch : options.epoch;
    for (EpochRecord& epoch : open.ledger.epochs(run.id))
        if (epoch.epoch == wanted) return {std::move(epoch.validation), wanted};
    throw InputError(fmt::format("run '{}' has the epochs 1 to {}, not {}", run.name(), run.epochs, wanted));
}

CellValue cell_value(const std::string& shares) {
    return shares == "true" ? CellValue::of_true
           : shares.empty() ? CellValue::counts
                            : CellValue::of_predicted;
}

std::string worst_cells(const ConfusionMatrix& matrix, const std::vector<std::string>& classes) {
    std::string text;
    constexpr std::size_t most = 3;
    for (const Confusion& cell : strongest_confusions(matrix, most))
        text += fmt::format("{}{} called {}: {} of {}", text.empty() ? "most confused: " : "; ",
                            short_cell(classes[cell.true_class]), short_cell(classes[cell.predicted]),
                            cell.count, cell.support);
    return text.empty() ? "no mistakes\n" : text + "\n";
}

// Epochs at even distances, the first and the last among them.
void draw_strip(const OpenStudy& open, const RunRecord& run, const std::filesystem::path& file) {
    constexpr std::size_t most = 12;
    const std::vector<EpochRecord> epochs = open.ledger.epochs(run.id);
    const std::size_t count = std::min(most, epochs.size());
    std::vector<ConfusionFrame> frames;
    for (std::size_t k = 0; k < count; ++k) {
        const std::size_t place = count == 1 ? 0 : k * (epochs.size() - 1) / (count - 1);
        const EpochRecord& epoch = epochs[place];
        frames.push_back(
            {epoch.validation, fmt::format("epoch {}{}: {} of {} right", epoch.epoch,
                                           run.best && run.best->epoch == epoch.epoch ? " (best)" : "",
                                           epoch.validation.correct(), epoch.validation.total())});
    }
    draw_confusion_strip(frames, open.study.classes,
                         fmt::format("{}, validation part, epoch by epoch (rows true, columns predicted)",
                                     printable(run.name())),
                         file);
}

Json to_json(const std::vector<RunRecord>& runs, const std::string& part, const Shown& shown,
             const StudyRecord& study, CellValue value) {
    Json counts = Json::array();
    for (std::size_t i = 0; i < shown.matrix.classes(); ++i) {
        Json row = Json::array();
        for (std::size_t j = 0; j < shown.matrix.classes(); ++j) row.push_back(shown.matrix.at(i, j));
        counts.push_back(row);
    }
    Json names = Json::array();
    for (const RunRecord& run : runs) names.push_back(run.name());
    Json json = {{"run", runs.size() == 1 ? names[0] : Json()},
                 {"runs", names},
                 {"part", part},
                 {"epoch", runs.size() == 1 ? Json(shown.epoch) : Json()},
                 {"classes", study.classes},
                 {"counts", counts},
                 {"test_looks", study.test_looks}};
    if (value != CellValue::counts) json["shares"] = cell_values(shown.matrix, value);
    return json;
}

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

std::string shares_csv(const CellShares& shares, const std::vector<std::string>& classes) {
    std::vector<std::string> cells = {"true"};
    cells.insert(cells.end(), classes.begin(), classes.end());
    std::string text = csv_row(cells);
    for (std::size_t i = 0; i < shares.size(); ++i) {
        cells = {classes.at(i)};
        for (const double share : shares[i]) cells.push_back(fmt::format("{}", share));
        text += csv_row(cells);
    }
    return text;
}

void print_written(const Options& options) {
    for (const auto* file : {&options.figure, &options.strip, &options.csv})
        if (!file->empty()) print(fmt::format("written to {}\n", printable(file->string())));
}

void difference(const Options& options) {
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
    if (!options.csv.empty()) write_file(options.csv, shares_csv(difference.difference, open.study.classes));
    if (options.ledger.json) {
        print_json(difference_json(difference, first, second, open.study));
        return;
    }
    print(what + "\n\n" + difference_text(difference, open.study.classes) + "\n" + test_look_line(open));
    print_written(options);
}

void mean(const Options& options) {
    OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = find_runs(options.runs, open);
    std::vector<ConfusionMatrix> matrices;
    for (const RunRecord& run : runs) matrices.push_back(find_matrix(options, open, run).matrix);
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
    if (!options.csv.empty()) write_file(options.csv, shares_csv(spread.mean, classes));
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
    print_written(options);
}

void confusion(const Options& options) {
    OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = find_runs(options.runs, open);
    if (!options.strip.empty() && runs.size() > 1)
        throw InputError("a strip shows the epochs of one run; name one run");
    Shown shown = find_matrix(options, open, runs.front());
    for (std::size_t i = 1; i < runs.size(); ++i) {
        const Shown other = find_matrix(options, open, runs[i]);
        for (std::size_t a = 0; a < shown.matrix.classes(); ++a)
            for (std::size_t b = 0; b < shown.matrix.classes(); ++b)
                shown.matrix.add(a, b, other.matrix.at(a, b));
    }
    open.study = open.ledger.study(open.study.name);  // counts a look at the test part
    const ConfusionMatrix& matrix = shown.matrix;
    const CellValue value = cell_value(options.shares);
    const std::string what =
        runs.size() == 1
            ? fmt::format("{}, {} part, epoch {}", printable(runs[0].name()), options.part, shown.epoch)
            : fmt::format("{} added up, {} part", plural(std::ssize(runs), "run"), options.part);
    if (!options.figure.empty())
        draw_confusion(matrix, open.study.classes,
                       fmt::format("{}: {} of {} right", what, matrix.correct(), matrix.total()),
                       options.figure, value);
    if (!options.strip.empty()) draw_strip(open, runs[0], options.strip);
    if (!options.csv.empty()) write_file(options.csv, confusion_csv(matrix, open.study.classes, value));
    if (options.ledger.json) {
        print_json(to_json(runs, options.part, shown, open.study, value));
        return;
    }
    print(fmt::format("{}: {} of {} right\n", what, matrix.correct(), matrix.total()));
    const std::string scores = fmt::format("balanced accuracy {:.3f}, macro F1 {:.3f}\n",
                                           matrix.balanced_accuracy(), matrix.macro_f1());
    // Added up, an item counts once for each run: as if there were more of them than there are.
    if (runs.size() == 1) {
        const Interval sure = wilson_interval(matrix.correct(), matrix.total());
        print(fmt::format("accuracy {:.3f} (95 % interval {:.3f} to {:.3f}), {}", matrix.accuracy(), sure.low,
                          sure.high, scores));
    } else {
        print(fmt::format("accuracy {:.3f}, {}", matrix.accuracy(), scores));
    }
    print(worst_cells(matrix, open.study.classes) + "\n" +
          terminal_confusion(matrix, open.study.classes, terminal_width(), value));
    print("\n" + test_look_line(open));
    print_written(options);
}

}  // namespace

void add_confusion(CLI::App& app) {
    auto options = std::make_shared<Options>();
    auto* command = app.add_subcommand("confusion", "the confusion matrix of a run: rows are true classes");
    command
        ->add_option("RUN", options->runs,
                     "the run, as CANDIDATE/SEED; several, or a CANDIDATE with all its runs, are added up")
        ->required();
    command
        ->add_option("--part", options->part,
                     "training, validation, or test: this opens the sealed part and is recorded")
        ->check(CLI::IsMember({"training", "validation", "test"}))
        ->capture_default_str();
    command->add_option("--epoch", options->epoch, "the epoch (default: the best)")
        ->type_name("N")
        ->check(CLI::PositiveNumber);
    command
        ->add_option("--shares", options->shares,
                     "of the true class (recall on the diagonal) or of the predicted one, instead of counts")
        ->type_name("true|predicted")
        ->check(CLI::IsMember({"true", "predicted"}));
    command
        ->add_option(
            "--minus", options->minus,
            "the difference from this run or candidate, with what is beyond chance, and the gain of each "
            "class")
        ->type_name("RUN");
    command->add_flag("--mean", options->mean,
                      "the mean share of several runs and its spread, instead of their sum");
    command->add_option("--figure", options->figure, "draw it into a file (.png or .svg)")->type_name("FILE");
    command->add_option("--strip", options->strip, "draw it epoch by epoch")->type_name("FILE");
    command->add_option("--csv", options->csv, "write it as a table")->type_name("FILE");
    add_ledger_options(*command, options->ledger);
    command->callback([options] {
        if ((!options->minus.empty() || options->mean) &&
            (!options->strip.empty() || !options->shares.empty()))
            throw InputError(
                "--minus and --mean show shares of the true class, without --strip and --shares");
        if (!options->minus.empty() && options->mean)
            throw InputError("give either --minus or --mean: a difference is one of means already");
        if (!options->minus.empty())
            difference(*options);
        else if (options->mean)
            mean(*options);
        else
            confusion(*options);
    });
}

}  // namespace jevrin::app
