// train's options, show and watch; faults of the disk.
#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/plan/plan.hpp"

#include <fmt/format.h>
#include <sys/stat.h>

#include <thread>

namespace jevrin {
namespace {

using test::CommandResult;
using test::run_jevrin;
using test::small_plan;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

struct TrainingCommands : testing::Test {
    TemporaryDirectory directory;
    test::CommandOptions here{.directory = directory.path()};

    CommandResult run(const std::vector<std::string>& words) const { return run_jevrin(words, here); }
};

TEST_F(TrainingCommands, ListSaysWhatWouldBeTrainedAndTrainsNothing) {
    write_small_study(directory.path(), small_plan(2, "", "[1]"));
    const CommandResult list = run({"train", "plan.toml", "--list"});
    EXPECT_EQ(list.status, 0) << list.errors;
    EXPECT_THAT(list.output, AllOf(HasSubstr("3 runs, in the order of training"), HasSubstr("new"),
                                   HasSubstr("fraction of the work")));
    EXPECT_FALSE(std::filesystem::exists(directory / "ledger"));
    ASSERT_EQ(run({"train", "plan.toml", "--until", "new head"}).status, 0);
    const Json rows = parse_json(run({"train", "plan.toml", "--list", "--json"}).output);
    ASSERT_EQ(rows.size(), 3U);
    EXPECT_EQ(rows[0]["run"], "new head/1");
    EXPECT_EQ(rows[0]["state"], "finished");
    EXPECT_EQ(rows[2]["state"], "new");
    double share = 0.0;
    for (const Json& row : rows) share += row["fraction"].get<double>();
    EXPECT_NEAR(share, 1.0, 1e-9);
    EXPECT_EQ(run({"train", "plan.toml", "--json"}).status, 2);
    const CommandResult wrong = run({"train", "plan.toml", "--only", "last stag"});
    EXPECT_EQ(wrong.status, 2);
    EXPECT_THAT(wrong.errors, HasSubstr("did you mean 'last stage'"));
}

TEST_F(TrainingCommands, TrainTellsWhatItFoundBeforeItBegins) {
    write_small_study(directory.path(), small_plan(2, "", "[1]"));
    EXPECT_THAT(run({"train", "plan.toml", "--only", "new head"}).output, HasSubstr("1 run to train\n"));
    write_file(directory / "plan.toml", small_plan(3, "", "[1]"));
    EXPECT_THAT(run({"train", "plan.toml"}).output,
                AllOf(HasSubstr("3 runs to train"), HasSubstr("; 1 earlier run superseded by other settings"),
                      HasSubstr("epoch   3/3")));
    EXPECT_THAT(run({"train", "plan.toml"}).output, HasSubstr("0 runs to train, 3 finished before"));
}

TEST_F(TrainingCommands, RunsAtOnceAreTheSameRuns) {
    write_small_study(directory.path(), small_plan(2));
    EXPECT_THAT(run({"train", "plan.toml", "--at-once", "3"}).output,
                AllOf(HasSubstr("6 runs to train, 3 at once"), HasSubstr("6 runs trained")));
    EXPECT_THAT(run({"train", "plan.toml", "--at-once", "1", "--ledger", "one"}).output,
                HasSubstr("6 runs to train\n"));
    const std::string once = test::story(directory / "ledger");
    EXPECT_EQ(once == test::story(directory / "one"), true);
    EXPECT_EQ(run({"train", "plan.toml", "--at-once", "0"}).status, 2);
}

TEST_F(TrainingCommands, ShowPrintsAPlanThatIsOne) {
    write_small_study(directory.path(), small_plan(3, "optimiser = { learning_rate = 1e-9 }", "[1]"));
    ASSERT_EQ(run({"train", "plan.toml"}).status, 0);
    const CommandResult shown = run({"show", "from scratch/1"});
    EXPECT_EQ(shown.status, 0) << shown.errors;
    EXPECT_THAT(shown.output, AllOf(HasSubstr("# from scratch/1 of study 'small': finished, 3 of 3 epochs"),
                                    HasSubstr("# trained by Jevrin"), HasSubstr("libpng"),
                                    HasSubstr("# warning at epoch 3: nothing has been learned"),
                                    HasSubstr("[[candidate]]")));
    const Plan plan = parse_plan(shown.output, "shown.toml");
    EXPECT_EQ(plan.candidates[0].training.optimiser.learning_rate, 1e-9);
    const Json whole = parse_json(run({"show", "from scratch/1", "--json"}).output);
    EXPECT_EQ(whole["settings"]["training"]["optimiser"]["learning_rate"], 1e-9);
    EXPECT_EQ(whole["warnings"].back()["epoch"], 3);
    EXPECT_EQ(whole["epoch"], 3);
    EXPECT_GT(whole["layers"].size(), 5U);
    const CommandResult layers = run({"show", "from scratch/1", "--layers", "--epoch", "2"});
    EXPECT_THAT(layers.output, AllOf(HasSubstr("epoch 2 of 3"), HasSubstr("stem.convolution"),
                                     HasSubstr("dead units"), Not(HasSubstr("[[candidate]]"))));
    EXPECT_EQ(run({"show", "from scratch/1", "--layers", "--epoch", "9"}).status, 2);
    EXPECT_THAT(run({"show", "from scrtch/1"}).errors, HasSubstr("did you mean 'from scratch/1'"));
}

TEST_F(TrainingCommands, EpochsAreKeptOnRequestAndTheBestIsTheModel) {
    write_small_study(directory.path(), small_plan(3, "ema_decay = 0.5", "[1]"));
    ASSERT_EQ(run({"train", "plan.toml", "--keep-epochs", "--only", "last stage"}).status, 0);
    ASSERT_EQ(run({"train", "plan.toml"}).status, 0);
    const Ledger ledger = Ledger::open(directory / "ledger");
    const RunRecord kept = ledger.run(StudyId{1}, "last stage/1");
    for (std::int64_t epoch = 1; epoch <= 3; ++epoch)
        EXPECT_EQ(
            run({"export", "last stage/1", fmt::format("{}.onnx", epoch), "--epoch", std::to_string(epoch)})
                .status,
            0);
    ASSERT_EQ(run({"export", "last stage/1", "best.onnx"}).status, 0);
    const auto answer = [&](const std::string& model) {
        return parse_json(run({"classify", model, "images/across", "--top", "0", "--json"}).output);
    };
    EXPECT_EQ(read_text(directory / fmt::format("{}.onnx", kept.best->epoch)),
              read_text(directory / "best.onnx"));
    const auto best = answer("best.onnx");
    const auto same = answer(ledger.model_file(kept.id, kept.best->epoch).string());
    ASSERT_EQ(best.size(), same.size());
    for (std::size_t i = 0; i < best.size(); ++i) {
        EXPECT_EQ(best[i]["top"], same[i]["top"]);
        // Only the best weights know what they have seen.
        EXPECT_TRUE(best[i]["unknown"].is_boolean());
        EXPECT_TRUE(same[i]["unknown"].is_null());
    }
    EXPECT_NE(read_text(directory / "1.onnx"), read_text(directory / "3.onnx"));
    const CommandResult missing = run({"export", "new head/1", "x.onnx", "--epoch", "1"});
    EXPECT_EQ(missing.status, 2);
    EXPECT_THAT(missing.errors, HasSubstr("keep the models of all epochs"));
}

TEST_F(TrainingCommands, WatchTellsHowAStudyStands) {
    write_small_study(directory.path(), small_plan(2, "", "[1]"));
    EXPECT_EQ(run({"watch"}).status, 2);
    ASSERT_EQ(run({"train", "plan.toml", "--only", "new head"}).status, 0);
    EXPECT_THAT(run({"watch", "--once"}).output,
                AllOf(HasSubstr("1 of 1 run over, 0 in training"), HasSubstr("new head/1")));
    EXPECT_EQ(parse_json(run({"watch", "--json"}).output)["open"], 0);
    LedgerWriter ledger = LedgerWriter::open(directory / "ledger");
    const RunRecord known = ledger.ledger().runs(StudyId{1})[0];
    const RunId other = ledger.put_run(
        StudyId{1},
        {.candidate = "slow", .regime = Regime::scratch, .seed = 1, .settings = "{}", .planned_epochs = 9});
    const auto claim = ledger.claim(other);
    const Json moment = parse_json(run({"watch", "--json"}).output);
    EXPECT_EQ(moment["in_training"][0]["run"], "slow/1");
    EXPECT_TRUE(moment["seconds_left"].is_null());
}

TEST_F(TrainingCommands, WatchFollowsUntilTheStudyIsOver) {
    write_small_study(directory.path(), small_plan(60, "", "[1]"));
    ASSERT_EQ(run({"train", "plan.toml", "--only", "new head"}).status, 0);
    std::thread trainer([&] { run({"train", "plan.toml"}); });
    std::this_thread::sleep_for(std::chrono::milliseconds(150));
    const CommandResult followed = run({"watch"});
    trainer.join();
    EXPECT_EQ(followed.status, 0) << followed.errors;
    EXPECT_THAT(followed.output, HasSubstr("0 in training"));
}

TEST_F(TrainingCommands, AFullDiskEndsTrainingWithACureAndLosesNothing) {
    write_small_study(directory.path(), small_plan(3, "", "[1]"));
    ASSERT_EQ(run({"train", "plan.toml", "--only", "new head"}).status, 0);
    test::CommandOptions limited = here;
    limited.largest_file_bytes = 24'000;  // the ledger's database is larger
    const CommandResult full = run_jevrin({"train", "plan.toml"}, limited);
    EXPECT_EQ(full.status, 1);
    EXPECT_THAT(full.errors, testing::AnyOf(HasSubstr("cannot write"), HasSubstr("disk"), HasSubstr("full")));
    EXPECT_EQ(Ledger::open(directory / "ledger").run(StudyId{1}, "new head/1").state, RunState::finished);
    EXPECT_EQ(run({"train", "plan.toml"}).status, 0);
    for (const auto& entry : std::filesystem::recursive_directory_iterator(directory / "ledger"))
        EXPECT_NE(entry.path().extension(), ".part") << entry.path();
}

TEST_F(TrainingCommands, FoldsAndVariantsAppearInEveryTable) {
    std::string text = small_plan(1, "", "[1]");
    text.replace(text.find("parts = {"), text.find('\n', text.find("parts = {")) - text.find("parts = {"),
                 "parts = { folds = 3, fold = [1, 3], test = 0.25 }");
    text += "vary.training.batch = [4, 8]\n";
    write_small_study(directory.path(), text);
    const Json check = parse_json(run({"check", "plan.toml", "--json"}).output);
    EXPECT_EQ(check["runs"], 8);
    EXPECT_EQ(check["candidates"][3]["candidate"], "last stage: batch 8");
    EXPECT_EQ(check["candidates"][3]["runs"], 2);
    ASSERT_EQ(run({"train", "plan.toml"}).status, 0);
    const Json runs = parse_json(run({"runs", "--json"}).output);
    ASSERT_EQ(runs.size(), 8U);
    EXPECT_EQ(runs[0]["run"], "from scratch/1/1");
    EXPECT_EQ(runs[1]["fold"], 3);
    EXPECT_EQ(runs[7]["origin"], "last stage");
    EXPECT_EQ(run({"confusion", "last stage: batch 8/1/3"}).status, 0);
    EXPECT_EQ(run({"choose"}).status, 0);
}

}  // namespace
}  // namespace jevrin
