// What tables, charts and matrices of the page do when they are asked to: filter, sort, smooth, group, order.
#include "browser/page_on_screen.hpp"
#include "support/made_up_study.hpp"

namespace jevrin {
namespace {

using test::PageOnScreen;
using testing::HasSubstr;

// Four classes: of the first a third is called the third, of the second half the fourth, and of those a sixth
// the other way round.
std::size_t confused_in_pairs(std::size_t label, std::size_t place) {
    const std::size_t one_of = label == 0 ? 3 : label == 1 ? 2 : 6;
    return place % one_of == 0 ? (label + 2) % 4 : label;
}

TEST(Controls, ATableIsFilteredSortedAndSavedAsItIsShown) {
    const test::TemporaryDirectory directory;
    const test::TemporaryDirectory downloads;
    test::MadeUpStudy study(directory.path(), 4, 8);
    study.add_run({.candidate = "wide", .seconds = 40, .settings = R"({"width":64})"});
    study.add_run({.candidate = "narrow",
                   .regime = Regime::frozen,
                   .seconds = 0.2,
                   .settings = R"({"width":8})",
                   .predicted = [](std::size_t label, std::size_t) { return label % 2; }});
    study.add_run({.candidate = "slow",
                   .regime = Regime::partial,
                   .seconds = 4000,
                   .settings = R"({"width":64})",
                   .predicted = [](std::size_t, std::size_t) { return 0U; }});
    PageOnScreen page(directory.path(), {.downloads = downloads.path()});
    page.show("curves");
    page.wait_for_rows(".side", "wide/1,narrow/1,slow/1");
    EXPECT_EQ(page.texts(".side tbody td:nth-child(6)"), "40 s,200 ms,1 h 7 min");
    const std::vector<std::pair<std::string, std::string>> filters = {
        {"regime=frozen", "narrow/1"},
        {"regime!=frozen", "wide/1,slow/1"},
        {"seconds<=40", "wide/1,narrow/1"},
        {"seconds<40", "narrow/1"},
        {"seconds>40", "slow/1"},
        {"seconds>=40", "wide/1,slow/1"},
        {"accuracy>=0.5 seed=1.0", "wide/1,narrow/1"},
        {"width=64 regime=scratch", "wide/1"},  // a setting, whose column is not shown
        {"\"row/1\"", "narrow/1"},
        {"no such word", ""},
        {"", "wide/1,narrow/1,slow/1"},
    };
    for (const auto& [filter, left] : filters) {
        page.set(".side .filter", filter);
        page.wait_for_rows(".side", left);
    }
    page.set(".side .filter", "seconds>1");
    page.browser.wait_for("location.hash.includes('filter=seconds')");
    page.wait_for_text(".side .table > p", "2 of 3 rows");
    // Numbers from the highest, words from the first; once more turns them round.
    for (const auto& [head, rows, direction] : {std::tuple{"time", "slow/1,wide/1", "descending"},
                                                std::tuple{"time ↓", "wide/1,slow/1", "ascending"},
                                                std::tuple{"regime", "slow/1,wide/1", "ascending"},
                                                std::tuple{"regime ↑", "wide/1,slow/1", "descending"}}) {
        page.press(head);
        page.wait_for_rows(".side", rows);
        EXPECT_EQ(page.browser.text("document.querySelector('.side [aria-sort]').ariaSort"), direction)
            << head;
    }
    page.browser.wait_for("location.hash.includes('sort=-regime')");
    page.press("differing settings");
    page.wait_for_text(".side thead", "width");
    page.browser.click(".side .tools button:last-child");
    const std::string saved = test::saved_file(downloads / "made-up-runs.csv");
    EXPECT_THAT(saved, HasSubstr("run,at pointer,best,width,epoch"));
    EXPECT_THAT(saved, HasSubstr("\r\nwide/1,,1,64,1,1,40,scratch,finished,1\r\nslow/1,"));
    EXPECT_THAT(saved, testing::Not(HasSubstr("narrow")));
    EXPECT_THAT(page.browser.console(), testing::IsEmpty());
}

TEST(Controls, CurvesAreSmoothedBandedAndGrouped) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 4, 8);
    for (const char* candidate : {"flat", "deep"})
        for (const std::int64_t seed : {1, 2})
            study.add_run({.candidate = candidate,
                           .seed = seed,
                           .seconds = 5,
                           .epochs = 2,
                           .predicted = study.correct_with(0.25 + 0.25 * static_cast<double>(seed), 1)});
    PageOnScreen page(directory.path());
    page.show("curves?show=" + page.browser.text("encodeURIComponent('[\"loss\"]')"));
    page.browser.wait_for("document.querySelectorAll('.chart .line').length === 4");
    // Losses of 2.2 and 1.1, a weight of 0.5: 2.2, then (0.25 * 2.2 + 0.5 * 1.1) / 0.75.
    page.browser.click(".chart-box .as-table summary");
    page.wait_for_text(".chart-box .as-table tbody", "1.10");
    EXPECT_EQ(page.texts(".chart-box .as-table tbody th"), "1,2");
    EXPECT_EQ(page.text(".chart-box .as-table tbody tr:nth-child(2) td"), "1.10");
    page.choose("smoothing", "0.5");
    page.wait_for_text(".chart-box .as-table tbody tr:nth-child(2) td", "1.47");
    EXPECT_EQ(page.text(".chart-box .as-table tbody td"), "2.20");
    page.choose("smoothing", "0");
    page.wait_for_text(".chart-box .as-table tbody tr:nth-child(2) td", "1.10");
    page.choose("part", "both");
    page.browser.wait_for(
        "document.querySelectorAll('.chart .line').length === 8 && "
        "document.querySelectorAll('.chart .dashed').length === 4");
    page.choose("part", "validation");
    page.press("bands over seeds");
    page.browser.wait_for(
        "document.querySelectorAll('.chart .line').length === 2 && "
        "document.querySelectorAll('.chart .band').length === 2");
    page.press("logarithmic");
    page.browser.wait_for("location.hash.includes('log=yes')");
    page.choose("group by", "candidate");
    page.wait_for_rows(".side .table:first-child", "flat,deep");
    EXPECT_EQ(page.text(".side .table:first-child tbody td:nth-child(2)"), "2");
    EXPECT_EQ(page.text(".side .table:first-child tbody td:nth-child(5)"), "10 s");
    // The runs of a group, one less, all again.
    page.browser.click(".side .table:first-child tbody tr");
    page.wait_for_text("h1", "Curves of 2 of 4 runs");
    page.browser.value(
        "document.querySelector(\"tr[data-id='flat/2']\").dispatchEvent(new "
        "MouseEvent('click', {ctrlKey: true, bubbles: true}))");
    page.wait_for_text("h1", "Curves of flat/1");
    page.press("all runs");
    page.wait_for_text("h1", "Curves of 4 of 4 runs");
    // A row that is pointed at lets its line stand out.
    page.press("bands over seeds");
    page.browser.wait_for("document.querySelectorAll('.chart .line').length === 4");
    page.browser.point("tr[data-id='deep/1']");
    page.browser.wait_for("document.querySelectorAll('.chart .away').length === 3");
    EXPECT_THAT(page.browser.console(), testing::IsEmpty());
}

TEST(Controls, AMatrixIsOrderedBySimilarityAndPicturesAreChosenInIt) {
    const test::TemporaryDirectory directory;
    const test::TemporaryDirectory downloads;
    test::MadeUpStudy study(directory.path(), 4, 16);
    study.add_run({.candidate = "pairs",
                   .epochs = 3,
                   .at_epoch = [](std::size_t label, std::size_t, int) { return label == 3 ? 0 : label; },
                   .predicted = confused_in_pairs});
    PageOnScreen page(directory.path(), {.downloads = downloads.path()});
    page.show("run");
    page.browser.click(".as-table summary");
    const std::string heads = ".as-table thead th:not(:first-child)";
    page.wait_for_text(".as-table tbody tr:nth-child(2) td:nth-child(5)", "6");
    EXPECT_EQ(page.texts(heads), "class 000,class 001,class 002,class 003");
    EXPECT_EQ(page.texts(".as-table tbody tr:nth-child(2) td"), "0,6,0,6");
    page.choose("classes", "similarity");
    page.wait_for_text(heads + ":nth-child(3)", "class 002");
    EXPECT_EQ(page.texts(heads), "class 000,class 002,class 001,class 003");
    EXPECT_EQ(page.texts(".as-table tbody tr:nth-child(3) td"), "0,0,6,6");
    page.choose("cells", "true");
    page.wait_for_text(".as-table tbody tr:nth-child(3) td:nth-child(4)", "50");
    page.choose("cells", "predicted");
    // 8 are called the second class, 6 of them rightly; 16 the fourth, 6 of them are of the second.
    page.wait_for_text(".as-table tbody tr:nth-child(3) td:nth-child(4)", "75");
    EXPECT_EQ(page.texts(".as-table tbody tr:nth-child(3) td"), "0,0,75,38");
    page.browser.value(
        "[...document.querySelectorAll('.matrix-box > .tools button')].forEach(b => b.click())");
    EXPECT_THAT(test::saved_file(downloads / "pairs-1-confusion-matrix-of-the-validation-part.csv"),
                HasSubstr("true_class,class 000,class 002,class 001,class 003\r\nclass 000,8,4,0,0\r\n"));
    EXPECT_THAT(test::saved_file(downloads / "pairs-1-confusion-matrix-of-the-validation-part.png"),
                HasSubstr("PNG"));
    // Below and right of the middle is the cell of the second class, the third in this order.
    const std::string readout = ".matrix-box .readout";
    page.browser.value("document.querySelector('canvas.matrix').scrollIntoView()");
    page.browser.point("canvas.matrix", 50, 50);
    page.wait_for_text(readout, "6 class 001 predicted as class 001");
    page.browser.click("canvas.matrix");
    page.browser.wait_for("location.hash.includes('predicted=') && location.hash.includes('true=')");
    const std::string there = page.text(".pictures h2");
    EXPECT_THAT(there, HasSubstr(" predicted as "));
    page.browser.click("canvas.matrix");
    page.browser.wait_for("!location.hash.includes('predicted=')");
    page.browser.point("h1");
    page.browser.wait_for("document.querySelector('.matrix-box .readout').textContent === ''");
    // A class: its pictures, and only those that are wrong.
    page.browser.click(".classes tr[data-id='class 001']");
    page.wait_for_text(".pictures h2", "class 001: 12 pictures");
    page.choose("show", "wrong");
    page.wait_for_text(".pictures h2", "class 001: 6 pictures");
    page.choose("show", "right");
    page.browser.wait_for(
        "document.querySelectorAll('.pictures .picture.right').length === 6 && "
        "document.querySelectorAll('.pictures .picture.wrong').length === 0");
    page.press("every class");
    page.wait_for_text(".pictures h2", "every class");
    // The film plays to its last epoch, and the pictures are then those of the epoch it stands at.
    page.set(".film input", "1");
    page.wait_for_text(".film output", "epoch 1 of 3");
    page.wait_for_text(".pictures", "predictions of epoch 1");
    page.press("play");
    page.wait_for_text(".film button", "pause");
    page.wait_for_text(".film output", "epoch 3 of 3 (best)");
    page.wait_for_text(".film button", "play");
    // A column of the table of classes is hidden, and stays so in the address.
    page.browser.click(".classes .menu summary");
    page.press("precision");
    page.browser.wait_for(
        "location.hash.includes('hide=') && "
        "!document.querySelector('.classes thead').innerText.includes('precision')");
    page.browser.click(".classes .menu summary");
    page.press("precision");
    page.wait_for_text(".classes thead", "precision");
}

TEST(Controls, WhatOneCandidateHasRightAndAnotherWrong) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 4, 40);
    for (const std::int64_t seed : {1, 2, 3}) {
        study.add_run({.candidate = "good", .seed = seed});
        study.add_run({.candidate = "pairs", .seed = seed, .predicted = confused_in_pairs});
    }
    study.add_run({.candidate = "third", .predicted = [](std::size_t, std::size_t) { return 0U; }});
    PageOnScreen page(directory.path());
    page.show("compare");
    // Of 30 items of a class 10, 15, 5 and 5.
    page.wait_for_text(".pictures h2", "wrong by the other: 35 pictures");
    page.wait_for_text("h1", "differ beyond chance");
    page.browser.click(".two table tr[data-id='class 001']");
    page.wait_for_text(".pictures h2", "15 pictures");
    EXPECT_THAT(page.text(".pictures .picture"), HasSubstr("0 of 3 right"));
    page.browser.click(".pictures .picture");
    page.wait_for_text("dialog header", "1 of 15");
    page.wait_for_text("dialog", "3 of 7 runs are right");
    page.browser.keys(test::arrow_right);
    page.wait_for_text("dialog header", "2 of 15");
    page.press("close");
    page.browser.wait_for("!document.querySelector('dialog[open]')");
    page.choose("more often right", "second");
    page.wait_for_text(".pictures h2", "0 pictures");
    page.press("gain");
    page.browser.wait_for("location.hash.includes('sort=-gain')");
    EXPECT_EQ(page.texts(".two table tbody td:nth-child(5)"), "+0.500,+0.333,+0.167,+0.167");
    // The other way round, and against one of a single seed.
    page.show("compare?first=pairs&second=good&right=second");
    page.wait_for_text(".pictures h2", "35 pictures");
    page.show("compare?first=good&second=third");
    page.wait_for_text(".evidence", "fewer than three seeds");
    page.show("compare?first=good&second=nobody");
    page.wait_for_text(".failure", "nobody");
}

TEST(Controls, RunsOfAnEarlierImageSetAreToldApart) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 4, 16);
    study.add_run({.candidate = "early"});
    study.change_images();
    study.add_run({.candidate = "late", .predicted = confused_in_pairs});
    study.add_run({.candidate = "latest", .predicted = [](std::size_t, std::size_t) { return 0U; }});
    PageOnScreen page(directory.path());
    page.show("study");
    page.wait_for_text("main", "1 run used another version of the image set, and is not compared: a early/1");
    page.show("curves");
    page.wait_for_rows(".side", "early/1,late/1,latest/1");
    EXPECT_EQ(page.text(".side thead th:nth-child(8)"), "set");
    EXPECT_EQ(page.texts(".side tbody td:nth-child(8)"), "1,2,2");
    // What is shown first is of those that are compared.
    page.show("run");
    page.wait_for_text("h1", "accuracy 0.708");
    page.show("compare");
    page.wait_for_text(".evidence", "more in b late, orange: more in c latest");
}

}  // namespace
}  // namespace jevrin
