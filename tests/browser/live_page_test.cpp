// The page while a training writes into its ledger, and when its server goes away.
#include "browser/page_on_screen.hpp"
#include "support/made_up_study.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <chrono>
#include <csignal>

namespace jevrin {
namespace {

using test::BackgroundProcess;
using test::PageOnScreen;

TEST(LivePage, CurvesGrowWhileARealTrainingRuns) {
    const test::TemporaryDirectory directory;
    test::write_small_study(directory.path(), test::small_plan(400));
    // A ledger with one finished run to begin with.
    EXPECT_EQ(
        test::run_jevrin({"train", "plan.toml", "--only", "new head/1"}, {.directory = directory.path()})
            .status,
        0);
    PageOnScreen page(directory / "ledger");
    page.show("curves");
    page.browser.wait_for("document.querySelectorAll('.chart .line').length >= 2");
    page.browser.value(
        "window.lengths = [], window.watching = setInterval(() => { const row = "
        "document.querySelector(\"tr[data-id='from scratch/1'] td:nth-child(5)\"); "
        "if (row && window.lengths.at(-1) !== row.innerText) window.lengths.push(row.innerText); }, 10)");
    // So long that the signal below always comes before its end.
    BackgroundProcess training(JEVRIN_PROGRAM, {"train", "plan.toml", "--only", "from scratch"},
                               directory.path());
    page.wait_for_text(".state", "in training", 20);
    page.browser.wait_for("window.lengths.length >= 3", 20);
    // Lines that grow, without loading anything anew.
    page.browser.wait_for("Number(window.lengths.at(-1)) >= 10", 30);
    training.signal(SIGINT);
    EXPECT_EQ(training.wait(), 130);
    page.wait_for_text(".state", "open", 10);
    EXPECT_THAT(page.browser.console(), testing::IsEmpty());
}

TEST(LivePage, AnEpochIsDrawnWithinASecond) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 3, 8);
    study.add_run({.candidate = "before", .epochs = 3});
    PageOnScreen page(directory.path());
    page.show("curves?runs=" + page.browser.text("encodeURIComponent('[\"live/1\"]')"));
    const RunId run = study.begin_run({.candidate = "live", .epochs = 30});
    page.browser.wait_for("document.querySelector(\"tr[data-id='live/1']\")");
    double slowest = 0.0;
    for (int epoch = 1; epoch <= 5; ++epoch) {
        study.record_epoch(run, epoch);
        const auto recorded = std::chrono::steady_clock::now();
        page.browser.wait_for(
            fmt::format(
                "document.querySelector(\".chart .line\")?.getAttribute('d').split('L').length === {} "
                "&& document.querySelector('h1').innerText.includes('live/1')",
                epoch),
            5);
        slowest = std::max(
            slowest, std::chrono::duration<double>(std::chrono::steady_clock::now() - recorded).count());
    }
    EXPECT_LT(slowest, 1.0);
    RecordProperty("slowest_seconds", fmt::format("{:.3f}", slowest));
}

TEST(LivePage, AStudyWithoutARunOrAServerSaysSo) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 3, 8);
    auto page = std::make_unique<PageOnScreen>(directory.path());
    for (const char* view : {"study", "curves", "run", "compare", "thresholds", "images", "network", "try"}) {
        page->show(view);
        // Images that are not there are a failure, rightly.
        if (std::string(view) != "images") {
            EXPECT_EQ(page->count("main .failure"), 0) << view;
        }
    }
    page->show("study");
    page->wait_for_text("h1", "No run");
    study.add_run({.candidate = "first", .epochs = 2});
    page->wait_for_text("h1", "'first'");
    page->server.stop();
    page->wait_for_text(".state", "does not answer", 10);
    EXPECT_NE(page->text("h1"), "");
}

TEST(LivePage, TheCommandServesUntilItIsInterrupted) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 3, 8);
    study.add_run({.candidate = "one", .epochs = 3});
    BackgroundProcess server(JEVRIN_PROGRAM, {"page", "--ledger", directory.path().string()});
    const std::string address = server.line_with("http://127.0.0.1:");
    test::Browser browser;
    browser.open(address);
    browser.wait_for("document.querySelector('h1')?.innerText.includes('one')");
    server.signal(SIGINT);
    EXPECT_EQ(server.wait(2.0), 0);
    EXPECT_EQ(test::run_jevrin({"page", "--ledger", (directory / "nowhere").string()}).status, 2);
    EXPECT_EQ(
        test::run_jevrin({"page", "--ledger", directory.path().string(), "--address", "192.0.2.1"}).status,
        2);
}

}  // namespace
}  // namespace jevrin
