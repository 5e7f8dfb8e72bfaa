#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/metrics/intervals.hpp"
#include "jevrin/study/test_part.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {
namespace {

struct Options {
    LedgerOptions ledger;
    std::string run;
    std::string part = "validation";
    std::int64_t epoch = 0;  // 0: the best
    std::filesystem::path figure;
};

struct Shown {
    ConfusionMatrix matrix;
    std::int64_t epoch = 0;
};

Shown find_matrix(const Options& options, const OpenStudy& open, const RunRecord& run) {
    if (!run.best)
        throw InputError(fmt::format("run '{}' has no finished epoch yet; train it first", run.name()));
    if (options.part == "test") {
        if (options.epoch != 0)
            throw InputError("only the best weights of a run are kept; --part test goes without --epoch");
        return {score_test_part(options.ledger.directory, open.study.name, run.name()), run.best->epoch};
    }
    const std::int64_t wanted = options.epoch == 0 ? run.best->epoch : options.epoch;
    for (EpochRecord& epoch : open.ledger.epochs(run.id))
        if (epoch.epoch == wanted) return {std::move(epoch.validation), wanted};
    throw InputError(fmt::format("run '{}' has the epochs 1 to {}, not {}", run.name(), run.epochs, wanted));
}

// The largest cells off the diagonal, in words.
std::string worst_cells(const ConfusionMatrix& matrix, const std::vector<std::string>& classes) {
    struct Cell {
        std::int64_t count;
        std::size_t row;
        std::size_t column;
    };
    std::vector<Cell> cells;
    for (std::size_t i = 0; i < matrix.classes(); ++i)
        for (std::size_t j = 0; j < matrix.classes(); ++j)
            if (i != j && matrix.at(i, j) > 0) cells.push_back({matrix.at(i, j), i, j});
    std::stable_sort(cells.begin(), cells.end(),
                     [](const Cell& a, const Cell& b) { return a.count > b.count; });
    std::string text;
    for (std::size_t k = 0; k < std::min<std::size_t>(3, cells.size()); ++k)
        text += fmt::format("{}{} called {}: {} of {}", k == 0 ? "most confused: " : "; ",
                            printable(classes[cells[k].row]), printable(classes[cells[k].column]),
                            cells[k].count, matrix.support(cells[k].row));
    return text.empty() ? "no mistakes\n" : text + "\n";
}

Json to_json(const RunRecord& run, const std::string& part, const Shown& shown, const StudyRecord& study) {
    Json counts = Json::array();
    for (std::size_t i = 0; i < shown.matrix.classes(); ++i) {
        Json row = Json::array();
        for (std::size_t j = 0; j < shown.matrix.classes(); ++j) row.push_back(shown.matrix.at(i, j));
        counts.push_back(row);
    }
    return {{"run", run.name()},        {"part", part},     {"epoch", shown.epoch},
            {"classes", study.classes}, {"counts", counts}, {"test_looks", study.test_looks}};
}

void confusion(const Options& options) {
    OpenStudy open = open_study(options.ledger);
    const RunRecord run = open.ledger.run(open.study.id, options.run);
    const Shown shown = find_matrix(options, open, run);
    if (options.part == "test") open.study = open.ledger.study(open.study.name);  // counts this look
    const ConfusionMatrix& matrix = shown.matrix;
    const std::string what = fmt::format("{}, {} part, epoch {}", run.name(), options.part, shown.epoch);
    if (!options.figure.empty())
        draw_confusion(matrix, open.study.classes,
                       fmt::format("{}: {} of {} right", what, matrix.correct(), matrix.total()),
                       options.figure);
    if (options.ledger.json) {
        print_json(to_json(run, options.part, shown, open.study));
        return;
    }
    const Interval sure = wilson_interval(matrix.correct(), matrix.total());
    print(fmt::format("{}: {} of {} right\n", what, matrix.correct(), matrix.total()));
    print(fmt::format(
        "accuracy {:.3f} (95 % interval {:.3f} to {:.3f}), balanced accuracy {:.3f}, macro F1 {:.3f}\n",
        matrix.accuracy(), sure.low, sure.high, matrix.balanced_accuracy(), matrix.macro_f1()));
    print(worst_cells(matrix, open.study.classes) + "\n" + terminal_confusion(matrix, open.study.classes));
    if (options.part == "test")
        print(fmt::format("\nthe test part of this study has now been looked at {}\n",
                          plural(open.study.test_looks, "time")));
    if (!options.figure.empty())
        print(fmt::format("figure written to {}\n", printable(options.figure.string())));
}

}  // namespace

void add_confusion(CLI::App& app) {
    auto options = std::make_shared<Options>();
    auto* command = app.add_subcommand("confusion", "the confusion matrix of a run: rows are true classes");
    command->add_option("RUN", options->run, "the run, as CANDIDATE/SEED")->required();
    command
        ->add_option("--part", options->part,
                     "validation, or test: this opens the sealed part and is recorded")
        ->check(CLI::IsMember({"validation", "test"}))
        ->capture_default_str();
    command->add_option("--epoch", options->epoch, "the epoch (default: the best)")
        ->check(CLI::PositiveNumber);
    command->add_option("--figure", options->figure, "draw it into a file (.png or .svg)")->type_name("FILE");
    add_ledger_options(*command, options->ledger);
    command->callback([options] { confusion(*options); });
}

}  // namespace jevrin::app
