// Studies that are shared, stopped, edited, varied and split into folds.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/check.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/tensor/libraries.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

namespace jevrin {
namespace {

using test::message_of;
using test::small_plan;
using test::story;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::ElementsAre;
using testing::HasSubstr;

std::vector<RunRecord> runs_in(const std::filesystem::path& directory) {
    const Ledger ledger = Ledger::open(directory);
    return ledger.runs(ledger.study().id);
}

Plan written(const TemporaryDirectory& directory, const std::string& text) {
    return read_plan(write_small_study(directory.path(), text));
}

TEST(Stopping, SavesTheBatchesOfTheEpochInProgress) {
    const TemporaryDirectory directory;
    const Plan plan = written(directory, small_plan(3,
                                                    "optimiser = { kind = \"adam\" }\nema_decay = 0.9\n"
                                                    "schedule = \"one cycle\"",
                                                    "[5]"));
    train_study(plan, directory / "whole");
    // Stopped at every second batch: without what is saved in the middle no epoch of three would ever end.
    int stops = 0;
    for (bool done = false; !done; ++stops) {
        int batches = 0;
        StudyCallbacks callbacks;
        callbacks.progress = [&](const RunRecord&, const StudyPosition& at) {
            batches += at.batch > 0 ? 1 : 0;
        };
        callbacks.stop_requested = [&] { return batches >= 2; };
        try {
            train_study(plan, directory / "parts", callbacks, {.at_once = 1});
            done = true;
        } catch (const Interrupted&) {
        }
        ASSERT_LT(stops, 60);
    }
    EXPECT_GE(stops, 12);
    EXPECT_EQ(story(directory / "parts"), story(directory / "whole"));
}

TEST(Stores, ChangeNoNumber) {
    const TemporaryDirectory directory;
    std::string text = small_plan(3, "", "[1, 2]");
    text += "training = { augment = \"light\", views = 2 }\n";
    const Plan plan = written(directory, text);
    train_study(plan, directory / "kept");
    train_study(plan, directory / "left out", {}, {.stores = Stores::left_out});
    EXPECT_EQ(story(directory / "kept"), story(directory / "left out"));
    std::set<std::string> kinds;
    for (const auto& entry : std::filesystem::directory_iterator(directory / "kept/stores"))
        kinds.insert(entry.path().filename().string().substr(0, 8));
    EXPECT_TRUE(kinds.contains("features"));
    EXPECT_FALSE(std::filesystem::exists(directory / "left out/stores"));
}

TEST(Order, IsByCostAndMayBeCut) {
    const TemporaryDirectory directory;
    std::string text = small_plan(2, "", "[1, 2]");
    text.replace(text.find("regime = \"scratch\"\n"), 19,
                 "regime = \"scratch\"\nvary.training.epochs = [9, 1]\n");
    const Plan plan = written(directory, text);
    const auto materials = gather_materials(plan);
    const auto names = [&](const Selection& selection) {
        std::vector<std::string> result;
        for (const PlannedRun& run : select_runs(plan_runs(*materials), selection))
            result.push_back(run.name());
        return result;
    };
    const std::string one = "from scratch: epochs 1";
    const std::string nine = "from scratch: epochs 9";
    EXPECT_THAT(names({}), ElementsAre("new head/1", "new head/2", "last stage/1", "last stage/2", one + "/1",
                                       one + "/2", nine + "/1", nine + "/2"));
    EXPECT_THAT(names({.only = {"from scratch"}}),
                ElementsAre(one + "/1", one + "/2", nine + "/1", nine + "/2"));
    EXPECT_THAT(names({.only = {nine, "new head/2"}}), ElementsAre("new head/2", nine + "/1", nine + "/2"));
    EXPECT_THAT(names({.until = "new head"}), ElementsAre("new head/1", "new head/2"));
    EXPECT_THAT(names({.only = {"last stage", one}, .until = one + "/1"}),
                ElementsAre("last stage/1", "last stage/2", one + "/1"));
    EXPECT_THAT(message_of<InputError>([&] { names({.only = {"new hed"}}); }),
                HasSubstr("no candidate or run of the plan is called 'new hed' (did you mean 'new head'?)"));
    EXPECT_THAT(message_of<InputError>([&] { names({.until = "x"}); }), HasSubstr("is called 'x'"));
    EXPECT_EQ(train_study(plan, directory / "ledger", {}, {.selection = {.only = {"new head/1"}}}).trained,
              1);
    EXPECT_EQ(runs_in(directory / "ledger").size(), 1U);
    const StudySummary rest =
        train_study(plan, directory / "ledger", {}, {.selection = {.until = "new head"}});
    EXPECT_EQ(rest.trained, 1);
    EXPECT_EQ(rest.already_finished, 1);
}

TEST(Editing, FinishedRunsWithUnchangedSettingsStay) {
    const TemporaryDirectory directory;
    train_study(written(directory, small_plan(1, "", "[1]")), directory / "ledger");
    std::string text = small_plan(1, "", "[1, 2]");
    text.replace(text.find("dropout = 0.2"), 13, "dropout = 0.3");
    StudyOutlook outlook;
    StudyCallbacks callbacks;
    callbacks.begun = [&](const StudyOutlook& seen) { outlook = seen; };
    train_study(written(directory, text), directory / "ledger", callbacks);
    EXPECT_EQ(outlook.finished, 2);    // two regimes, seed 1
    EXPECT_EQ(outlook.superseded, 1);  // the head
    EXPECT_EQ(outlook.to_train, 4);
}

TEST(Claims, RunsOfOthersAreLeftAlone) {
    const TemporaryDirectory directory;
    const Plan plan = written(directory, small_plan(1, "", "[1]"));
    train_study(plan, directory / "ledger", {}, {.selection = {.only = {"new head"}}});
    const RunId next{runs_in(directory / "ledger").back().id.number + 1};  // the partial one
    {
        LedgerWriter other = LedgerWriter::open(directory / "ledger");
        const auto claim = other.claim(next);
        ASSERT_TRUE(claim);
        const StudySummary summary = train_study(plan, directory / "ledger");
        EXPECT_EQ(summary.trained, 1);
        EXPECT_EQ(summary.elsewhere, 1);
        EXPECT_TRUE(Ledger::open(directory / "ledger").run_by_id(next).claimed);
    }
    EXPECT_EQ(train_study(plan, directory / "ledger").trained, 1);
}

TEST(Failing, IsRecordedKeptAndRetriedOnRequest) {
    const TemporaryDirectory directory;
    std::string text = small_plan(40, "", "[1]");
    text.replace(
        text.find("regime = \"scratch\"\n"), 19,
        "regime = \"scratch\"\ntraining = { optimiser = { learning_rate = 999.0, weight_decay = 9.0 } }\n");
    const Plan plan = written(directory, text);
    EXPECT_EQ(train_study(plan, directory / "ledger").failed, 1);
    const auto failed = [&] { return Ledger::open(directory / "ledger").run(StudyId{1}, "from scratch/1"); };
    EXPECT_EQ(failed().state, RunState::failed);
    EXPECT_THAT(failed().reason, HasSubstr("became NaN or infinite"));
    const StudySummary again = train_study(plan, directory / "ledger");
    EXPECT_EQ(again.failed, 0);
    EXPECT_EQ(again.failed_before, 1);
    int epochs = 0;
    StudyCallbacks callbacks;
    callbacks.epoch_finished = [&](const RunRecord&, const EpochRecord&, bool) { ++epochs; };
    const std::int64_t kept = failed().epochs;
    EXPECT_EQ(train_study(plan, directory / "ledger", callbacks, {.retry_failed = true}).failed, 1);
    EXPECT_EQ(epochs, 0);  // it continues from its last good state, and fails again
    EXPECT_EQ(failed().epochs, kept);
    // With a learning rate that works it is another run, and the failed one is out of sight.
    text.replace(text.find("999.0"), 5, "0.01");
    EXPECT_EQ(train_study(written(directory, text), directory / "ledger").trained, 1);
    EXPECT_EQ(failed().state, RunState::finished);
}

TEST(Failing, InAnotherProcessMeanwhileIsNotTriedAgain) {
    const TemporaryDirectory directory;
    const Plan plan = written(directory, small_plan(1, "", "[1]"));
    LedgerWriter other = LedgerWriter::open(directory / "ledger");
    StudyCallbacks callbacks;
    callbacks.run_finished = [&](const RunRecord& run) {
        // When the first run is finished, the last one fails elsewhere.
        if (run.candidate == "new head")
            other.fail_run(other.ledger().run(StudyId{1}, "from scratch/1").id, "out of luck");
    };
    const StudySummary summary = train_study(plan, directory / "ledger", callbacks, {.at_once = 1});
    EXPECT_EQ(summary.trained, 2);
    EXPECT_EQ(summary.failed_before, 1);
    EXPECT_EQ(other.ledger().run(StudyId{1}, "from scratch/1").reason, "out of luck");
}

TEST(Budgets, PatienceAndMinutesEndARunEarly) {
    const TemporaryDirectory directory;
    // A rate with which nothing settles.
    const Plan plan =
        written(directory, small_plan(30, "patience = 3\noptimiser = { learning_rate = 2.0 }", "[1]"));
    train_study(plan, directory / "ledger", {}, {.selection = {.only = {"new head"}}});
    const RunRecord run = runs_in(directory / "ledger")[0];
    EXPECT_EQ(run.state, RunState::finished);
    EXPECT_LT(run.epochs, 30);
    EXPECT_EQ(run.epochs, run.best->epoch + 3);
    const Plan brief = written(directory, small_plan(30, "minutes = 1e-6", "[1]"));
    train_study(brief, directory / "brief");
    for (const RunRecord& r : runs_in(directory / "brief")) {
        EXPECT_EQ(r.epochs, 1);
        EXPECT_EQ(r.state, RunState::finished);
    }
    EXPECT_EQ(train_study(brief, directory / "brief").already_finished, 3);
}

TEST(Folds, EachIsValidationOnceAndTheChoiceSeesThemTogether) {
    const TemporaryDirectory directory;
    std::string text = small_plan(2, "", "[1, 2]");
    text.replace(text.find("parts = {"), text.find('\n', text.find("parts = {")) - text.find("parts = {"),
                 "parts = { folds = 3, fold = \"each\", test = 0.25 }");
    const Plan plan = written(directory, text);
    const PlanCheck check = check_plan(*gather_materials(plan));
    EXPECT_EQ(check.runs, 18);
    const StudySummary summary = train_study(plan, directory / "ledger");
    EXPECT_EQ(summary.trained, 18);
    const Ledger ledger = Ledger::open(directory / "ledger");
    std::map<std::string, std::set<std::string>> seen;
    for (const RunRecord& run : ledger.runs(summary.study)) {
        EXPECT_EQ(run.name(), fmt::format("{}/{}/{}", run.candidate, run.seed, run.fold));
        const auto validated = ledger.predictions(run.id, Part::validation);
        EXPECT_EQ(static_cast<std::int64_t>(validated.size()), run.best->validation.total());
        std::set<std::string> training;
        for (const ItemRecord& item : ledger.items(run.id, Part::training)) training.insert(item.id);
        for (const PredictionRecord& p : validated) {
            EXPECT_FALSE(training.contains(p.item));
            EXPECT_TRUE(seen[fmt::format("{}/{}", run.candidate, run.seed)].insert(p.item).second) << p.item;
        }
        EXPECT_EQ(ledger.items(run.id, Part::test).size(), 9U);
    }
    for (const auto& [run, items] : seen) EXPECT_EQ(items.size(), 27U) << run;
    const Choice choice = choose(ledger, ledger.study());
    EXPECT_EQ(choice.ranking[0].runs, 6);
    ASSERT_TRUE(choice.ranking[1].behind);
    EXPECT_EQ(choice.ranking[1].behind->rule, LeadRule::folds);
    EXPECT_EQ(choice.ranking[1].behind->seeds, 6);  // runs of each
    EXPECT_EQ(train_study(plan, directory / "ledger").already_finished, 18);
}

TEST(RedrawnTrainingParts, AreAnotherSampleForEachSeedAndTheSameForAllCandidates) {
    const TemporaryDirectory directory;
    std::string text = small_plan(1, "", "[1, 2]");
    text.replace(text.find("[training]\n"), 11, "[training]\nredraw_training_part = true\n");
    const Plan plan = written(directory, text);
    const auto materials = gather_materials(plan);
    const auto part = [&](std::size_t candidate, std::uint64_t seed) {
        return materials->data_for(plan.candidates[candidate], 0, seed).parts.training;
    };
    const std::vector<std::size_t> whole = materials->data_for(plan.candidates[0]).parts.training;
    EXPECT_EQ(part(0, 1).size(), whole.size());
    EXPECT_NE(part(0, 1), part(0, 2));
    EXPECT_NE(part(0, 1), whole);
    EXPECT_EQ(part(0, 1), part(1, 1));
    for (const std::size_t item : part(0, 1))
        EXPECT_TRUE(std::binary_search(whole.begin(), whole.end(), item));
    // As many of each class as there are.
    const auto& labels = materials->data.labels;
    const auto of_class = [&](const std::vector<std::size_t>& items, std::size_t label) {
        return std::count_if(items.begin(), items.end(), [&](std::size_t i) { return labels[i] == label; });
    };
    for (std::size_t label = 0; label < 3; ++label)
        EXPECT_EQ(of_class(part(0, 1), label), of_class(whole, label));
    // Every regime trains on it, and the choice knows.
    const StudySummary summary = train_study(plan, directory / "ledger");
    EXPECT_EQ(summary.trained, static_cast<std::int64_t>(2 * plan.candidates.size()));
    const Ledger ledger = Ledger::open(directory / "ledger");
    EXPECT_TRUE(choose(ledger, ledger.study()).redraws_training);
}

TEST(Fractions, OfTheTrainingPartAreNestedAndValidatedOnTheSameItems) {
    const TemporaryDirectory directory;
    std::string text = small_plan(1, "", "[1]");
    text.replace(text.find("regime = \"scratch\"\n"), 19,
                 "regime = \"scratch\"\nvary.training.training_fraction = [0.34, 0.67, 1.0]\n");
    const Plan plan = written(directory, text);
    const auto materials = gather_materials(plan);
    std::vector<std::size_t> before;
    for (std::size_t i = 0; i < 3; ++i) {
        const TrainingData data = materials->data_for(plan.candidates[i]);
        EXPECT_EQ(data.parts.training.size(), 6 * (i + 1));
        EXPECT_EQ(data.parts.validation, materials->parts.validation);
        EXPECT_TRUE(std::includes(data.parts.training.begin(), data.parts.training.end(), before.begin(),
                                  before.end()));
        before = data.parts.training;
        // What is scaled by the training part is scaled by what is used of it, however often it is asked for.
        for (int asked = 0; asked < 2; ++asked)
            EXPECT_EQ(materials->scaling_for(plan.candidates[i]).mean,
                      materials->images->scaling_of(data.parts.training).mean);
    }
    EXPECT_EQ(train_study(plan, directory / "ledger").trained, 5);
}

TEST(Showing, ThePlanOfARunRepeatsItToTheByte) {
    const TemporaryDirectory directory;
    std::string text = small_plan(2, "ema_decay = 0.8\naugment = \"light\"", "[1, 2]");
    text += "vary.training.optimiser.learning_rate = [0.01, 0.02]\n";
    train_study(written(directory, text), directory / "ledger");
    const Ledger ledger = Ledger::open(directory / "ledger");
    for (const char* name : {"from scratch/2", "last stage: learning_rate 0.02/1"}) {
        const RunRecord run = ledger.run(StudyId{1}, name);
        const Plan again = parse_plan(ledger.plan(run.id), directory / "again.toml");
        const auto other = directory / fmt::format("again {}", run.id.number);
        EXPECT_EQ(train_study(again, other).trained, 1);
        const Ledger repeated = Ledger::open(other);
        EXPECT_EQ(runs_in(other)[0].name(), name);
        EXPECT_EQ(repeated.settings(RunId{1}), ledger.settings(run.id));
        const auto weights = [](const std::string& model) { return model.substr(0, model.find("jevrin.")); };
        EXPECT_EQ(weights(read_text(repeated.model_file(RunId{1}))),
                  weights(read_text(ledger.model_file(run.id))));
        const auto environment = parse_json(ledger.environment(run.id));
        EXPECT_EQ(environment["jevrin"], load_classifier(ledger.model_file(run.id)).provenance.at("version"));
        EXPECT_EQ(environment["arithmetic"], arithmetic_version);
        EXPECT_TRUE(environment["libraries"].contains("libpng"));
        EXPECT_FALSE(environment["processor"].get<std::string>().empty());
    }
}

TEST(Warnings, ReachTheLedgerAndTheCaller) {
    const TemporaryDirectory directory;
    const Plan plan = written(directory, small_plan(4, "optimiser = { learning_rate = 1e-9 }", "[1]"));
    std::vector<std::string> heard;
    StudyCallbacks callbacks;
    callbacks.run_warning = [&](const RunRecord& run, const std::string& message) {
        heard.push_back(run.name() + ": " + message);
    };
    train_study(plan, directory / "ledger", callbacks, {.selection = {.only = {"from scratch"}}});
    EXPECT_THAT(heard, testing::Contains(HasSubstr("from scratch/1: nothing has been learned")));
    const auto kept = Ledger::open(directory / "ledger").warnings(RunId{1});
    ASSERT_EQ(kept.size(), heard.size());
    EXPECT_EQ(kept.back().epoch, 3);
}

TEST(Warnings, ABestRateAtTheEdgeOfItsGridIsNamed) {
    const TemporaryDirectory directory;
    std::string text = small_plan(8, "", "[1]");
    text.replace(text.find("[backbone]"), 10, "[backbone]");
    text += "vary.training.optimiser.learning_rate = [1e-9, 1e-8, 0.05]\n";
    const Plan plan = written(directory, text);
    const StudySummary summary =
        train_study(plan, directory / "ledger", {}, {.selection = {.only = {"last stage"}}});
    const auto said = study_warnings(Ledger::open(directory / "ledger"), summary.study, plan);
    ASSERT_EQ(said.size(), 1U);
    EXPECT_THAT(said[0],
                testing::AllOf(HasSubstr("'last stage' is 0.05, the highest"), HasSubstr("higher ones")));
}

TEST(ClassWeights, OfUnknownClassesAreRefusedBeforeAnything) {
    const TemporaryDirectory directory;
    const Plan plan = written(directory, small_plan(1, "loss = { class_weights = { acros = 2.0 } }", "[1]"));
    EXPECT_THAT(message_of<InputError>([&] { train_study(plan, directory / "ledger"); }),
                testing::AllOf(HasSubstr("plan.toml:"), HasSubstr("did you mean 'across'")));
    EXPECT_FALSE(std::filesystem::exists(directory / "ledger"));
}

TEST(Clocks, SetBackChangeNothing) {
    // Claims are locks and places in the order of use are counted: no decision reads the time of day.
    const TemporaryDirectory directory;
    const Plan plan = written(directory, small_plan(1, "", "[1]"));
    train_study(plan, directory / "ledger", {}, {.selection = {.only = {"new head"}}});
    for (const auto& entry : std::filesystem::recursive_directory_iterator(directory / "ledger"))
        std::filesystem::last_write_time(
            entry.path(), std::filesystem::file_time_type::clock::now() + std::chrono::hours(9999));
    const StudySummary rest = train_study(plan, directory / "ledger");
    EXPECT_EQ(rest.already_finished, 1);
    EXPECT_EQ(rest.trained, 2);
}

}  // namespace
}  // namespace jevrin
