// A report of a study whose images are gone.
#include "jevrin/pages/report.hpp"

#include "support/recorded_text.hpp"

namespace jevrin {
namespace {

TEST(Reports, EveryPictureThatIsGoneIsCountedOnce) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 4, 24, Metric::balanced_accuracy);
    test::fill_with_everything(study);
    const ReportSummary summary = write_report(study.ledger(), study.study(), directory / "report.html");
    EXPECT_EQ(summary.pictures, 0);
    EXPECT_EQ(summary.left_out, 0);
    // All 72 validation items, at each of which some run is wrong, and 8 of the training part among the
    // sample.
    EXPECT_EQ(summary.images_gone, 80);
}

}  // namespace
}  // namespace jevrin
