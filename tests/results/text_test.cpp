#include "support/made_up_curves.hpp"
#include "support/support.hpp"

#include "jevrin/results/confusion_text.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/results/terminal_curves.hpp"
#include "jevrin/results/words.hpp"

#include <fmt/format.h>

#include <limits>

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
    table.add({name_cell("a very long name that is cut", 10), decimal_cell(0.123456), "fine", "x,y"});
    table.add({"b", decimal_cell(std::numeric_limits<double>::quiet_NaN()), "", ""});
    EXPECT_EQ(table.text(),
              "who         score  in words\n"
              "a very lo…  0.123  fine\n"
              "b\n");
    EXPECT_EQ(table.text(0), "who  score  in words\n");
    EXPECT_EQ(table.csv(), "name,score,note\na very long name that is cut,0.123456,\"x,y\"\nb,,\n");
    EXPECT_EQ(table.csv(), "name,score,note\n" + table.csv_rows());
}

TEST(ResultTable, NamesCannotForgeLines) {
    ResultTable table({"class", "items"}, {1});
    table.add({name_cell("two\nlines"), count_cell(1234567)});
    EXPECT_EQ(table.text(), "class             items\ntwo\\x0alines  1,234,567\n");
}

TEST(TextForm, SaysHowManyAreLeftAndHowToGetThem) {
    EXPECT_EQ(TextForm{}.rows_of(7), 7U);
    EXPECT_EQ(TextForm{}.rows_of(100), 20U);
    EXPECT_EQ(TextForm{}.rows_of(100, 0), 100U);
    EXPECT_EQ((TextForm{.rows = 3}.rows_of(100)), 3U);
    EXPECT_EQ((TextForm{.rows = 0}.rows_of(100)), 100U);
    EXPECT_EQ(TextForm{}.and_more(0), "");
    EXPECT_EQ(TextForm{}.and_more(5, "classes"), "... and 5 more classes\n");
    EXPECT_EQ((TextForm{.for_all = "ask again"}.and_more(5)), "... and 5 more (ask again)\n");
}

TEST(Words, AreThoseOfPeople) {
    EXPECT_EQ(with_commas(-1234567), "-1,234,567");
    EXPECT_EQ(plural(1, "run"), "1 run");
    EXPECT_EQ(plural(1200, "run"), "1,200 runs");
    EXPECT_EQ(spoken_seconds(0.26), "0.3 s");
    EXPECT_EQ(spoken_seconds(80.4), "1 min 20 s");
    EXPECT_EQ(spoken_seconds(7500), "2 h 5 min");
    EXPECT_EQ(three_decimals(std::numeric_limits<double>::quiet_NaN()), "");
    EXPECT_EQ(shell_word("a/b-1"), "a/b-1");
    EXPECT_EQ(shell_word("it's new"), "'it'\\''s new'");
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
                                             CandidateLetters({"new head", "from scratch"}), 80);
    EXPECT_THAT(text, testing::AllOf(HasSubstr("a new head (mean of 2 runs)"), HasSubstr("b from scratch"),
                                     HasSubstr("epoch 5"), HasSubstr("2.650 |"), HasSubstr("0.650 |")));
    for (std::size_t begin = 0, end; (end = text.find('\n', begin)) != std::string::npos; begin = end + 1)
        EXPECT_LE(end - begin, 82U);
    EXPECT_THAT(terminal_curves(curves_of({"a"}, 1, 5), accuracy_view, CandidateLetters({"a"}), 80),
                HasSubstr("t training, v validation"));
    EXPECT_THAT(terminal_curves(curves_of({"a"}, 1, 0), accuracy_view, CandidateLetters({"a"}), 80),
                HasSubstr("no epoch is finished"));
}

TEST(Curves, InTheTerminalFollowTheAxisTheScaleAndTheQuantities) {
    const auto curves = curves_of({"one", "two"}, 1, 5);
    const CandidateLetters letters({"zero", "one", "two"});
    CurveView view = accuracy_view;
    view.quantities = {CurveQuantity::loss, CurveQuantity::learning_rate};
    view.axis = CurveAxis::step;
    view.log_scale = true;
    const std::string text = terminal_curves(curves, view, letters, 90);
    // Letters are those of the study, not of what is shown.
    EXPECT_THAT(text, testing::AllOf(HasSubstr("b one, c two"), HasSubstr("validation loss (cross-entropy)"),
                                     HasSubstr("learning rate"), HasSubstr("step 0")));
    EXPECT_THAT(text, testing::Not(HasSubstr("accuracy")));
    // A rate of 0 has no place on a scale of powers.
    EXPECT_THAT(text, HasSubstr("learning rate: no value above 0 for a logarithmic axis"));
    view.smoothing = 0.9;
    EXPECT_NE(terminal_curves(curves, view, letters, 90), text);
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
