// The report: one file that opens from disk, without a network, and explores as the page does.
#include "jevrin/pages/report.hpp"

#include "browser/page_on_screen.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"

namespace jevrin {
namespace {

using testing::HasSubstr;
using testing::IsEmpty;

class Report : public test::TrainedStudy {
  protected:
    static std::string text_of(const std::filesystem::path& file) {
        const std::vector<std::byte> bytes = read_file(file);
        return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
    }
    ReportSummary write(const ReportSettings& settings = {}) {
        return write_report(ledger(), ledger().study(), file_, settings);
    }

    const test::TemporaryDirectory elsewhere_;
    const std::filesystem::path file_ = elsewhere_ / "study.html";
};

TEST_F(Report, HoldsNothingSealedAndNoPathOfThisMachine) {
    const ReportSummary summary = write();
    const std::string html = text_of(file_);
    EXPECT_EQ(summary.bytes, std::ssize(html));
    EXPECT_EQ(summary.left_out, 0);
    EXPECT_GT(summary.pictures, 8);
    for (const std::string& id : items(Part::test)) EXPECT_EQ(html.find(id), std::string::npos) << id;
    EXPECT_EQ(html.find(directory_->path().string()), std::string::npos);
    // Nothing is loaded from elsewhere; the names of XML's languages only look so.
    for (std::size_t at = 0; (at = html.find("http", at)) != std::string::npos; ++at)
        EXPECT_TRUE(html.compare(at, 7, "http://") != 0 || html.compare(at, 17, "http://www.w3.org") == 0)
            << html.substr(at, 60);
    EXPECT_EQ(ledger().test_looks(ledger().study().id).size(), 0U);
}

TEST_F(Report, OpensFromDiskWithTheNetworkOffAndExploresTheSameWay) {
    write();
    // What it was made from may be gone.
    std::filesystem::rename(ledger_directory(), *directory_ / "away");
    test::Browser browser({.offline = true});
    const std::string address = "file://" + file_.string();
    const std::vector<std::pair<std::string, std::string>> views = {
        {"study",
         "document.querySelectorAll('.candidates tbody tr').length === 3 && document.querySelector('.cost "
         "svg circle')"},
        {"curves", "document.querySelectorAll('.chart .line').length === 12"},
        {"run?outcome=all",
         "document.querySelector('canvas.matrix') && document.querySelectorAll('.pictures .picture').length"
         " && [...document.querySelectorAll('.pictures img')].every(i => i.complete && i.naturalWidth)"},
        {"compare", "document.querySelector('canvas.matrix')"},
        {"labels", "document.querySelector('h1').innerText.includes('label')"},
        {"thresholds", "document.querySelectorAll('.chart-grid svg.chart').length === 5"},
        {"images", "document.querySelectorAll('.sample-row img').length > 6"},
        {"network", "document.querySelectorAll('.layer').length > 5"},
        {"try", "document.querySelector('main').innerText.includes('does not classify')"},
    };
    for (const auto& [view, shown] : views) {
        browser.open(address + "#/" + view);
        browser.wait_for(shown);
        EXPECT_EQ(browser.value("document.querySelectorAll('.failure').length"), 0) << view;
    }
    // From a matrix to its pictures, and Back.
    browser.open(address + "#/run?run=from%20scratch%2F1&outcome=all");
    browser.wait_for("document.querySelector('.pictures .picture')");
    browser.click(".pictures .picture");
    browser.wait_for("document.querySelector('dialog[open] .bars')");
    browser.back();
    browser.wait_for("!document.querySelector('dialog[open]')");
    EXPECT_EQ(browser.value("document.querySelector('.state').innerText.startsWith('report of ')"), true);
    EXPECT_THAT(browser.console(), IsEmpty());
    std::filesystem::rename(*directory_ / "away", ledger_directory());
}

TEST_F(Report, StaysBelowItsSizeAndSaysWhatIsLeftOut) {
    const std::int64_t whole = write().bytes;
    const ReportSummary summary = write({.most_bytes = whole - 50'000});
    EXPECT_GT(summary.left_out, 0);
    EXPECT_LE(summary.bytes, whole - 50'000);
    test::Browser browser;
    browser.open("file://" + file_.string());
    browser.wait_for("document.querySelector('.state')?.innerText.includes('no room')");
    // What must be there is always there.
    EXPECT_GT(write({.most_bytes = 1}).answers, 4);
}

TEST_F(Report, SaysWhyItHoldsNoAnswerAndHowManyImagesAreGone) {
    // A run from elsewhere came without a model, so its network cannot be shown.
    const std::filesystem::path copy = elsewhere_ / "ledger";
    std::filesystem::copy(ledger_directory(), copy, std::filesystem::copy_options::recursive);
    std::string predictions = "item,across,both,down\n";
    for (const std::string& item : items(Part::validation)) predictions += item + ",0.2,0.3,0.5\n";
    write_file(elsewhere_ / "theirs.csv", predictions);
    const test::CommandResult added =
        test::run_jevrin({"ledger", "add", (elsewhere_ / "theirs.csv").string(), "--ledger", copy.string(),
                          "--candidate", "theirs", "--regime", "scratch"});
    ASSERT_EQ(added.status, 0) << added.errors;
    const std::filesystem::path image =
        *directory_ / "images" / path_of_item(items(Part::validation).front());
    std::filesystem::rename(image, elsewhere_ / "away.png");
    const Ledger ledger = Ledger::open(copy);
    const ReportSummary summary = write_report(ledger, ledger.study(), file_);
    std::filesystem::rename(elsewhere_ / "away.png", image);
    EXPECT_EQ(summary.images_gone, 1);
    EXPECT_EQ(summary.left_out, 0);
    test::Browser browser;
    browser.open("file://" + file_.string() + "#/network?run=theirs%2F1");
    browser.wait_for("document.querySelector('.failure')");
    EXPECT_THAT(browser.text("document.querySelector('.failure').innerText"),
                HasSubstr("came without a model"));
}

TEST_F(Report, TheCommandWritesItAndReplacesOnlyWithAWholeOne) {
    const auto run = [&](const test::CommandOptions& options = {}) {
        return test::run_jevrin({"page", "--ledger", ledger_directory().string(), "--report", file_.string()},
                                options);
    };
    test::CommandResult result = run();
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, HasSubstr("study.html: "));
    const std::string before = text_of(file_);
    result = run({.largest_file_bytes = 100'000});
    EXPECT_EQ(result.status, 1);
    EXPECT_EQ(text_of(file_), before);
    EXPECT_EQ(test::run_jevrin({"page", "--ledger", ledger_directory().string(), "--report", file_.string(),
                                "--port", "80"})
                  .status,
              2);
}

}  // namespace
}  // namespace jevrin
