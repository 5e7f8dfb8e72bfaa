#include "prediction_options.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/matrices_figure.hpp"
#include "jevrin/results/confusion_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ConfusionOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string part = "validation";
    std::int64_t epoch = 0;  // 0: the best
    std::string fractions;
    std::string minus;
    bool mean = false;
    std::filesystem::path figure;
    std::filesystem::path strip;
    std::filesystem::path csv;

    ConfusionQuery query() const {
        return {.runs = runs, .part = *part_from_name(part), .epoch = stated_epoch(epoch)};
    }
};

CellValue cell_value(const std::string& fractions) {
    return fractions == "true" ? CellValue::of_true
           : fractions.empty() ? CellValue::counts
                               : CellValue::of_predicted;
}

template <typename Result>
void show(const Result& result, const ConfusionOptions& options) {
    write_table(options.csv, to_table(result));
    present(result, {.json = options.ledger.json,
                     .form = form_for_terminal({}, "--json for all"),
                     .written = {options.figure, options.strip, options.csv}});
}

void confusion(const ConfusionOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const ConfusionResult result = [&] {
        ProgressBars bar;
        return report_confusion(open.ledger, open.study, options.query(), cell_value(options.fractions),
                                bar.of("predicting"));
    }();
    if (!options.strip.empty() && result.runs.size() > 1)
        throw InputError("a strip shows the epochs of one run; name one run");
    if (!options.figure.empty())
        draw_confusion(result.shown.matrix, open.study.classes, result.title(), options.figure, result.value);
    if (!options.strip.empty())
        draw_confusion_strip(confusion_frames(open.ledger, result.runs[0]), open.study.classes,
                             fmt::format("{}, validation part, epoch by epoch (rows true, columns predicted)",
                                         printable(result.runs[0].name())),
                             options.strip);
    show(result, options);
}

void difference(const ConfusionOptions& options) {
    if (options.part != "validation" || options.epoch != 0)
        throw InputError(
            "--minus compares the best epochs on the validation part; remove --part and --epoch");
    const OpenStudy open = open_study(options.ledger);
    const MatrixDifferenceResult result =
        report_difference(open.ledger, open.study, options.runs, {options.minus});
    if (!options.figure.empty())
        draw_difference(result.difference, open.study.classes, result.title(), options.figure);
    show(result, options);
}

void mean(const ConfusionOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const MatrixMeanResult result = [&] {
        ProgressBars bar;
        return report_mean_confusion(open.ledger, open.study, options.query(), bar.of("predicting"));
    }();
    if (!options.figure.empty())
        draw_spread(result.spread, open.study.classes, result.title(), options.figure);
    show(result, options);
}

}  // namespace

void add_confusion(Command& command) {
    auto options = std::make_shared<ConfusionOptions>();
    command
        .add_option("RUN", options->runs, "a run as CANDIDATE/SEED; several runs, or a CANDIDATE, are summed")
        .required();
    add_part_option(command, options->part);
    add_epoch_option(command, options->epoch, "the epoch (default: the best)");
    command
        .add_option("--fractions", options->fractions,
                    "normalise by true class (diagonal: recall) or by predicted class (diagonal: precision)")
        .type_name("true|predicted")
        .one_of({"true", "predicted"});
    command
        .add_option(
            "--minus", options->minus,
            "difference to this run or candidate, with significance, and the difference in recall of each "
            "class")
        .type_name("RUN");
    command.add_flag("--mean", options->mean,
                     "mean and standard deviation over several runs, instead of their sum");
    add_figure_option(command, "--figure", options->figure, "draw the matrix");
    add_figure_option(command, "--strip", options->strip, "draw the matrix of every epoch of one run");
    add_table_option(command, options->csv, "write the matrix");
    add_ledger_options(command, options->ledger);
    command.callback([options] {
        if ((!options->minus.empty() || options->mean) &&
            (!options->strip.empty() || !options->fractions.empty()))
            throw InputError(
                "--minus and --mean show fractions of the true class, without --strip and --fractions");
        if (!options->minus.empty() && options->mean) throw InputError("use either --minus or --mean");
        if (!options->minus.empty())
            difference(*options);
        else if (options->mean)
            mean(*options);
        else
            confusion(*options);
    });
}

}  // namespace jevrin::app
