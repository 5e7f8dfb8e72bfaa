#include "jevrin/base/text.hpp"

#include "support/made_up_curves.hpp"
#include "support/support.hpp"

#include "jevrin/results/confusion_text.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/terminal_curves.hpp"
#include "jevrin/results/terminal_drawing.hpp"

#include <fmt/format.h>

#include <limits>
#include <set>

namespace jevrin {
namespace {

using test::accuracy_view;
using test::curves_of;
using testing::HasSubstr;

TEST(ResultTable, ShowsAlignedTextAndExactCsv) {
    ResultTable table({{.key = "name", .head = "who"},
                       {.key = "score", .head = "score", .align = Align::right},
                       {.key = {}, .head = "in words", .place = TableColumn::Place::text},
                       {.key = "note", .head = {}, .place = TableColumn::Place::csv}});
    table.add({name_cell("a very long name that is cut", 10), decimal_cell(0.123456),
               text_cell("fine, as it is", 6), "x,y"});
    table.add({"b", decimal_cell(std::numeric_limits<double>::quiet_NaN()), "", ""});
    EXPECT_EQ(table.text(100),
              "who         score  in words\n"
              "a ve…s cut  0.123  fine,…\n"
              "b\n");
    EXPECT_EQ(table.text(100, 0), "who  score  in words\n");
    EXPECT_EQ(table.csv(), "name,score,note\na very long name that is cut,0.123456,\"x,y\"\nb,,\n");
    EXPECT_EQ(table.csv(), "name,score,note\n" + table.csv_rows());
}

TEST(ResultTable, NamesCannotForgeLines) {
    ResultTable table({"class", "items"}, {1});
    table.add({name_cell("two\nlines"), count_cell(1234567)});
    EXPECT_EQ(table.text(100), "class             items\ntwo\\x0alines  1,234,567\n");
}

TEST(TextForm, SaysHowManyAreLeftAndHowToGetThem) {
    EXPECT_EQ(TextForm{}.width, 100U);
    EXPECT_EQ(TextForm{}.rows_of(7), 7U);
    EXPECT_EQ(TextForm{}.rows_of(100), 20U);
    EXPECT_EQ(TextForm{}.rows_of(100, 0), 100U);
    EXPECT_EQ((TextForm{.rows = 3}.rows_of(100)), 3U);
    EXPECT_EQ((TextForm{.rows = 0}.rows_of(100)), 100U);
    EXPECT_EQ(TextForm{}.and_more(0), "");
    EXPECT_EQ(TextForm{}.and_more(5, "classes"), "... and 5 more classes\n");
    EXPECT_EQ((TextForm{.for_all = "ask again"}.and_more(5)), "... and 5 more (ask again)\n");
}

TEST(ResultTable, FitsTheWidthAndNamesWhatItLeftOut) {
    ResultTable table({{.key = "a", .head = "candidate"},
                       {.key = "b", .head = "regime", .optional = 2},
                       {.key = "c", .head = "score", .align = Align::right},
                       {.key = "d", .head = "seconds", .align = Align::right, .optional = 1}});
    table.add({"from scratch: learning_rate 0.003", "scratch", "0.700", "12"});
    EXPECT_THAT(table.text(59, 1), HasSubstr("regime"));
    EXPECT_EQ(table.text(50, 1),
              "candidate                          score  seconds\n"
              "from scratch: learning_rate 0.003  0.700       12\n"
              "left out to fit 50 columns: regime\n");
    EXPECT_EQ(table.text(30, 1),
              "candidate                score\n"
              "from scratc…_rate 0.003  0.700\n"
              "left out to fit 30 columns:\n"
              "regime, seconds\n");
    EXPECT_THAT(table.csv(), HasSubstr("from scratch: learning_rate 0.003,scratch,0.700,12"));
}

TEST(TestLooks, AreCountedWithTheirRuns) {
    EXPECT_EQ(test_look_line({}), "the test part of this study has not been looked at\n");
    const std::vector<TestLook> looks = {{"a/1", "2026-01-01"}, {"b/1", "2026-01-02"}, {"a/1", "2026-01-03"}};
    EXPECT_EQ(test_look_line(looks),
              "the test part of this study has been looked at 3 times, with 2 runs; last on 2026-01-03 with "
              "a/1\n");
    EXPECT_EQ(looks_with(looks, "a/1"), 2);
}

TEST(Curves, InTheTerminalShowBothEndsOfEachAxis) {
    const std::string text = terminal_curves(curves_of({"new head", "from scratch"}, 2, 5), accuracy_view,
                                             CandidateStyles({"new head", "from scratch"}), {.width = 80});
    EXPECT_THAT(text, testing::AllOf(HasSubstr("a  new head"), HasSubstr("b  from scratch"),
                                     HasSubstr("accuracy; mean over the seeds\n"), HasSubstr("epoch 5"),
                                     HasSubstr("2.650 |"), HasSubstr("0.650 |")));
    for (std::size_t begin = 0, end; (end = text.find('\n', begin)) != std::string::npos; begin = end + 1)
        EXPECT_LE(end - begin, 80U);
    EXPECT_THAT(terminal_curves(curves_of({"a"}, 1, 5), accuracy_view, CandidateStyles({"a"}), {.width = 80}),
                testing::AllOf(HasSubstr("t  training"), HasSubstr("v  validation")));
    EXPECT_THAT(terminal_curves(curves_of({"a"}, 1, 0), accuracy_view, CandidateStyles({"a"}), {.width = 80}),
                HasSubstr("no epoch is finished"));
}

TEST(Curves, InTheTerminalFollowTheAxisTheScaleAndTheQuantities) {
    const auto curves = curves_of({"one", "two"}, 1, 5);
    const CandidateStyles letters({"zero", "one", "two"});
    CurveView view = accuracy_view;
    view.quantities = {CurveQuantity::loss, CurveQuantity::learning_rate};
    view.axis = CurveAxis::step;
    view.log_scale = true;
    const std::string text = terminal_curves(curves, view, letters, {.width = 90});
    // Letters are those of the study, not of what is shown.
    EXPECT_THAT(text, testing::AllOf(HasSubstr("b  one"), HasSubstr("c  two"),
                                     HasSubstr("validation loss (cross-entropy)"), HasSubstr("learning rate"),
                                     HasSubstr("step 0")));
    EXPECT_THAT(text, testing::Not(HasSubstr("accuracy")));
    // A rate of 0 has no place on a logarithmic axis.
    EXPECT_THAT(text, HasSubstr("learning rate: no value above 0 for a logarithmic axis"));
    view.smoothing = 0.9;
    EXPECT_NE(terminal_curves(curves, view, letters, {.width = 90}), text);
}

TEST(Curves, InARichTerminalAreBrailleInTheColoursOfTheFigures) {
    std::vector<std::string> names;
    for (int k = 0; k < 7; ++k) names.push_back(fmt::format("candidate {}", k));
    const CandidateStyles styles(names);
    const std::string text =
        terminal_curves(curves_of(names, 2, 6), accuracy_view, styles, {.width = 100, .rich = true});
    std::set<std::string> seen;
    for (std::size_t begin = 0, end; (end = text.find('\n', begin)) != std::string::npos; begin = end + 1) {
        std::string line = text.substr(begin, end - begin);
        for (std::size_t escape; (escape = line.find('\x1b')) != std::string::npos;) {
            const std::size_t m = line.find('m', escape);
            seen.insert(line.substr(escape, m - escape));
            line.erase(escape, m - escape + 1);
        }
        EXPECT_LE(display_width(line), 100U) << line;
    }
    // Seven colours and the end of a colour.
    EXPECT_EQ(seen.size(), 8U);
    EXPECT_THAT(text, HasSubstr(coloured("\u2501\u2501", styles.colour("candidate 3")) + " candidate 3"));
    EXPECT_THAT(text, testing::Not(HasSubstr("* marks")));
}

TEST(Curves, InTheTerminalHaveALegendForAnyValue) {
    auto curves = curves_of({"a"}, 1, 3);
    for (EpochRecord& e : curves[0].epochs) e.learning_rate = 0.00025;
    curves[0].epochs.back().objective = 123456789.0;
    CurveView view = accuracy_view;
    view.quantities = {CurveQuantity::learning_rate, CurveQuantity::objective};
    const std::string text = terminal_curves(curves, view, CandidateStyles({"a"}), {.width = 60});
    EXPECT_THAT(text, testing::AllOf(HasSubstr("a  a  0.00025\n"), HasSubstr("a  a  123456789.000\n")));
}

TEST(TerminalDrawing, BarsEndInEighthsAndCanvasesInTheirCorners) {
    EXPECT_EQ(bar(0.5, 8, false), "####");
    EXPECT_EQ(bar(0.5, 3, true), "\u2588\u258c");
    EXPECT_EQ(bar(7.0, 2, true), "\u2588\u2588");
    EXPECT_EQ(bar(0.0, 5, true), "");
    DotCanvas plain(3, 2, false);
    plain.line(0, 0, 1, 1, "#000000");
    plain.point(0, 0, 'a', "#000000");
    plain.point(1, 1, 'a', "#000000");
    plain.point(1, 1, 'b', "#000000");
    EXPECT_EQ(plain.rows(), (std::vector<std::string>{"a  ", " .*"}));
    DotCanvas dots(1, 1, true);
    dots.point(0, 0, 'a', "#ff0000");
    dots.point(1, 1, 'a', "#ff0000");
    EXPECT_EQ(dots.rows(), std::vector<std::string>{coloured("\u2881", "#ff0000")});
    DotCanvas shared(2, 1, true);
    shared.line(0, 0, 1, 0, "#ff0000");
    shared.line(0, 0, 1, 0, "#0000ff");
    EXPECT_EQ(shared.rows(),
              std::vector<std::string>{coloured("\u2809", "#ff0000") + coloured("\u2809", "#0000ff")});
    EXPECT_EQ(coloured("x", "#ff0000"), "\x1b[38;5;196mx\x1b[0m");
    EXPECT_EQ(coloured("x", "#444444"), "\x1b[38;5;244mx\x1b[0m");
}

TEST(Confusion, AsTextHasAlignedRowsWithRecallAndPrecision) {
    ConfusionMatrix matrix(2);
    matrix.add(0, 0, 8);
    matrix.add(0, 1, 2);
    matrix.add(1, 1, 100);
    const std::string text = terminal_confusion(matrix, {"blisters", "pinholes"}, 100);
    EXPECT_THAT(text, HasSubstr("\nblisters         8         2    0.800      1.000\n"));
    EXPECT_THAT(text, HasSubstr("\npinholes         .       100    1.000      0.980\n"));
}

TEST(Confusion, TooWideForTheTerminalIsListed) {
    ConfusionMatrix matrix(60);
    std::vector<std::string> classes;
    for (std::size_t c = 0; c < 60; ++c) {
        matrix.add(c, c, 5);
        classes.push_back(fmt::format("class {}", c));
    }
    matrix.add(7, 9, 3);
    EXPECT_THAT(terminal_confusion(matrix, classes, 160),
                HasSubstr("class 7 predicted as class 9: 3 of 8\n"));
}

TEST(Confusion, SharesSumToOneByRowOrColumn) {
    ConfusionMatrix matrix(3);
    matrix.add(0, 0, 3);
    matrix.add(0, 1, 1);
    matrix.add(1, 1, 2);
    EXPECT_EQ(cell_values(matrix, CellValue::of_true)[0], (std::vector<double>{0.75, 0.25, 0.0}));
    EXPECT_DOUBLE_EQ(cell_values(matrix, CellValue::of_predicted)[1][1], 2.0 / 3);
    EXPECT_EQ(cell_values(matrix, CellValue::of_true)[2], (std::vector<double>{0.0, 0.0, 0.0}));
    EXPECT_EQ(matrix_table(cell_values(matrix, CellValue::counts), {"a", "b,c", "d"}).csv(),
              "true,a,\"b,c\",d\na,3,1,0\n\"b,c\",0,2,0\nd,0,0,0\n");
}

}  // namespace
}  // namespace jevrin
