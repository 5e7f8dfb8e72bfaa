// What the tool says across the runs of a study.
#include "evaluated.hpp"

#include "jevrin/base/json.hpp"

#include <cmath>
#include <filesystem>
#include <sstream>

namespace jevrin {
namespace {

using test::CommandResult;
using test::is_picture;
using test::lines_of;
using test::read_text;
using testing::HasSubstr;

using Compared = test::Evaluated;

TEST_F(Compared, CurvesOverlayCandidatesOnAnyAxis) {
    const CommandResult all = run({"curves", "--show", "loss,macro_f1,learning_rate", "--over", "examples",
                                   "--smooth", "0.5", "--figure", "c.png", "--csv", "c.csv"});
    EXPECT_EQ(all.status, 0) << all.errors;
    EXPECT_THAT(all.output, testing::AllOf(HasSubstr("validation macro F1"), HasSubstr("learning rate"),
                                           HasSubstr("examples")));
    EXPECT_TRUE(is_picture(file("c.png")));
    EXPECT_EQ(lines_of(read_text(file("c.csv"))), 1 + 6 * 3U);
    const CommandResult at = run({"curves", "--at", "2"});
    EXPECT_EQ(lines_of(at.output), 1 + 6 + 3U) << at.output;
    EXPECT_EQ(run({"curves", "--show", "los"}).status, 2);
    EXPECT_THAT(run({"curves", "--over", "hours"}).errors, HasSubstr("the axis is 'hours'"));
    EXPECT_EQ(run({"curves", "--smooth", "1"}).status, 2);
    EXPECT_EQ(run({"curves", "--show", "loss,objective,accuracy,macro_f1,learning_rate"}).status, 2);
}

TEST_F(Compared, DiagnoseSaysSomethingOfEveryRun) {
    const Json found = run_json({"diagnose"});
    EXPECT_EQ(found.size(), 6U);
    for (const Json& one : found) {
        EXPECT_FALSE(one["finding"].get<std::string>().empty());
        EXPECT_EQ(one["findings"][0]["finding"], one["finding"]);
    }
    EXPECT_THAT(run({"diagnose"}).output, HasSubstr("too short: 6 runs"));  // of three epochs each
}

TEST_F(Compared, ADifferenceOfMatricesAddsUpToTheRecalls) {
    const Json difference = run_json({"confusion", "new head", "--minus", "from scratch"});
    EXPECT_EQ(difference["runs"].size(), 2U);
    EXPECT_EQ(difference["minus"].size(), 2U);
    const Json recalls = run_json({"classes"});
    for (std::size_t c = 0; c < recalls["classes"].size(); ++c) {
        const Json& row = recalls["classes"][c]["recalls"];
        double frozen = 0.0;
        double scratch = 0.0;
        for (const Json& one : row) {
            if (one["candidate"] == "new head") frozen = one["mean"].get<double>();
            if (one["candidate"] == "from scratch") scratch = one["mean"].get<double>();
        }
        EXPECT_NEAR(difference["difference"][c][c].get<double>(), frozen - scratch, 1e-9);
    }
    const CommandResult text = run(
        {"confusion", "new head", "--minus", "from scratch", "--figure", "minus.png", "--csv", "minus.csv"});
    EXPECT_EQ(text.status, 0) << text.errors;
    EXPECT_THAT(text.output,
                testing::AllOf(HasSubstr("difference in recall"), HasSubstr("fewer than three seeds")));
    EXPECT_TRUE(is_picture(file("minus.png")));
    EXPECT_EQ(lines_of(read_text(file("minus.csv"))), 4U);
    EXPECT_EQ(run({"confusion", "new head", "--minus", "nobody"}).status, 2);
    EXPECT_THAT(run({"confusion", "new head", "from scratch", "--minus", "last stage"}).errors,
                HasSubstr("2 candidates"));
    EXPECT_THAT(run({"confusion", "new head", "--minus", "from scratch", "--part", "test"}).errors,
                HasSubstr("on the validation part"));
    EXPECT_EQ(run_json({"runs"})[0]["test_looks"], 0);
}

TEST_F(Compared, AMeanMatrixHasItsSpread) {
    const Json mean = run_json({"confusion", "from scratch", "--mean"});
    const Json one = run_json({"confusion", "from scratch/1", "--fractions", "true"});
    const Json two = run_json({"confusion", "from scratch/2", "--fractions", "true"});
    for (std::size_t i = 0; i < 3; ++i)
        for (std::size_t j = 0; j < 3; ++j) {
            const double a = one["fractions"][i][j].get<double>();
            const double b = two["fractions"][i][j].get<double>();
            EXPECT_NEAR(mean["mean"][i][j].get<double>(), (a + b) / 2, 1e-12);
            EXPECT_NEAR(mean["deviation"][i][j].get<double>(), std::abs(a - b) / std::sqrt(2.0), 1e-12);
        }
    EXPECT_EQ(run({"confusion", "from scratch", "--mean", "--figure", "mean.svg"}).status, 0);
    EXPECT_TRUE(is_picture(file("mean.svg")));
    EXPECT_EQ(run({"confusion", "from scratch", "--mean", "--minus", "new head"}).status, 2);
}

TEST_F(Compared, AgreementShowsAndMarksItems) {
    const Json all = run_json({"agreement", "--show", "known"});
    const Json missed = run_json({"agreement", "--show", "missed"});
    const Json disputed = run_json({"agreement", "--show", "disputed"});
    EXPECT_EQ(all["selected"].size() + missed["selected"].size() + disputed["selected"].size(),
              all["items"].get<std::size_t>());
    EXPECT_EQ(all["agreement"].size(), 6U);
    const CommandResult sheet = run({"agreement", "--show", "known", "--sheet", "a.png", "--mark", "1"});
    EXPECT_EQ(sheet.status, 0) << sheet.errors;
    EXPECT_TRUE(is_picture(file("a.png")));
    EXPECT_THAT(run({"marks", "list"}).output, HasSubstr("of 6 runs call it"));
    EXPECT_THAT(run({"agreement", "--regime", "forzen"}).errors, HasSubstr("did you mean 'frozen'"));
}

TEST_F(Compared, TheChoiceHasAParagraphATableAFigureAndJson) {
    const Json choice = run_json({"choose", "--cost", "trained", "--pairs"});
    EXPECT_EQ(choice["cost"], "trained");
    EXPECT_EQ(choice["pairs"].size(), 3U);
    EXPECT_THAT(choice["summary"].get<std::string>(), HasSubstr("validation items are few"));
    EXPECT_EQ(choice["ranking"].size(), 3U);
    for (const Json& one : choice["ranking"]) EXPECT_EQ(one["seeds"], 2);
    const CommandResult text = run({"choose", "--figure", "choice.png", "--csv", "choice.csv", "--pairs"});
    EXPECT_EQ(text.status, 0) << text.errors;
    EXPECT_TRUE(is_picture(file("choice.png")));
    EXPECT_EQ(lines_of(read_text(file("choice.csv"))), 4U);
    EXPECT_THAT(text.output, HasSubstr("corrected for 3 comparisons"));
    // What a prediction costs was measured with each model, and is a cost as the others are.
    for (const Json& one : choice["ranking"]) {
        EXPECT_GT(one["prediction"]["milliseconds"].get<double>(), 0.0);
        EXPECT_GT(one["prediction"]["batch_milliseconds"].get<double>(), 0.0);
        EXPECT_GT(one["prediction"]["bytes"].get<std::int64_t>(), 1000);
    }
    for (const char* cost : {"latency", "batch", "memory"})
        EXPECT_GT(run_json({"choose", "--cost", cost})["ranking"][0]["cost"].get<double>(), 0.0) << cost;
    EXPECT_EQ(run({"choose", "--cost", "latency", "--figure", "latency.png"}).status, 0);
    EXPECT_TRUE(is_picture(file("latency.png")));
    EXPECT_GT(run_json({"runs"})[0]["prediction"]["milliseconds"].get<double>(), 0.0);
    EXPECT_EQ(choice["rule"], "margin");
    EXPECT_EQ(choice["margin"], 0.01);
    EXPECT_EQ(choice["epochs"], "cross-fitted");
    EXPECT_EQ(choice["pairs"][0]["verdict"], "unknown");
    EXPECT_EQ(choice["equal_effort"].size(), 0U);
    double probability = 0.0;
    for (const Json& one : choice["ranking"]) probability += one["probability_best"].get<double>();
    EXPECT_NEAR(probability, 1.0, 1e-9);
    EXPECT_EQ(run_json({"choose", "--margin", "0.2"})["margin"], 0.2);
    EXPECT_EQ(run_json({"choose", "--rule", "one-standard-error"})["rule"], "one-standard-error");
    EXPECT_EQ(run({"choose", "--pairs-figure", "pairs.png"}).status, 0);
    EXPECT_TRUE(is_picture(file("pairs.png")));
    EXPECT_THAT(run({"choose", "--effort-figure", "effort.png"}).errors, HasSubstr("several variants"));
    EXPECT_EQ(run({"choose", "--margin", "2"}).status, 2);
    EXPECT_EQ(run({"choose", "--rule", "worst"}).status, 2);
    EXPECT_EQ(run({"choose", "--cost", "money"}).status, 2);
    EXPECT_EQ(run_json({"choose", "from scratch", "new head"})["ranking"].size(), 2U);
    EXPECT_THAT(run({"choose", "from scrach"}).errors, HasSubstr("did you mean 'from scratch'"));
}

TEST_F(Compared, RunsAreQueriedNotedAndPutAway) {
    EXPECT_EQ(run_json({"runs", "--where", "regime=frozen"}).size(), 2U);
    EXPECT_EQ(run_json({"runs", "--where", "seed>1", "--sort", "-accuracy"}).size(), 3U);
    EXPECT_EQ(run_json({"runs", "--group", "regime"}).size(), 3U);
    EXPECT_THAT(run({"runs", "--differing"}).output, HasSubstr("train_from"));
    EXPECT_EQ(run({"runs", "--csv", "runs.csv"}).status, 0);
    EXPECT_THAT(read_text(file("runs.csv")), HasSubstr("training.optimiser.learning_rate"));
    EXPECT_EQ(run({"ledger", "note", "from scratch/1", "--text", "the odd one", "--tag", "odd"}).status, 0);
    EXPECT_EQ(run_json({"runs", "--tag", "odd"})[0]["note"], "the odd one");
    EXPECT_THAT(run({"ledger", "note", "from scratch/1"}).output, HasSubstr("tags odd; the odd one"));
    EXPECT_EQ(run({"ledger", "note", "from scratch/1", "--untag", "old"}).status, 2);
    EXPECT_EQ(run({"ledger", "note", "from scratch/1", "--untag", "odd", "--text", ""}).status, 0);
    EXPECT_EQ(run({"ledger", "archive", "from scratch"}).status, 0);
    EXPECT_EQ(run_json({"runs"}).size(), 4U);
    EXPECT_EQ(run_json({"runs", "--archived"}).size(), 2U);
    EXPECT_EQ(run_json({"choose"})["ranking"].size(), 2U);
    EXPECT_THAT(run({"runs"}).output, HasSubstr("2 runs archived"));
    // Training again trains nothing: they are finished, only out of sight.
    EXPECT_EQ(run({"train", "plan.toml", "--keep-epochs"}).status, 0);
    EXPECT_EQ(run_json({"runs"}).size(), 4U);
    EXPECT_EQ(run({"ledger", "archive", "from scratch", "--undo"}).status, 0);
    EXPECT_EQ(run_json({"runs"}).size(), 6U);
}

TEST_F(Compared, DeletingAsksAndMergingBringsBack) {
    std::filesystem::copy(file("ledger"), file("copy"), std::filesystem::copy_options::recursive);
    EXPECT_THAT(run({"ledger", "compare", "ledger", "copy"}).output,
                HasSubstr("6 runs with the same settings and score"));
    const CommandResult refused = run({"ledger", "delete", "last stage/1", "--ledger", "copy"});
    EXPECT_EQ(refused.status, 2);
    EXPECT_THAT(refused.errors, testing::AllOf(HasSubstr("would delete 1 run"), HasSubstr("--yes")));
    EXPECT_EQ(run({"ledger", "delete", "last stage/1", "--ledger", "copy", "--yes"}).status, 0);
    EXPECT_EQ(run_json({"runs", "--ledger", "copy"}).size(), 5U);
    EXPECT_THAT(run({"ledger", "compare", "ledger", "copy"}).output, HasSubstr("only in the first"));
    const Json merged = run_json({"ledger", "merge", "ledger", "--ledger", "copy"});
    EXPECT_EQ(merged["runs"], 1);
    EXPECT_EQ(merged["known"], 6);
    EXPECT_EQ(run_json({"runs", "--ledger", "copy"}).size(), 6U);
    // The model came along: it classifies.
    EXPECT_EQ(run({"export", "last stage/1", "back.onnx", "--ledger", "copy"}).status, 0);
    EXPECT_EQ(run({"ledger", "merge", "nowhere"}).status, 2);
}

TEST_F(Compared, TheTestPartIsReportedOnceOnAnExplicitWord) {
    std::filesystem::copy(file("ledger"), file("tested"), std::filesystem::copy_options::recursive);
    EXPECT_EQ(run_json({"choose", "--ledger", "tested"})["test_looks"], 0);
    const Json tested = run_json({"choose", "--test", "--ledger", "tested"});
    EXPECT_EQ(tested["test"]["candidate"], tested["chosen"]);
    EXPECT_EQ(tested["test"]["runs"].size(), 2U);
    EXPECT_EQ(tested["test_looks"], 2);
    EXPECT_LE(tested["test"]["low"], tested["test"]["mean"]);
    EXPECT_THAT(tested["test"]["words"].get<std::string>(), HasSubstr("inflated"));
    const double one = run_json({"scores", tested["test"]["runs"][0]["run"].get<std::string>(), "--part",
                                 "test", "--ledger", "tested"})["scores"]["balanced_accuracy"]["value"]
                           .get<double>();
    EXPECT_NEAR(tested["test"]["runs"][0]["test"].get<double>(), one, 1e-12);
    EXPECT_THAT(run({"choose", "--ledger", "tested"}).output, HasSubstr("has been looked at 3 times"));
}

TEST_F(Compared, EveryNewCommandNamesWhatIsWrong) {
    for (const std::vector<std::string>& arguments : {std::vector<std::string>{"diagnose", "nobody"},
                                                      {"classes", "nobody"},
                                                      {"agreement", "nobody"},
                                                      {"curves", "--over", "training_size", "nobody"},
                                                      {"choose", "nobody"},
                                                      {"curves", "nobody"},
                                                      {"ledger", "note", "nobody/1", "--tag", "x"},
                                                      {"ledger", "archive", "nobody/1"},
                                                      {"ledger", "delete", "nobody/1", "--yes"}}) {
        const CommandResult result = run(arguments);
        EXPECT_EQ(result.status, 2) << arguments.front();
        EXPECT_THAT(result.errors, HasSubstr("is called 'nobody")) << arguments.front();
        EXPECT_TRUE(result.output.empty()) << arguments.front();
    }
    for (const char* command : {"diagnose", "classes", "agreement", "choose", "curves", "runs"}) {
        const CommandResult result = run({command, "--ledger", "nowhere"});
        EXPECT_EQ(result.status, 2) << command;
        EXPECT_THAT(result.errors, HasSubstr("there is no ledger here")) << command;
        EXPECT_EQ(run({command, "--study", "smal"}).status, 2) << command;
    }
    EXPECT_EQ(run({"ledger", "compare", "ledger", "nowhere"}).status, 2);
    EXPECT_THAT(run({"curves", "--over", "training_size"}).errors, HasSubstr("training_fraction"));
    EXPECT_THAT(run({"ledger", "note", "from scratch/1", "--tag", "two words"}).errors,
                HasSubstr("cannot be a tag"));
    EXPECT_EQ(run_json({"runs"})[0]["tags"].size(), 0U);
}

TEST_F(Compared, FiguresThatCannotBeWrittenAreErrorsOfWork) {
    std::filesystem::create_directory(file("taken.png"));
    for (const std::vector<std::string>& arguments : {std::vector<std::string>{"curves"},
                                                      {"choose"},
                                                      {"classes"},
                                                      {"confusion", "new head", "--mean"},
                                                      {"confusion", "new head", "--minus", "from scratch"}}) {
        std::vector<std::string> with_figure = arguments;
        with_figure.insert(with_figure.end(), {"--figure", "taken.png"});
        EXPECT_EQ(run(with_figure).status, 1) << arguments.front();
        with_figure.back() = "image.gif";
        EXPECT_EQ(run(with_figure).status, 2) << arguments.front();
    }
    EXPECT_FALSE(std::filesystem::exists(file("image.gif")));
}

TEST_F(Compared, CurvesAsCsvAndJsonSayTheSame) {
    ASSERT_EQ(run({"curves", "new head/2", "--csv", "one.csv"}).status, 0);
    const Json curves = run_json({"curves", "new head/2"});
    std::istringstream lines(read_text(file("one.csv")));
    std::string line;
    std::getline(lines, line);
    EXPECT_TRUE(line.starts_with("run,candidate,regime,seed,fold,epoch,step,examples,seconds"));
    for (const Json& epoch : curves[0]["epochs"]) {
        ASSERT_TRUE(std::getline(lines, line));
        std::vector<std::string> cells;
        std::istringstream row(line);
        for (std::string cell; std::getline(row, cell, ',');) cells.push_back(cell);
        ASSERT_EQ(cells.size(), 19U);
        EXPECT_EQ(cells[0], "new head/2");
        EXPECT_EQ(std::stoll(cells[5]), epoch["epoch"].get<std::int64_t>());
        EXPECT_EQ(std::stod(cells[11]), epoch["training"]["loss"].get<double>());
        EXPECT_EQ(std::stod(cells[17]), epoch["validation"]["balanced_accuracy"].get<double>());
    }
    EXPECT_FALSE(std::getline(lines, line));
}

TEST_F(Compared, TwoStudiesInOneLedgerAreComparedApart) {
    std::filesystem::copy(file("ledger"), file("two"), std::filesystem::copy_options::recursive);
    std::string plan = test::small_plan(1, "", "[1]");
    plan.replace(plan.find("\"small\""), 7, "\"other\"");
    write_file(file("other.toml"), plan);
    ASSERT_EQ(run({"train", "other.toml", "--ledger", "two"}).status, 0);
    const CommandResult last = run({"choose", "--ledger", "two"});
    EXPECT_THAT(last.errors, HasSubstr("this ledger has 2 studies; this is 'other'"));
    EXPECT_EQ(run_json({"choose", "--ledger", "two"})["ranking"][0]["seeds"], 1);
    EXPECT_EQ(run_json({"choose", "--ledger", "two", "--study", "small"})["ranking"][0]["seeds"], 2);
}

TEST_F(Compared, AReadOnlyLedgerIsReadAndNotWritten) {
    std::filesystem::copy(file("ledger"), file("fixed"), std::filesystem::copy_options::recursive);
    for (const auto& entry : std::filesystem::recursive_directory_iterator(file("fixed")))
        std::filesystem::permissions(
            entry.path(), std::filesystem::perms::owner_write | std::filesystem::perms::group_write,
            std::filesystem::perm_options::remove);
    std::filesystem::permissions(
        file("fixed"), std::filesystem::perms::owner_read | std::filesystem::perms::owner_exec |
                           std::filesystem::perms::group_read | std::filesystem::perms::group_exec |
                           std::filesystem::perms::others_read | std::filesystem::perms::others_exec);
    std::filesystem::permissions(file("."),
                                 std::filesystem::perms::others_read | std::filesystem::perms::others_exec,
                                 std::filesystem::perm_options::add);
    const test::CommandOptions nobody{.directory = file("."), .as_nobody = true};
    EXPECT_EQ(test::run_jevrin({"choose", "--ledger", "fixed"}, nobody).status, 0);
    EXPECT_EQ(test::run_jevrin({"diagnose", "--ledger", "fixed"}, nobody).status, 0);
    const CommandResult noted =
        test::run_jevrin({"ledger", "note", "from scratch/1", "--tag", "x", "--ledger", "fixed"}, nobody);
    EXPECT_EQ(noted.status, 1) << noted.errors;
    EXPECT_EQ(
        test::run_jevrin({"ledger", "delete", "from scratch/1", "--yes", "--ledger", "fixed"}, nobody).status,
        1);
    EXPECT_EQ(test::run_jevrin({"runs", "--ledger", "fixed"}, nobody).status, 0);
    // So that it can be removed.
    std::filesystem::permissions(file("fixed"), std::filesystem::perms::owner_all,
                                 std::filesystem::perm_options::add);
    for (const auto& entry : std::filesystem::recursive_directory_iterator(file("fixed")))
        std::filesystem::permissions(entry.path(), std::filesystem::perms::owner_write,
                                     std::filesystem::perm_options::add);
}

TEST(TrainingSizes, AreDrawnAndTellWhereRegimesMeet) {
    const test::TemporaryDirectory directory;
    std::string plan = test::small_plan(2, "", "[1, 2]");
    const std::string fractions = "vary.training.training_fraction = [0.4, 1.0]\n";
    for (const char* regime : {"regime = \"scratch\"\n", "regime = \"frozen\"\n"})
        plan.insert(plan.find(regime) + std::string(regime).size(), fractions);
    test::write_small_study(directory.path(), plan);
    const test::CommandOptions here{.directory = directory.path()};
    ASSERT_EQ(test::run_jevrin({"train", "plan.toml"}, here).status, 0);
    const CommandResult text =
        test::run_jevrin({"curves", "--over", "training_size", "--figure", "a.png", "--csv", "a.csv"}, here);
    EXPECT_EQ(text.status, 0) << text.errors;
    EXPECT_TRUE(is_picture(directory / "a.png"));
    EXPECT_EQ(lines_of(read_text(directory / "a.csv")), 5U);
    const Json report =
        parse_json(test::run_jevrin({"curves", "--over", "training_size", "--json"}, here).output);
    ASSERT_EQ(report["curves"].size(), 2U);
    for (const Json& curve : report["curves"]) {
        EXPECT_EQ(curve["points"][0]["fraction"], 0.4);
        EXPECT_LT(curve["points"][0]["training_items"], curve["points"][1]["training_items"]);
    }
    EXPECT_EQ(report["catch_ups"].size(), 1U);
    EXPECT_THAT(text.output, HasSubstr(report["catch_ups"][0]["behind"].get<std::string>()));
}

}  // namespace
}  // namespace jevrin
