#include "confusion.hpp"

#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/metrics/intervals.hpp"
#include "jevrin/metrics/scores.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {

RunMatrix find_matrix(const ConfusionOptions& options, const OpenStudy& open,
                      const std::vector<RunRecord>& runs) {
    ProgressBars bar;
    return sum_of_matrices(
        open.ledger, open.study, runs, *part_from_name(options.part),
        options.epoch == 0 ? std::nullopt : std::optional(options.epoch),
        [&](std::int64_t done, std::int64_t total) { bar.show("predicting", done, total); });
}

void print_files(const ConfusionOptions& options) {
    print_written({options.figure, options.strip, options.csv});
}

namespace {

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
    const std::vector<RecordedEpoch> epochs = open.ledger.epochs(run.id);
    const std::size_t count = std::min(most, epochs.size());
    std::vector<ConfusionFrame> frames;
    for (std::size_t k = 0; k < count; ++k) {
        const std::size_t place = count == 1 ? 0 : k * (epochs.size() - 1) / (count - 1);
        const RecordedEpoch& epoch = epochs[place];
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

Json to_json(const std::vector<RunRecord>& runs, const std::string& part, const RunMatrix& shown,
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

void confusion(const ConfusionOptions& options) {
    OpenStudy open = open_study(options.ledger);
    const std::vector<RunRecord> runs = runs_with_matrices(open.ledger, open.study, options.runs);
    if (!options.strip.empty() && runs.size() > 1)
        throw InputError("a strip shows the epochs of one run; name one run");
    const RunMatrix shown = find_matrix(options, open, runs);
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
    print_files(options);
}

}  // namespace

void add_confusion(Command& command) {
    auto options = std::make_shared<ConfusionOptions>();
    command
        .add_option("RUN", options->runs,
                    "the run, as CANDIDATE/SEED; several, or a CANDIDATE with all its runs, are added up")
        .required();
    command
        .add_option("--part", options->part,
                    "training, validation, or test: this opens the sealed part and is recorded")
        .one_of({"training", "validation", "test"})
        .capture_default_str();
    command.add_option("--epoch", options->epoch, "the epoch (default: the best)").type_name("N").positive();
    command
        .add_option("--shares", options->shares,
                    "of the true class (recall on the diagonal) or of the predicted one, instead of counts")
        .type_name("true|predicted")
        .one_of({"true", "predicted"});
    command
        .add_option(
            "--minus", options->minus,
            "the difference from this run or candidate, with what is beyond chance, and the gain of each "
            "class")
        .type_name("RUN");
    command.add_flag("--mean", options->mean,
                     "the mean share of several runs and its spread, instead of their sum");
    add_picture_option(command, "--figure", options->figure, "draw it");
    add_picture_option(command, "--strip", options->strip, "draw it epoch by epoch");
    add_table_option(command, options->csv, "write it as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] {
        if ((!options->minus.empty() || options->mean) &&
            (!options->strip.empty() || !options->shares.empty()))
            throw InputError(
                "--minus and --mean show shares of the true class, without --strip and --shares");
        if (!options->minus.empty() && options->mean)
            throw InputError("give either --minus or --mean: a difference is one of means already");
        if (!options->minus.empty())
            print_difference(*options);
        else if (options->mean)
            print_mean(*options);
        else
            confusion(*options);
    });
}

}  // namespace jevrin::app
