#include "figures/ink.hpp"
#include "support/made_up_curves.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/figures/choice_figure.hpp"
#include "jevrin/figures/classes_figure.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/curves_figure.hpp"
#include "jevrin/figures/equal_effort_figure.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/figures/matrices_figure.hpp"
#include "jevrin/figures/regime_mark.hpp"
#include "jevrin/figures/reliability_figure.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/figures/threshold_figure.hpp"
#include "jevrin/figures/training_sizes_figure.hpp"

#include <fmt/format.h>

#include <cmath>
#include <set>

namespace jevrin {
namespace {

using test::accuracy_view;
using test::curves_of;
using test::inked;
using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

// Colours and letters as of a study with these candidates.
CandidateStyles styles_of(const std::vector<RunCurves>& curves) {
    std::vector<std::string> names;
    for (const CandidateCurves& candidate : by_candidate(curves)) names.push_back(candidate.candidate);
    return CandidateStyles(names);
}

// The same of a part of it, from top to bottom in shares of its height, left of its middle.
std::int64_t inked_left(const std::filesystem::path& file, double top, double bottom) {
    const Image image = load_image(file);
    std::int64_t count = 0;
    for (auto y = static_cast<std::int64_t>(top * static_cast<double>(image.height));
         y < static_cast<std::int64_t>(bottom * static_cast<double>(image.height)); ++y)
        for (std::int64_t x = 0; x < image.width / 2; ++x)
            count += image.pixels[static_cast<std::size_t>(3 * (y * image.width + x))] < 250;
    return count;
}

TEST(Curves, TwoPanelsLieSideBySideAndMoreInTwoRows) {
    const TemporaryDirectory directory;
    const auto curves = curves_of({"a"}, 1, 30);
    const std::filesystem::path file = directory / "c.png";
    const auto draw = [&](std::vector<CurveQuantity> quantities) {
        draw_curves(curves, {.quantities = std::move(quantities)}, CandidateStyles({"a"}), "t", file);
    };
    // The axis of the only row, or the gap between two, crosses the middle; the lower left has a panel.
    draw({CurveQuantity::loss, CurveQuantity::accuracy});
    const std::int64_t in_one_row = inked_left(file, 0.5, 0.56);
    EXPECT_GT(in_one_row, 0);
    EXPECT_GT(inked_left(file, 0.6, 0.8), 0);
    draw({CurveQuantity::loss, CurveQuantity::accuracy, CurveQuantity::learning_rate});
    EXPECT_GT(inked_left(file, 0.6, 0.8), 0);
    EXPECT_NE(inked_left(file, 0.5, 0.56), in_one_row);
}

TEST(Curves, ArePngAndSvgWithEveryCandidateNamed) {
    const TemporaryDirectory directory;
    const auto curves = curves_of({"new head", "from scratch"}, 2, 4);
    draw_curves(curves, accuracy_view, styles_of(curves), "two candidates", directory / "c.png");
    EXPECT_EQ(load_image(directory / "c.png").width, 1280);
    EXPECT_GT(inked(directory / "c.png"), 5000);
    draw_curves(curves, accuracy_view, styles_of(curves), "two candidates", directory / "c.svg");
    const std::string svg = read_text(directory / "c.svg");
    EXPECT_THAT(
        svg, testing::AllOf(HasSubstr("new head"), HasSubstr("from scratch"), HasSubstr("two candidates")));
}

TEST(Curves, OneEpochAndOneRunCanBeDrawn) {
    const TemporaryDirectory directory;
    draw_curves(curves_of({"a"}, 1, 1), accuracy_view, CandidateStyles({"a"}), "t", directory / "c.png");
    EXPECT_GT(inked(directory / "c.png"), 1000);
}

TEST(Curves, OfSixtyCandidatesAreAllNamed) {
    const TemporaryDirectory directory;
    std::vector<std::string> names;
    for (int k = 0; k < 60; ++k) names.push_back(fmt::format("candidate number {}", k));
    const auto curves = curves_of(names, 1, 6);
    draw_curves(curves,
                {.quantities = {CurveQuantity::loss, CurveQuantity::accuracy, CurveQuantity::learning_rate},
                 .axis = CurveAxis::seconds,
                 .smoothing = 0.5,
                 .log_scale = false},
                CandidateStyles(names), "sixty", directory / "c.svg");
    const std::string svg = read_text(directory / "c.svg");
    EXPECT_THAT(svg, testing::AllOf(HasSubstr("candidate number 0"), HasSubstr("candidate number 59"),
                                    HasSubstr("smoothed"), HasSubstr("seconds")));
    draw_curves(curves, {.log_scale = true}, CandidateStyles(names), "sixty", directory / "c.png");
    EXPECT_GT(inked(directory / "c.png"), 20'000);
}

TEST(CandidateStyles, AreTheSameWhicheverCandidatesAreShown) {
    std::vector<std::string> names;
    for (int k = 0; k < 24; ++k) names.push_back(fmt::format("c{}", k));
    const CandidateStyles styles(names);
    std::set<std::string> colours;
    std::set<std::string> letters;
    for (const std::string& name : names) {
        colours.insert(styles.colour(name));
        letters.insert(styles.letter(name));
    }
    EXPECT_EQ(colours.size(), 24U);
    EXPECT_EQ(letters.size(), 24U);
    EXPECT_EQ(styles.colour("c0"), series_colour(0));
    EXPECT_NE(regime_mark(Regime::scratch), regime_mark(Regime::frozen));
    EXPECT_NE(regime_mark(Regime::frozen), regime_mark(Regime::partial));
}

Choice choice_of(std::size_t candidates) {
    Choice choice{.chosen = "candidate 1"};
    for (std::size_t k = 0; k < candidates; ++k) {
        const double mean = 0.9 - 0.005 * static_cast<double>(k);
        choice.ranking.push_back({.candidate = fmt::format("candidate {}", k),
                                  .regime = k % 2 == 0 ? Regime::scratch : Regime::frozen,
                                  .mean = mean,
                                  .interval = Interval{mean - 0.03, mean + 0.03},
                                  .seconds = 1.0 + static_cast<double>(k % 7),
                                  .pareto_optimal = k < 2});
        if (k > 0) choice.ranking.back().behind = Lead{.mean = 0.9 - mean, .interval = {-0.01, 0.05}};
    }
    return choice;
}

TEST(ChoiceFigure, NamesTheCandidatesAndTheCost) {
    const TemporaryDirectory directory;
    for (const std::size_t n : {1U, 3U, 60U}) {
        std::vector<std::string> names;
        for (std::size_t k = 0; k < n; ++k) names.push_back(fmt::format("candidate {}", k));
        Choice choice = choice_of(n);
        if (n == 1) choice.chosen = "candidate 0";
        draw_choice(choice, CandidateStyles(names), "a choice", directory / "c.svg");
        const std::string svg = read_text(directory / "c.svg");
        EXPECT_THAT(svg, testing::AllOf(HasSubstr("candidate 0"), HasSubstr("a choice"),
                                        HasSubstr("per run in seconds")));
        // Beside its point in the panel of costs each has its letter.
        if (n < 60) {
            for (const std::string& name : names)
                EXPECT_THAT(svg, HasSubstr(">" + CandidateStyles(names).letter(name) + "</text>")) << name;
        }
        if (n == 60) {
            EXPECT_THAT(svg, HasSubstr("the first 40 of 60 candidates"));
        }
        // One candidate is no line.
        for (RankedCandidate& candidate : choice.ranking)
            candidate.pareto_optimal = &candidate == &choice.ranking[0];
        draw_choice(choice, CandidateStyles(names), "a choice", directory / "one.svg");
        EXPECT_THAT(read_text(directory / "one.svg"), Not(HasSubstr("dashed")));
        choice.ranking.back().pareto_optimal = true;
        draw_choice(choice, CandidateStyles(names), "a choice", directory / "two.svg");
        EXPECT_EQ(read_text(directory / "two.svg").find("dashed") != std::string::npos, n > 1);
        // Costs that nobody knows leave an empty panel.
        choice.cost = Cost::operations;
        draw_choice(choice, CandidateStyles(names), "a choice", directory / "c.png");
        EXPECT_GT(inked(directory / "c.png"), 2000);
    }
}

TEST(ChoiceFigure, EveryCostHasItsAxis) {
    const TemporaryDirectory directory;
    Choice choice = choice_of(3);
    for (std::size_t k = 0; k < 3; ++k) {
        RankedCandidate& c = choice.ranking[k];
        const auto n = static_cast<std::int64_t>(k + 1);
        c.trainable_parameters = 20'000 * n;
        c.multiplications = 2'000'000 * n * n * n * n * n * n * n;
        c.model_bytes = 40'000 * n;
        c.prediction_cost = PredictionCost{.milliseconds = 0.4 * static_cast<double>(n),
                                           .batch_milliseconds = 0.2 * static_cast<double>(n),
                                           .bytes = 3'000'000 * n};
    }
    // The words of the axis, and a number on it; of a wide range powers of ten alone.
    const std::tuple<Cost, const char*, const char*> costs[] = {
        {Cost::training_seconds, "training time per run in seconds", ">2</text>"},
        {Cost::trained_parameters, "trained parameters", ">50k</text>"},
        {Cost::operations, "multiplications per prediction", ">1G</text>"},
        {Cost::file_size, "model file, bytes", ">100k</text>"},
        {Cost::latency, "milliseconds for one image", ">0.5</text>"},
        {Cost::batch_time, "milliseconds per image in a batch", ">0.5</text>"},
        {Cost::prediction_memory, "memory of a prediction, bytes", ">5M</text>"}};
    for (const auto& [cost, axis, tic] : costs) {
        choice.cost = cost;
        draw_choice(choice, CandidateStyles({"candidate 0", "candidate 1", "candidate 2"}), "a choice",
                    directory / "c.svg");
        const std::string svg = read_text(directory / "c.svg");
        EXPECT_THAT(svg, HasSubstr(axis));
        EXPECT_TRUE(svg.find(tic) != std::string::npos) << axis << " lacks " << tic;
        EXPECT_EQ(svg.find(">2G</text>") != std::string::npos, false) << axis;
    }
}

TEST(EqualEffortFigure, HasALineForEachRegimeThatHasVariants) {
    const TemporaryDirectory directory;
    Choice choice = choice_of(3);
    EXPECT_THAT(
        test::message_of<InputError>([&] { draw_equal_effort(choice, "effort", directory / "e.svg"); }),
        HasSubstr("effort can be compared between regimes"));
    choice.equal_effort = {{.regime = Regime::scratch, .expected_best = {0.6, 0.7, 0.72}},
                           {.regime = Regime::frozen, .expected_best = {0.8}}};
    draw_equal_effort(choice, "effort", directory / "e.svg");
    EXPECT_THAT(read_text(directory / "e.svg"),
                testing::AllOf(HasSubstr("effort"), HasSubstr("scratch (3 variants)"),
                               HasSubstr("frozen (1 variant)"), HasSubstr("variants tried"),
                               HasSubstr("expected best balanced accuracy")));
}

TEST(MatricesFigure, DifferencesSpreadsAndRecallsAreDrawnForFewAndManyClasses) {
    const TemporaryDirectory directory;
    for (const std::size_t n : {3U, 30U, 200U}) {
        std::vector<std::string> classes;
        for (std::size_t c = 0; c < n; ++c) classes.push_back(fmt::format("class {}", c));
        MatrixDifference difference{.difference = CellFractions(n, std::vector<double>(n, 0.0)), .seeds = 3};
        difference.difference[0][0] = 0.4;
        difference.difference[0][1] = -0.4;
        difference.cells = {
            {.true_class = 0, .predicted = 0, .first = 0.9, .second = 0.5, .beyond_chance = true}};
        difference.gains = {
            {.true_class = 0, .items = 9, .first = 0.9, .second = 0.5, .beyond_chance = true}};
        draw_difference(difference, classes, "minus", directory / "d.svg");
        EXPECT_THAT(read_text(directory / "d.svg"),
                    testing::AllOf(HasSubstr("minus"), HasSubstr("class 0"), HasSubstr("significant")));
        draw_spread({.mean = difference.difference,
                     .deviation = CellFractions(n, std::vector<double>(n, 0.01)),
                     .runs = 3},
                    classes, "mean", directory / "s.png");
        EXPECT_GT(inked(directory / "s.png"), 2000);
        RecallTable table{.candidates = {"a", "b"},
                          .items = std::vector<std::int64_t>(n, 5),
                          .recalls = std::vector<std::vector<double>>(n, {0.5, 1.0}),
                          .deviations = std::vector<std::vector<double>>(n, {0.1, 0.0})};
        table.items[0] = 0;
        table.recalls[0] = {std::nan(""), std::nan("")};
        draw_recalls(table, classes, CandidateStyles({"a", "b"}), "recalls", directory / "r.svg");
        EXPECT_THAT(read_text(directory / "r.svg"),
                    testing::AllOf(HasSubstr("class 1"), HasSubstr("recalls")));
    }
}

TEST(TrainingSizesFigure, ShowsCurvesAndSaysWhereTheyMeet) {
    const TemporaryDirectory directory;
    TrainingSizeReport report;
    report.curves = {{"from scratch",
                      Regime::scratch,
                      {{0.5, 100, "x", 0.5, std::nullopt, 1}, {1.0, 200, "y", 0.7, Interval{0.6, 0.8}, 3}}}};
    std::string words = "does not catch up";
    for (int k = 0; k < 40; ++k) words += fmt::format(" word{}", k);
    report.catch_ups = {{.behind = "from scratch", .words = words}};
    const CandidateStyles styles({"other", "x", "y"});
    draw_training_sizes(report, Metric::accuracy, styles, "training sizes", directory / "a.svg");
    EXPECT_THAT(read_text(directory / "a.svg"),
                testing::AllOf(HasSubstr("from scratch"), HasSubstr("does not catch up"), HasSubstr("word39"),
                               HasSubstr("training items")));
    for (const std::string candidate : {"x", "y"}) {
        const auto code = std::stoul(styles.colour(candidate).substr(1), nullptr, 16);
        EXPECT_THAT(read_text(directory / "a.svg"), HasSubstr(fmt::format("rgb({:3}, {:3}, {:3})", code >> 16,
                                                                          (code >> 8) & 255, code & 255)));
    }
}

TEST(Curves, OfOneRunMarkItsBestEpochOnEveryQuantity) {
    const TemporaryDirectory directory;
    const auto curves = curves_of({"only"}, 1, 6);
    for (const CurveAxis axis :
         {CurveAxis::epoch, CurveAxis::step, CurveAxis::seconds, CurveAxis::examples}) {
        draw_curves(curves,
                    {.quantities = {CurveQuantity::loss, CurveQuantity::objective, CurveQuantity::macro_f1,
                                    CurveQuantity::learning_rate},
                     .axis = axis},
                    CandidateStyles({"only"}), "one run", directory / "c.svg");
        const std::string svg = read_text(directory / "c.svg");
        EXPECT_THAT(svg, testing::AllOf(HasSubstr("best epoch, 6"), HasSubstr("training objective"),
                                        HasSubstr(name_of(axis))));
    }
}

TEST(Figures, LongAndForeignNamesOfCandidatesAndClassesAreDrawn) {
    const TemporaryDirectory directory;
    const std::vector<std::string> names = {std::string(200, 'w'), "\u0634\u0631\u062e", "\U0001F3FA pot",
                                            "two\nlines", "tab\there \x07"};
    const auto curves = curves_of(names, 2, 4);
    const CandidateStyles styles(names);
    draw_curves(curves, accuracy_view, styles, names[0], directory / "curves.svg");
    draw_curves(curves, accuracy_view, styles, names[1], directory / "curves.png");
    EXPECT_GT(inked(directory / "curves.png"), 5000);
    const std::size_t n = names.size();
    MatrixDifference difference{.difference = CellFractions(n, std::vector<double>(n, 0.1)), .seeds = 3};
    for (std::size_t c = 0; c < n; ++c) {
        difference.cells.push_back({.true_class = c, .predicted = 0, .first = 0.2, .second = 0.1});
        difference.gains.push_back({.true_class = c, .items = 3, .first = 0.2, .second = 0.1});
    }
    draw_difference(difference, names, names[2], directory / "difference.png");
    EXPECT_GT(inked(directory / "difference.png"), 5000);
    draw_difference(difference, names, names[3], directory / "difference.svg");
    EXPECT_THAT(read_text(directory / "difference.svg"), HasSubstr("two\\x0alines"));
    Choice choice = choice_of(n);
    for (std::size_t k = 0; k < n; ++k) choice.ranking[k].candidate = names[k];
    choice.chosen = names[4];
    draw_choice(choice, styles, names[4], directory / "choice.png");
    EXPECT_GT(inked(directory / "choice.png"), 3000);
}

TEST(Confusion, IsDrawnForThreeAndForFortyClasses) {
    const TemporaryDirectory directory;
    for (const std::size_t n : {3U, 40U}) {
        ConfusionMatrix matrix(n);
        std::vector<std::string> classes;
        for (std::size_t c = 0; c < n; ++c) {
            matrix.add(c, c, 9);
            matrix.add(c, (c + 1) % n, 2);
            classes.push_back(fmt::format("class number {}", c));
        }
        draw_confusion(matrix, classes, "t", directory / "m.png");
        EXPECT_GT(inked(directory / "m.png"), 10'000);
    }
}

TEST(Confusion, EmptyCellsAreBlankAmongManyClasses) {
    const TemporaryDirectory directory;
    const auto zeros = [&](std::size_t n) {
        ConfusionMatrix matrix(n);
        std::vector<std::string> classes;
        for (std::size_t c = 0; c < n; ++c) {
            matrix.add(c, c, 7);
            classes.push_back(fmt::format("class {}", c));
        }
        draw_confusion(matrix, classes, "t", directory / "m.svg");
        const std::string svg = read_text(directory / "m.svg");
        int count = 0;
        for (std::size_t at = 0; (at = svg.find(">0<", at)) != std::string::npos; ++at) ++count;
        return count;
    };
    EXPECT_GE(zeros(10), 90);
    EXPECT_LT(zeros(11), 11);
}

TEST(Evaluation, FiguresAreDrawnForFewAndManyClasses) {
    const TemporaryDirectory directory;
    for (const std::size_t n : {3U, 6U, 30U, 200U}) {
        PredictionTable table{.classes = n, .labels = {}, .probabilities = {}};
        std::vector<std::string> names;
        std::vector<std::size_t> order;
        std::vector<NamedCurve> curves;
        for (std::size_t c = 0; c < n; ++c) {
            names.push_back(fmt::format("class number {}", c));
            order.push_back(n - 1 - c);
        }
        for (std::size_t i = 0; i < 2 * n; ++i) {
            table.labels.push_back(i % n);
            for (std::size_t c = 0; c < n; ++c)
                table.probabilities.push_back(
                    c == (i < n ? i : (7 * i + 1) % n) ? 0.6F : 0.4F / static_cast<float>(n - 1));
        }
        for (std::size_t c = 0; c < n; ++c) curves.push_back({names[c], threshold_curve(table, c)});
        const ConfusionMatrix matrix(n, table.labels, table.predicted());
        draw_classes(score_classes(table), names, order, "t", directory / "classes.png");
        draw_thresholds(curves, coverage_curve(table), std::nullopt, "t", directory / "thresholds.png");
        draw_reliability(reliability(table), "t", directory / "reliability.png");
        draw_confusion_strip({{matrix, "epoch 1"}, {matrix, "epoch 2"}}, names, "t", directory / "strip.png");
        draw_confusion(matrix, names, "t", directory / "shares.svg", CellValue::of_predicted);
        for (const char* file : {"classes.png", "thresholds.png", "reliability.png", "strip.png"})
            EXPECT_GT(inked(directory / file), 2'000) << n << file;
        EXPECT_THAT(read_text(directory / "shares.svg"), HasSubstr("class number 0"));
    }
    // Without an item a figure is still drawn.
    draw_reliability(reliability({.classes = 2, .labels = {}, .probabilities = {}}), "t",
                     directory / "none.png");
    EXPECT_GT(inked(directory / "none.png"), 500);
}

TEST(Names, WithCharactersThatNoFontHasDoNotSpoilThePicture) {
    // Two scripts and a symbol that small machines have no font for, and a code point that nobody has.
    const std::string text = gnuplot_string("a\xF0\x93\x80\x80\xF4\x8F\xBF\xBD z");
    EXPECT_THAT(text, HasSubstr("\\077"));  // a question mark
    EXPECT_THAT(text, testing::StartsWith("\"a"));
    EXPECT_EQ(gnuplot_string("plain"), "\"plain\"");
}

TEST(Names, PercentSignsAreDrawnAsTheyAre) {
    const TemporaryDirectory directory;
    const std::vector<std::string> classes = {"ripe 90%", "fill %P", "100 %%", "%s%d"};
    ConfusionMatrix matrix(4);
    for (std::size_t c = 0; c < 4; ++c) matrix.add(c, (c + 1) % 4, 3);
    draw_confusion(matrix, classes, "5% of %s", directory / "m.svg");
    const std::string svg = read_text(directory / "m.svg");
    for (const std::string& name : classes) EXPECT_THAT(svg, HasSubstr(name)) << name;
    EXPECT_THAT(svg, HasSubstr("5% of %s"));
    const auto curves = curves_of({"up 10%", "%P down"}, 2, 3);
    draw_curves(curves, accuracy_view, styles_of(curves), "two", directory / "c.svg");
    EXPECT_THAT(read_text(directory / "c.svg"), testing::AllOf(HasSubstr("up 10%"), HasSubstr("%P down")));
}

TEST(Names, CanNeverBecomeCode) {
    const TemporaryDirectory directory;
    const std::string bait = (directory / "executed").string();
    std::vector<std::string> hostile;
    for (const char* form :
         {"`touch {}`", "'", "'''", "\"; system('touch {}') #", "$(touch {})", "'; system('touch {}') #",
          "\\047.system(\"touch {}\").\\047", "\"`touch {}`\"", "@x\n!touch {}\n",
          "EOD\nsystem \"touch {}\"\n", "<b>&amp;</b>{{/Symbol a}}^2_3 {}"})
        hostile.push_back(fmt::format(fmt::runtime(form), bait));
    const std::size_t n = hostile.size();
    ConfusionMatrix matrix(n);
    for (std::size_t c = 0; c < n; ++c) matrix.add(c, c, 3);
    draw_confusion(matrix, hostile, hostile[2], directory / "m.png");
    draw_curves(curves_of(hostile, 1, 3), accuracy_view, CandidateStyles(hostile), hostile[0],
                directory / "c.svg");
    Choice choice = choice_of(n);
    for (std::size_t k = 0; k < n; ++k) choice.ranking[k].candidate = hostile[k];
    choice.chosen = hostile[0];
    draw_choice(choice, CandidateStyles(hostile), hostile[4], directory / "choice.svg");
    draw_spread({.mean = CellFractions(n, std::vector<double>(n, 0.1)),
                 .deviation = CellFractions(n, std::vector<double>(n, 0.1)),
                 .runs = 2},
                hostile, hostile[5], directory / "spread.png");
    draw_recalls({.candidates = hostile,
                  .items = std::vector<std::int64_t>(n, 1),
                  .recalls = std::vector<std::vector<double>>(n, std::vector<double>(n, 0.5)),
                  .deviations = {}},
                 hostile, CandidateStyles(hostile), hostile[6], directory / "recalls.svg");
    std::vector<SheetRow> rows;
    for (const std::string& name : hostile) rows.push_back({name, {test::small_picture(0, 1)}});
    draw_sheet(rows, hostile[1], directory.path() / "it's `a` $(sheet).png");
    EXPECT_GT(inked(directory.path() / "it's `a` $(sheet).png"), 1000);
    EXPECT_FALSE(std::filesystem::exists(bait));
    EXPECT_THAT(read_text(directory / "c.svg"), HasSubstr("`touch"));  // shown as it is
}

TEST(Figures, OtherEndingsAndUnwritablePlacesAreRefused) {
    const TemporaryDirectory directory;
    EXPECT_THAT(message_of<InputError>([&] {
                    draw_curves(curves_of({"a"}, 1, 2), accuracy_view, CandidateStyles({"a"}), "t",
                                directory / "c.bmp");
                }),
                HasSubstr(".png or .svg"));
    write_file(directory / "file", std::string("x"));
    EXPECT_THROW(draw_curves(curves_of({"a"}, 1, 2), accuracy_view, CandidateStyles({"a"}), "t",
                             directory.path() / "file" / "c.png"),
                 WorkError);
    EXPECT_THROW(draw_figure("this is no script", directory / "c.png", 100, 100), WorkError);
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(directory.path()), {}), 1);
}

}  // namespace
}  // namespace jevrin
