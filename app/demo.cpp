#include "embedded.hpp"
#include "glaze.hpp"
#include "output.hpp"
#include "training_view.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/figures/choice_figure.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/curves_figure.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/pages/report.hpp"
#include "jevrin/results/choice_result.hpp"
#include "jevrin/results/curves_result.hpp"
#include "jevrin/results/model_results.hpp"
#include "jevrin/results/runs_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

namespace fs = std::filesystem;

// What a reader may have changed stays as it is.
void put_if_missing(const fs::path& file, std::string_view content) {
    if (!fs::exists(file)) write_file(file, content);
}

void make_images(const fs::path& folder) {
    const auto tiles = demo::plan_tiles(demo::default_seed);
    std::vector<demo::Tile> missing;
    for (const demo::Tile& tile : tiles)
        if (!fs::exists(folder / tile.path)) missing.push_back(tile);
    if (missing.empty()) return;
    ProgressBars bar;
    demo::write_tiles(folder, missing, demo::default_seed,
                      [&](std::int64_t done, std::int64_t total) { bar.show("making images", done, total); });
}

void write_figures(const fs::path& directory, const Ledger& ledger, const ChoiceResult& result) {
    const StudyRecord& study = result.study;
    const Choice& choice = result.choice;
    draw_sheet(sample_rows(read_image_set({.from = directory / "glaze"}), 10, 1),
               "glaze: a random sample of each class", directory / "sheet.png");
    const CurvesResult curves = report_curves(ledger, study);
    const CandidateStyles styles(curves.candidates);
    draw_curves(curves.curves, curves.view, styles, curves.title(), directory / "curves.png");
    draw_choice(choice, styles, result.title(), directory / "choice.png");
    const std::vector<RunRecord> runs = runs_called(ledger, study, {choice.chosen});
    const RunRecord* best = best_run(runs, study.metric);
    if (best == nullptr) return;
    const ConfusionResult confusion = report_confusion(ledger, study, {.runs = {best->name()}});
    draw_confusion(confusion.shown.matrix, study.classes, confusion.title(), directory / "confusion.png");
    export_model(ledger, study, best->name(), directory / "chosen.onnx");
    write_report(ledger, study, directory / "study.html");
    print(fmt::format(
        "\nwritten to {}: sheet.png, curves.png, choice.png, confusion.png, study.html (all of it, to "
        "open in a browser), chosen.onnx ({})\nlive in a browser: jevrin page --ledger {}\n",
        printable(directory.string()), best->name(), shell_word((directory / "ledger").string())));
}

void run_demo(const fs::path& directory) {
    make_directory(directory);
    put_if_missing(directory / "glaze.toml", demo::glaze_plan());
    put_if_missing(directory / "backbone.onnx", demo::backbone_model());
    put_if_missing(directory / "mislabelled.csv",
                   demo::mislabelled_csv(demo::plan_tiles(demo::default_seed)));
    make_images(directory / "glaze");
    print(fmt::format("A small pottery sorts test tiles by glaze fault: images in {}, plan in {}\n\n",
                      printable((directory / "glaze").string()),
                      printable((directory / "glaze.toml").string())));
    const Plan plan = read_plan(directory / "glaze.toml");
    const fs::path ledger_directory = directory / "ledger";
    train_with_view(plan, ledger_directory);
    const Ledger ledger = Ledger::open(ledger_directory);
    const StudyRecord study = ledger.study(plan.name);
    print("\n" + runs_text(ledger.runs(study.id), study, form_for_terminal()) + "\n");
    const ChoiceResult result = report_choice(ledger, study);
    print(to_text(result, form_for_terminal()));
    write_figures(directory, ledger, result);
}

}  // namespace

void add_demo(Command& command) {
    auto directory = std::make_shared<fs::path>("demo-results");
    command.add_option("DIR", *directory, "directory of the demo").capture_default_str();
    command.callback([directory] { run_demo(*directory); });
}

}  // namespace jevrin::app
