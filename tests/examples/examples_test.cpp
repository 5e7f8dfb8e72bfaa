// The examples as a reader runs them.
#include "support/support.hpp"

namespace jevrin {
namespace {

using testing::AllOf;
using testing::HasSubstr;

TEST(Examples, ThreeRegimesTrainsAPlanAndPrintsTheChoice) {
    const test::TemporaryDirectory directory;
    test::write_small_study(directory.path(), test::small_plan(2, "", "[1]"));
    const test::CommandOptions options{.directory = directory.path(),
                                       .program = std::filesystem::path(JEVRIN_EXAMPLES) / "three_regimes"};
    const test::CommandResult result = test::run_jevrin({"plan.toml", "ledger"}, options);
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, AllOf(HasSubstr("new head/1: accuracy "), HasSubstr("3 runs trained"),
                                     HasSubstr("from scratch")));
    EXPECT_EQ(test::run_jevrin({"missing.toml", "ledger"}, options).status, 2);
}

}  // namespace
}  // namespace jevrin
