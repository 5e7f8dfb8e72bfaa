// Reports of studies whose images are gone.
#include "jevrin/pages/report.hpp"

#include "support/recorded_text.hpp"

#include "jevrin/base/files.hpp"

#include <fmt/format.h>

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

TEST(Reports, CompareEveryPairOfTheFirstEightCandidates) {
    const test::TemporaryDirectory directory;
    test::MadeUpStudy study(directory.path(), 2, 4);
    for (const char* candidate : {"a", "b", "c", "d", "e", "f", "g", "h", "i"})
        study.add_run({.candidate = candidate});
    write_report(study.ledger(), study.study(), directory / "report.html");
    const std::vector<std::byte> bytes = read_file(directory / "report.html");
    const std::string html(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    for (char first = 'a'; first <= 'i'; ++first)
        for (char second = 'a'; second <= 'i'; ++second)
            EXPECT_EQ(
                html.find(fmt::format("difference?first={}&second={}\"", first, second)) != std::string::npos,
                first != second && first != 'i' && second != 'i')
                << first << second;
}

}  // namespace
}  // namespace jevrin
