// The examples as a reader runs them.
#include "support/support.hpp"

#include <memory>

namespace jevrin {
namespace {

using testing::AllOf;
using testing::HasSubstr;

// A small study, trained, and the examples beside it.
class Examples : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<test::TemporaryDirectory>();
        test::write_small_study(directory_->path(), test::small_plan(2, "", "[1, 2, 3]"));
    }
    static void TearDownTestSuite() { directory_.reset(); }
    static test::CommandResult example(const std::string& name, const std::vector<std::string>& arguments) {
        return test::run_jevrin(arguments, {.directory = directory_->path(),
                                            .program = std::filesystem::path(JEVRIN_EXAMPLES) / name});
    }
    static std::string path(const std::string& name) { return (*directory_ / name).string(); }
    // The ledger of the plan, trained once.
    static const std::string& ledger() {
        static const std::string name = "ledger";
        static const test::CommandResult trained =
            test::run_jevrin({"train", "plan.toml", "--ledger", name}, {.directory = directory_->path()});
        EXPECT_EQ(trained.status, 0) << trained.errors;
        return name;
    }

    static inline std::unique_ptr<test::TemporaryDirectory> directory_;
};

TEST_F(Examples, ThreeRegimesTrainsAPlanAndPrintsTheChoice) {
    const test::CommandResult result = example("three_regimes", {"plan.toml", "by-example"});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, AllOf(HasSubstr("new head/1: accuracy "), HasSubstr("9 runs trained"),
                                     HasSubstr("from scratch")));
    EXPECT_EQ(example("three_regimes", {"missing.toml", "by-example"}).status, 2);
}

TEST_F(Examples, OwnNetworkTrainsLayersWrittenInCode) {
    const test::CommandResult result = example("own_network", {path("images")});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, AllOf(HasSubstr("epoch 1: loss "), HasSubstr("epoch 4: loss ")));
    EXPECT_EQ(example("own_network", {path("nothing")}).status, 2);
}

TEST_F(Examples, OwnLoopStandsInALedgerLikeAnyRun) {
    const test::CommandResult result = example("own_loop", {path("images"), "own-loop"});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, HasSubstr("'mean colour'"));
    const test::CommandResult curves =
        test::run_jevrin({"curves", "--ledger", "own-loop"}, {.directory = directory_->path()});
    EXPECT_THAT(curves.output, HasSubstr("mean colour/1   20/20"));
    EXPECT_EQ(test::run_jevrin({"confusion", "mean colour/1", "--ledger", "own-loop"},
                               {.directory = directory_->path()})
                  .status,
              0);
}

TEST_F(Examples, OwnBackboneComparesWithoutAPlanFile) {
    const test::CommandResult result =
        example("own_backbone", {path("backbone.onnx"), path("images"), "own-backbone"});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output,
                AllOf(HasSubstr("frozen: "), HasSubstr("partial: "), HasSubstr("parameters train")));
    EXPECT_EQ(example("own_backbone", {path("plan.toml"), path("images"), "own-backbone"}).status, 2);
}

TEST_F(Examples, PredictionsMadeElsewhereAreScored) {
    const test::CommandOptions here{.directory = directory_->path()};
    ASSERT_EQ(
        test::run_jevrin({"scores", "new head/1", "--ledger", ledger(), "--csv", "table.csv"}, here).status,
        0);
    const test::CommandResult result = example("score_elsewhere", {ledger(), "from scratch/1", "table.csv"});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output,
                AllOf(HasSubstr("accuracy"), HasSubstr("from scratch/1 itself: balanced accuracy")));
    EXPECT_EQ(example("score_elsewhere", {ledger(), "from scratch/1", "plan.toml"}).status, 2);
}

TEST_F(Examples, ALedgerAnswersPlainSql) {
    const test::CommandResult result = example("plain_sql", {ledger()});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, HasSubstr("of 9 runs"));
    EXPECT_EQ(example("plain_sql", {"nowhere"}).status, 2);
}

TEST_F(Examples, AMetricOfOnesOwnIsChosenBy) {
    const test::CommandResult result = example("own_metric", {ledger()});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, AllOf(HasSubstr("across found: "), HasSubstr("not separated")));
}

}  // namespace
}  // namespace jevrin
