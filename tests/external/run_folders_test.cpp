// Runs that were trained elsewhere, as folders.
#include "external/intake.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/comparison/diagnosis.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/external/run_folder.hpp"

namespace jevrin {
namespace {

using test::Intake;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

class RunFolders : public Intake {
  protected:
    std::filesystem::path write_run(const std::string& name, std::size_t wrong) {
        const std::filesystem::path folder = folders_ / name;
        std::filesystem::create_directories(folder);
        Json json = run_json(name);
        json["best_epoch"] = 2;
        write_file(folder / "run.json", json_text(json, 2));
        write_file(folder / "epochs.jsonl",
                   json_text(epoch_json(1, 5)) + "\n\n" + json_text(epoch_json(2, wrong)) + "\n");
        write_file(folder / "predictions.csv", csv(wrong));
        return folder;
    }

    TemporaryDirectory folders_;
};

TEST_F(RunFolders, AreReadWholeOrNotAtAll) {
    const std::filesystem::path good = write_run("good", 1);
    const std::filesystem::path bad = write_run("bad", 2);
    write_file(bad / "epochs.jsonl",
               json_text(epoch_json(1, 5)) + "\n{\"epoch\": 2, \"training_loss\": 1e999}\n");
    EXPECT_THAT(find_run_folders({folders_.path()}), ElementsAre(bad, good));
    EXPECT_THAT(find_run_folders({good}), ElementsAre(good));
    EXPECT_THAT(refused([&] { find_run_folders({good / "none"}); }), HasSubstr("cannot read"));
    EXPECT_THAT(refused([&] { take_run_folder(study_.writer(), bad); }),
                HasSubstr("epochs.jsonl:2: a number is too large"));
    EXPECT_THAT(study_.ledger().candidates(study_.study().id), IsEmpty());
    const TakenRun taken_run = take_run_folder(study_.writer(), good);
    EXPECT_EQ(taken_run.name, "good/1");
    EXPECT_EQ(taken_run.state, RunState::finished);
    EXPECT_EQ(taken_run.epochs, 2);
    EXPECT_TRUE(taken_run.is_new);
    EXPECT_FALSE(take_run_folder(study_.writer(), good).is_new);
    EXPECT_EQ(study_.ledger().run(study_.study().id, "good/1").best->validation.at(2, 1), 1);
}

TEST_F(RunFolders, MayHavePredictionsOfEveryEpoch) {
    const std::filesystem::path folder = write_run("by epoch", 1);
    std::string lines;
    for (const std::int64_t epoch : {1, 2}) {
        Json json = epoch_json(epoch, 0);
        json.erase("predicted");
        lines += json_text(json) + "\n";
        write_file(folder / fmt::format("predictions-epoch-{}.csv", epoch), csv(epoch == 1 ? 5 : 1));
    }
    write_file(folder / "epochs.jsonl", lines);
    take_run_folder(study_.writer(), folder);
    const RunId run = study_.ledger().run(study_.study().id, "by epoch/1").id;
    EXPECT_EQ(study_.ledger().epochs(run).front().validation.at(2, 1), 5);
    EXPECT_EQ(study_.ledger().epoch_predictions(run).size(), 2U);
}

TEST_F(RunFolders, ARunThatFailedIsRecordedWithItsReason) {
    const std::filesystem::path folder = write_run("broken", 1);
    Json json = run_json("broken");
    json["failed"] = "out of memory in epoch 3";
    write_file(folder / "run.json", json_text(json, 2));
    std::filesystem::remove(folder / "predictions.csv");
    EXPECT_EQ(take_run_folder(study_.writer(), folder).state, RunState::failed);
    const RunRecord run = study_.ledger().run(study_.study().id, "broken/1");
    EXPECT_EQ(run.state, RunState::failed);
    EXPECT_EQ(run.reason, "out of memory in epoch 3");
    EXPECT_EQ(run.epochs, 2);
}

TEST_F(RunFolders, ContradictionsAndEmptyFoldersAreRefused) {
    EXPECT_THAT(refused([&] { find_run_folders({folders_.path()}); }), HasSubstr("no run is here"));
    const std::filesystem::path folder = write_run("both", 1);
    write_file(folder / "predictions.npy", "x");
    EXPECT_THAT(refused([&] { take_run_folder(study_.writer(), folder); }),
                HasSubstr("the folder has the same predictions as CSV and as NPY; remove one"));
    std::filesystem::remove(folder / "predictions.npy");
    write_file(folder / "predictions-epoch-2.csv", csv(1));
    EXPECT_THAT(refused([&] { take_run_folder(study_.writer(), folder); }),
                AllOf(HasSubstr("'predicted' is stated, and "),
                      HasSubstr("predictions-epoch-2.csv too; remove one")));
    EXPECT_THAT(study_.ledger().candidates(study_.study().id), IsEmpty());
}

TEST_F(RunFolders, PredictionsAloneAreARunOfOneEpoch) {
    const std::filesystem::path file = folders_ / "theirs.csv";
    write_file(file, csv(3));
    const TakenRun run =
        take_predictions(study_.writer(), file, {.candidate = "theirs", .regime = Regime::frozen});
    EXPECT_EQ(run.name, "theirs/1");
    const RunRecord record = study_.ledger().run(study_.study().id, "theirs/1");
    EXPECT_EQ(record.epochs, 1);
    EXPECT_TRUE(std::isnan(record.best->training_loss));
    EXPECT_NEAR(record.best->validation_loss, -(15 * std::log(0.8) + 3 * std::log(0.1)) / 18, 1e-6);
    EXPECT_NO_THROW(diagnose(study_.ledger().curve(record.id), {}));
    write_file(folders_ / "theirs.txt", csv(3));
    EXPECT_THAT(
        refused([&] { take_predictions(study_.writer(), folders_ / "theirs.txt", {.candidate = "x"}); }),
        HasSubstr(".csv or .npy"));
}

}  // namespace
}  // namespace jevrin
