// What each figure of one made-up study asks the plot program to draw, against what was read once.
#include "support/recorded_text.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/figures/choice_figure.hpp"
#include "jevrin/figures/classes_figure.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/curves_figure.hpp"
#include "jevrin/figures/equal_effort_figure.hpp"
#include "jevrin/figures/matrices_figure.hpp"
#include "jevrin/figures/pairs_figure.hpp"
#include "jevrin/figures/reliability_figure.hpp"
#include "jevrin/figures/threshold_figure.hpp"
#include "jevrin/figures/training_sizes_figure.hpp"
#include "jevrin/results/choice_result.hpp"
#include "jevrin/results/classes_result.hpp"
#include "jevrin/results/confusion_result.hpp"
#include "jevrin/results/curves_result.hpp"
#include "jevrin/results/recall_result.hpp"
#include "jevrin/results/scores_result.hpp"
#include "jevrin/results/training_sizes_result.hpp"

#include <cstdlib>
#include <sstream>

namespace jevrin {
namespace {

using test::MadeUpStudy;

// With a plot program that keeps what it is told.
template <typename Study>
class FiguresOf : public Study {
  protected:
    void SetUp() override {
        const std::filesystem::path program = *Study::directory_ / "bin/gnuplot";
        make_directory(program.parent_path());
        write_file(program, fmt::format("#!/bin/sh\ncat > '{}'\necho '<svg></svg>'\n", script_.string()));
        std::filesystem::permissions(program, std::filesystem::perms::owner_all);
        ::setenv("PATH", (program.parent_path().string() + ":" + path_).c_str(), 1);
    }
    void TearDown() override { ::setenv("PATH", path_.c_str(), 1); }

    static CandidateStyles styles() { return CandidateStyles(Study::ledger().candidates(Study::study().id)); }
    static std::filesystem::path file() { return *Study::directory_ / "figure.svg"; }
    // What the last figure was drawn from.
    void expect(const std::string& name) const {
        test::expect_recorded("figures/" + name, read_text(script_), Study::directory_->path());
    }

    std::filesystem::path script_ = *Study::directory_ / "script";

  private:
    std::string path_ = std::getenv("PATH");
};

class RecordedFigures : public FiguresOf<test::StudyWithEverything> {
  protected:
    static RunPredictions predictions() {
        return open_predictions(ledger(), study(), {.run = "last stage/1"});
    }
};

TEST_F(RecordedFigures, Choice) {
    const ChoiceResult result = report_choice(ledger(), study(), {.pairs = true});
    draw_choice(result.choice, styles(), result.title(), file());
    expect("choice");
    draw_pairs(result.choice, styles(), result.title(), file());
    expect("pairs");
    draw_equal_effort(result.choice, "equal effort", file());
    expect("equal effort");
}

TEST_F(RecordedFigures, Curves) {
    CurvesResult result = report_curves(ledger(), study());
    draw_curves(result.curves, result.view, styles(), result.title(), file());
    expect("curves");
    result.view.quantities = {CurveQuantity::loss, CurveQuantity::accuracy, CurveQuantity::learning_rate};
    result.view.axis = CurveAxis::seconds;
    result.view.log_scale = true;
    draw_curves(result.curves, result.view, styles(), result.title(), file());
    expect("curves over seconds");
}

TEST_F(RecordedFigures, WhatARunPredicted) {
    const ClassesResult classes = report_classes(predictions());
    draw_classes(classes.scores, classes.of.classes(), classes.order, classes.title(), file());
    expect("classes");
    const ScoresResult scores = report_scores(ledger(), predictions());
    draw_reliability(scores.report.bins, "reliability", file());
    expect("reliability");
    const PredictionTable& table = classes.of.table();
    std::vector<NamedCurve> curves;
    for (std::size_t c = 0; c < table.classes; ++c)
        curves.push_back({classes.of.classes()[c], threshold_curve(table, c)});
    draw_thresholds(curves, coverage_curve(table), std::nullopt, "thresholds", file());
    expect("thresholds");
}

TEST_F(RecordedFigures, Matrices) {
    const ConfusionResult confusion = report_confusion(ledger(), study(), {.runs = {"last stage/1"}});
    for (const CellValue value : {CellValue::counts, CellValue::of_true, CellValue::of_predicted}) {
        draw_confusion(confusion.shown.matrix, study().classes, confusion.title(), file(), value);
        expect(fmt::format("confusion {}", static_cast<int>(value)));
    }
    draw_confusion_strip(confusion_frames(ledger(), confusion.runs[0]), study().classes, "epochs", file());
    expect("confusion strip");
    const MatrixDifferenceResult difference =
        report_difference(ledger(), study(), {"last stage"}, {"from scratch: learning_rate 0.1"});
    draw_difference(difference.difference, study().classes, difference.title(), file());
    expect("difference");
    const MatrixMeanResult mean =
        report_mean_confusion(ledger(), study(), {.runs = {"last stage", "new head"}});
    draw_spread(mean.spread, study().classes, mean.title(), file());
    expect("spread");
    const RecallResult recalls = report_recalls(ledger(), study());
    draw_recalls(recalls.recalls, study().classes, CandidateStyles(recalls.candidates), "recalls", file());
    expect("recalls");
}

TEST_F(RecordedFigures, NamesBesideMatricesAreSmallAndUprightFromThirteenClasses) {
    for (const std::size_t n : {12U, 13U}) {
        const CellFractions shares(n, std::vector<double>(n, 0.0));
        draw_spread({.mean = shares, .deviation = shares, .runs = 3}, std::vector<std::string>(n, "fern"),
                    "mean", file());
        const int size = n == 12 ? 11 : 8;
        EXPECT_THAT(
            read_text(script_),
            testing::AllOf(testing::HasSubstr(fmt::format("rotate by {} scale 0 font 'DejaVu Sans,{}'",
                                                          n == 12 ? -35 : -90, size)),
                           testing::HasSubstr(fmt::format(") scale 0 font 'DejaVu Sans,{}'", size))));
    }
}

TEST_F(RecordedFigures, TrainingSizes) {
    const test::TemporaryDirectory directory;
    MadeUpStudy sizes(directory.path(), 4, 24);
    for (const auto& [family, from, gain] :
         {std::tuple("new head", 0.7, 0.1), std::tuple("scratch", 0.4, 0.5)})
        for (const double fraction : {0.25, 0.5, 1.0})
            for (const std::int64_t seed : {1, 2, 3})
                sizes.add_run(
                    {.candidate = fmt::format("{}: training_fraction {}", family, fraction),
                     .seed = seed,
                     .settings = fmt::format(R"({{"training": {{"training_fraction": {}}}}})", fraction),
                     .origin = family,
                     .varied = {{"training.training_fraction", fmt::format("{}", fraction)}},
                     .training_fraction = fraction,
                     .predicted =
                         sizes.correct_with(from + gain * fraction, static_cast<std::uint64_t>(seed))});
    const TrainingSizesResult result = report_training_sizes(sizes.ledger(), sizes.study(), {});
    draw_training_sizes(result.report, Metric::accuracy,
                        CandidateStyles(sizes.ledger().candidates(sizes.study().id)), "sizes", file());
    expect("training sizes");
}

// What figures leave out or draw otherwise when there is much: of long scripts the beginning, the end and
// how many lines there are.
class RecordedFiguresOfMany : public FiguresOf<test::StudyOfMany> {
  protected:
    void expect(const std::string& name) const {
        std::istringstream script(read_text(script_));
        std::vector<std::string> lines;
        for (std::string line; std::getline(script, line);) lines.push_back(line);
        constexpr std::size_t kept = 60;
        if (lines.size() > 2 * kept) {
            const auto begin = lines.begin() + static_cast<std::ptrdiff_t>(kept);
            const std::string all = fmt::format("... {} lines", lines.size());
            lines.erase(begin, lines.end() - static_cast<std::ptrdiff_t>(kept));
            lines.insert(lines.begin() + static_cast<std::ptrdiff_t>(kept), all);
        }
        test::expect_recorded("figures/many " + name, fmt::format("{}\n", fmt::join(lines, "\n")),
                              directory_->path());
    }
};

TEST_F(RecordedFiguresOfMany, Candidates) {
    const ChoiceResult result = report_choice(ledger(), study(), {.pairs = true});
    draw_choice(result.choice, styles(), result.title(), file());
    expect("choice");
    draw_pairs(result.choice, styles(), result.title(), file());
    expect("pairs");
    const CurvesResult curves = report_curves(ledger(), study());
    draw_curves(curves.curves, curves.view, styles(), curves.title(), file());
    expect("curves");
    const RecallResult recalls = report_recalls(ledger(), study());
    draw_recalls(recalls.recalls, study().classes, CandidateStyles(recalls.candidates), "recalls", file());
    expect("recalls");
}

TEST_F(RecordedFiguresOfMany, Classes) {
    const RunPredictions predictions = open_predictions(ledger(), study(), {.run = "candidate 00/1"});
    const ClassesResult classes = report_classes(predictions);
    draw_classes(classes.scores, classes.of.classes(), classes.order, classes.title(), file());
    expect("classes");
    const ConfusionResult confusion = report_confusion(ledger(), study(), {.runs = {"candidate 00/1"}});
    draw_confusion(confusion.shown.matrix, study().classes, confusion.title(), file(), CellValue::counts);
    expect("confusion");
    const MatrixDifferenceResult difference =
        report_difference(ledger(), study(), {"candidate 00"}, {"candidate 01+"});
    draw_difference(difference.difference, study().classes, difference.title(), file());
    expect("difference");
    std::vector<NamedCurve> curves;
    for (std::size_t c = 0; c < study().classes.size(); ++c)
        curves.push_back({study().classes[c], threshold_curve(predictions.table(), c)});
    draw_thresholds(curves, coverage_curve(predictions.table()), std::nullopt, "thresholds", file());
    expect("thresholds");
}

}  // namespace
}  // namespace jevrin
