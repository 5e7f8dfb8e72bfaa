// Results computed from made-up runs, and their forms: what they say is decided by the runs.
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/results/agreement_result.hpp"
#include "jevrin/results/choice_result.hpp"
#include "jevrin/results/classes_result.hpp"
#include "jevrin/results/confusion_result.hpp"
#include "jevrin/results/curves_result.hpp"
#include "jevrin/results/diagnosis_result.hpp"
#include "jevrin/results/kept_runs_result.hpp"
#include "jevrin/results/marks_result.hpp"
#include "jevrin/results/mistakes_result.hpp"
#include "jevrin/results/recall_result.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/results/scores_result.hpp"
#include "jevrin/results/suspects_result.hpp"
#include "jevrin/results/training_result.hpp"
#include "jevrin/results/training_sizes_result.hpp"

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

// Three classes of eight items, six of each for validation: "good" is always correct, "poor" calls class 002
// class 001.
class MadeUpResults : public testing::Test {
  protected:
    MadeUpResults() {
        for (const std::int64_t seed : {1, 2, 3}) {
            study_.add_run({.candidate = "good",
                            .regime = Regime::frozen,
                            .seed = seed,
                            .settings = R"({"training": {"batch": 16}})",
                            .epochs = 4});
            study_.add_run({.candidate = "poor",
                            .seed = seed,
                            .settings = R"({"training": {"batch": 8}})",
                            .epochs = 4,
                            .predicted = [](std::size_t label, std::size_t) {
                                return label == 2 ? std::size_t{1} : label;
                            }});
        }
    }
    const Ledger& ledger() const { return study_.ledger(); }
    StudyRecord study() const { return study_.study(); }
    RunPredictions predictions(const std::string& run) const {
        return open_predictions(ledger(), study(), {.run = run});
    }

    TemporaryDirectory directory_;
    MadeUpStudy study_{directory_.path(), 3, 8};
};

TEST_F(MadeUpResults, PairsOfAChoiceHaveTheirTests) {
    const std::string text = to_text(report_choice(ledger(), study(), {.pairs = true}), {.width = 140});
    // Six of six items: the exact p is 2 * 0.5^6.
    EXPECT_THAT(text,
                HasSubstr("first  second  verdict  difference                  p  only first correct  only "
                          "second correct  McNemar p\n"
                          "good   poor    better   0.333 (0.092 to 0.575)  0.010                   6  "
                          "                  0      0.031\n"));
    EXPECT_THAT(text, HasSubstr("corrected for 1 comparison); equivalent: they differ by less than 0.010"));
}

TEST_F(MadeUpResults, ClassesListTheWeakestFirst) {
    const ClassesResult result = report_classes(predictions("poor/1"));
    EXPECT_EQ(result.order, (std::vector<std::size_t>{2, 0, 1}));
    EXPECT_THAT(
        to_table(result).csv(),
        testing::StartsWith("class,support,correct,false_positives,false_negatives,precision,recall,f1,roc_"
                            "auc,average_precision\nclass 002,6,0,0,6,"));
    EXPECT_THAT(to_text(result),
                testing::AllOf(HasSubstr("poor/1, validation part, epoch 4: 12 of 18 correct, 6 wrong"),
                               HasSubstr("class 002 predicted as class 001: 6 of 6")));
    const Json json = parse_json(to_json(result));
    EXPECT_EQ(json.at("classes")[0].at("class"), "class 002");
    EXPECT_EQ(json.at("confusions")[0].at("count"), 6);
    const ClassesResult named =
        report_classes(predictions("poor/1"), {.columns = {"recall"}, .sort = "name", .reversed = true});
    EXPECT_EQ(to_table(named).csv(), "class,recall\nclass 002,0.000\nclass 001,1.000\nclass 000,1.000\n");
    EXPECT_THAT(
        message_of<InputError>([&] { report_classes(predictions("poor/1"), {.columns = {"recal"}}); }),
        HasSubstr("did you mean 'recall'?"));
}

TEST_F(MadeUpResults, MistakesAreThoseOfTheCellThatIsAskedFor) {
    const MistakesResult all = report_mistakes(predictions("poor/1"));
    EXPECT_EQ(all.items.size(), 6U);
    EXPECT_EQ(report_mistakes(predictions("poor/1"), {.true_class = "class 000"}).items.size(), 0U);
    const MistakesResult cell =
        report_mistakes(predictions("poor/1"), {.true_class = "class 002", .predicted = "class 001"});
    EXPECT_EQ(cell.items.size(), 6U);
    EXPECT_THAT(to_text(cell, {.rows = 2, .for_all = "more"}),
                testing::AllOf(HasSubstr("6 wrong items of class 002 predicted as class 001"),
                               HasSubstr("... and 4 more (more)")));
    EXPECT_THAT(to_table(cell).csv(), HasSubstr("class 002/0001.png,class 002,class 001,1,0,"));
    ASSERT_EQ(shown_items(cell).size(), 6U);
    EXPECT_EQ(shown_items(cell)[0].lines[0], "1.00 class 001");
    EXPECT_TRUE(shown_items(cell)[0].wrong);
    EXPECT_EQ(parse_json(to_json(cell)).at("mistakes")[0].at("label_probability"), 0.0);
    EXPECT_THAT(
        message_of<InputError>([&] { report_mistakes(predictions("poor/1"), {.predicted = "class 00"}); }),
        HasSubstr("no class is called 'class 00'"));
}

TEST_F(MadeUpResults, ScoresCarryTheirIntervalsAndNoTemperatureWithoutAModel) {
    const ScoresResult result = report_scores(ledger(), predictions("poor/1"));
    const Json json = parse_json(to_json(result));
    EXPECT_NEAR(json.at("scores").at("accuracy").at("value").get<double>(), 12.0 / 18, 1e-12);
    EXPECT_EQ(json.at("scores").at("accuracy").at("interval").size(), 2U);
    EXPECT_TRUE(json.at("temperature").is_null());
    EXPECT_THAT(to_text(result), HasSubstr("18 items are few"));
}

TEST_F(MadeUpResults, ConfusionAddsUpSubtractsAndAverages) {
    const ConfusionResult sum = report_confusion(ledger(), study(), {.runs = {"poor"}});
    EXPECT_EQ(sum.runs.size(), 3U);
    EXPECT_EQ(sum.shown.matrix.at(2, 1), 18);
    EXPECT_THAT(to_table(sum).csv(), HasSubstr("class 002,0,18,0\n"));
    EXPECT_TRUE(parse_json(to_json(sum)).at("run").is_null());
    EXPECT_THAT(sum.title(), HasSubstr("sum of 3 runs"));
    const ConfusionResult shares =
        report_confusion(ledger(), study(), {.runs = {"poor/1"}}, CellValue::of_predicted);
    EXPECT_EQ(parse_json(to_json(shares)).at("fractions")[2][1], 0.5);

    const MatrixDifferenceResult difference = report_difference(ledger(), study(), {"good"}, {"poor"});
    EXPECT_EQ(difference.difference.gains.front().true_class, 2U);
    EXPECT_THAT(to_text(difference), HasSubstr("good (3 runs) minus poor (3 runs)"));
    EXPECT_THAT(to_table(difference).csv(), HasSubstr("class 002,0,-1,1\n"));
    EXPECT_THAT(message_of<InputError>([&] { report_difference(ledger(), study(), {}, {"poor"}); }),
                HasSubstr("2 candidates are named on one side"));

    const MatrixMeanResult mean = report_mean_confusion(ledger(), study(), {.runs = {"good", "poor"}});
    EXPECT_THAT(to_table(mean).csv(), HasSubstr("class 002,0,0.5,0.5\n"));
    EXPECT_EQ(parse_json(to_json(mean)).at("runs").size(), 6U);
}

TEST_F(MadeUpResults, RunsAreFilteredGroupedAndComparedBySettings) {
    const RunsResult frozen =
        report_runs(ledger(), study(), {.conditions = {"regime=frozen"}, .sort = "-seed"});
    ASSERT_EQ(frozen.rows.size(), 3U);
    EXPECT_EQ(frozen.rows[0].run.name(), "good/3");
    const RunsResult all = report_runs(ledger(), study(), {.differing = true});
    EXPECT_EQ(all.differing, std::vector<std::string>{"training.batch"});
    EXPECT_EQ(parse_json(to_json(all))[0].at("settings").at("training.batch"), 16);
    EXPECT_THAT(to_table(all).csv(), HasSubstr("training.batch"));
    const RunGroupsResult groups = group_runs(all, "batch");
    ASSERT_EQ(groups.groups.size(), 2U);
    EXPECT_EQ(parse_json(to_json(groups))[0].at("batch"), "16");
    EXPECT_EQ(parse_json(to_json(groups))[0].at("mean"), 1.0);
    EXPECT_THAT(to_text(groups), HasSubstr("16        3         3     1.000"));
    // Runs that were archived are told of, and shown when they are asked for.
    put_runs_away(ledger(), kept_runs_called(ledger(), study(), {"poor/2"}));
    const RunsResult standing = report_runs(ledger(), study());
    EXPECT_EQ(standing.rows.size(), 5U);
    EXPECT_THAT(to_text(standing, {.for_all = "ask"}), HasSubstr("1 run archived (ask)"));
    EXPECT_EQ(report_runs(ledger(), study(), {.archived = true}).rows.size(), 1U);
    EXPECT_EQ(bring_runs_back(ledger(), kept_runs_called(ledger(), study(), {"poor/2"})).done, "restored");
    EXPECT_EQ(report_runs(ledger(), study()).rows.size(), 6U);
}

TEST_F(MadeUpResults, NotesAndTagsAreKeptAndBadTagsNamed) {
    const auto runs = kept_runs_called(ledger(), study(), {"good"});
    const KeptRunsResult noted = note_runs(ledger(), runs, {.text = "watch this", .add = {"first"}});
    EXPECT_EQ(to_text(noted), "noted: good/1\nnoted: good/2\nnoted: good/3\n");
    EXPECT_EQ(parse_json(to_json(noted))[2].at("note"), "watch this");
    EXPECT_EQ(to_text(KeptRunsResult{.runs = {noted.runs[0]}, .done = {}}),
              "good/1: tags first; watch this\n");
    EXPECT_THAT(message_of<InputError>([&] { note_runs(ledger(), noted.runs, {.remove = {"frist"}}); }),
                HasSubstr("has no tag 'frist' (did you mean 'first'?)"));
    EXPECT_EQ(delete_runs(ledger(), {runs[0]}).done, "deleted");
    EXPECT_EQ(ledger().runs(study().id).size(), 5U);
}

TEST_F(MadeUpResults, MarksAreFoundBeforeAnyIsPut) {
    EXPECT_THROW(mark_items(ledger(), study(), {"class 002/0001.png", "nope.png"}, {}), InputError);
    EXPECT_TRUE(ledger().marks(study().id).empty());
    const MarkingResult marked =
        mark_items(ledger(), study(), {"class 002/0001.png"}, {.label = "class 000", .note = "look"});
    EXPECT_EQ(to_text(marked), "marked: class 002/0001.png (label class 002, proposed class 000)\n");
    const MarksResult marks = report_marks(ledger(), study(), directory_ / "corrections.csv");
    EXPECT_EQ(marks.corrections, 1);
    EXPECT_EQ(parse_json(to_json(marks))[0].at("proposed"), "class 000");
    EXPECT_THAT(to_text(marks), HasSubstr("1 correction written to"));
    EXPECT_THAT(to_json(unmark_items(ledger(), study(), {"class 002/0001.png"})),
                HasSubstr("\"marked\": false"));
    EXPECT_THAT(message_of<InputError>([&] { unmark_items(ledger(), study(), {"class 002/0001.png"}); }),
                HasSubstr("not marked"));
}

TEST_F(MadeUpResults, AgreementSelectsItemsAndProposesMarks) {
    const AgreementResult result = report_agreement(ledger(), study(), {.group = ItemGroup::disputed});
    ASSERT_EQ(result.selected.size(), 6U);
    EXPECT_THAT(result.title(), HasSubstr("made up: 6 items that some runs classify correctly"));
    EXPECT_EQ(parse_json(to_json(result)).at("selected")[0].at("correct_by_regime").at("frozen"), 1.0);
    EXPECT_EQ(report_agreement(ledger(), study(), {.regime = Regime::frozen}).selected.size(), 6U);
    EXPECT_THAT(to_text(result, {.rows = 1}), HasSubstr("... and 5 more\n"));
    ASSERT_EQ(marks_for(result).size(), 6U);
    EXPECT_EQ(put_marks(ledger(), study(), marks_for(result), 2), 2U);
    EXPECT_EQ(ledger().marks(study().id).size(), 2U);
}

TEST_F(MadeUpResults, SuspectsComeFromWhatTheRunsRecorded) {
    const SuspectsResult result = report_suspects(ledger(), study(), {"poor"}, SuspectSource::recorded);
    EXPECT_EQ(parse_json(to_json(result)).at("items"), 18);
    EXPECT_THAT(to_text(result), HasSubstr("what 3 runs predicted"));
    ASSERT_EQ(result.report.suspects.size(), 6U);
    EXPECT_EQ(marks_for(result).size(), 6U);
    EXPECT_EQ(marks_for(result)[0].note, "suspect: 1.00 class 001, 0.00 class 002 (label)");
}

TEST_F(MadeUpResults, RecallsAndTheChoiceAgreeWithTheRuns) {
    const RecallResult recalls = report_recalls(ledger(), study());
    EXPECT_EQ(
        to_table(recalls).csv(),
        "class,items,good,poor\nclass 000,6,1.000,1.000\nclass 001,6,1.000,1.000\nclass 002,6,1.000,0.000\n");
    EXPECT_THAT(to_text(recalls), testing::AllOf(HasSubstr("a good\nb poor\n"), HasSubstr("0.000±0.00")));
    const ChoiceResult choice = report_choice(ledger(), study(), {.cost = Cost::operations, .pairs = true});
    EXPECT_EQ(choice.choice.chosen, "good");
    EXPECT_EQ(parse_json(to_json(choice)).at("pairs").size(), 1U);
    EXPECT_FALSE(parse_json(to_json(report_choice(ledger(), study()))).contains("pairs"));
    EXPECT_THAT(to_table(choice).csv(),
                testing::AllOf(HasSubstr("\ngood,frozen,1,"), HasSubstr("\npoor,scratch,")));
    EXPECT_THAT(to_text(choice), testing::AllOf(HasSubstr("> good"), HasSubstr("operations"),
                                                HasSubstr("the test part has not been looked at")));
}

TEST_F(MadeUpResults, CurvesHaveARowForEachEpochAndOneTableAtAnEpoch) {
    const CurvesResult result = report_curves(ledger(), study(), {"good"});
    EXPECT_EQ(result.view.quantities, (std::vector{CurveQuantity::loss, CurveQuantity::accuracy}));
    EXPECT_EQ(to_table(result).rows(), 12U);
    EXPECT_THAT(to_table(result).csv(), HasSubstr("\ngood/1,good,frozen,1,0,4,40,40,1,0.1,"));
    EXPECT_THAT(to_text(CurvesAtEpoch{.of = result, .epoch = 2}),
                HasSubstr("good/1      2          1.000            1.100"));
    EXPECT_THAT(to_text(CurvesAtEpoch{.of = result, .epoch = 9}), HasSubstr("good/1      -"));
    EXPECT_EQ(parse_json(to_json(result))[0].at("epochs").size(), 4U);
    EXPECT_THAT(to_text(result), HasSubstr("good/1     4/4  1.000      4          0.500            0.550\n"));
    EXPECT_THROW(report_curves(ledger(), study(), {}, {.quantities = std::vector(5, CurveQuantity::loss)}),
                 InputError);
}

TEST_F(MadeUpResults, DiagnosesOfSeedsThatAgreeAreOneText) {
    const DiagnosisResult result = report_diagnoses(ledger(), study());
    const std::string text = to_text(result, {.width = 200});
    EXPECT_THAT(text, HasSubstr("good  all 3 seeds: "));
    EXPECT_THAT(text, HasSubstr("poor  all 3 seeds: "));
    // Seeds that differ are named, and numbers that differ are ranges.
    DiagnosisResult mixed = report_diagnoses(ledger(), study(), {"good"});
    mixed.runs[0].diagnosis.findings = {{Finding::unstable, "unstable: by {} %", {{12.4, 0}}}};
    mixed.runs[2].diagnosis.findings = {{Finding::unstable, "unstable: by {} %", {{17.0, 0}}}};
    EXPECT_THAT(to_text(mixed, {.width = 200}), HasSubstr("seeds 1 and 3: unstable: by 12-17 %\n"));
    EXPECT_THAT(to_text(mixed, {.width = 200}), HasSubstr("seed 2: "));
    for (DiagnosedRun& one : mixed.runs) one.run.fold = one.run.seed;
    EXPECT_THAT(to_text(mixed, {.width = 200}), HasSubstr("runs 1/1 and 3/3: unstable"));
}

TEST_F(MadeUpResults, DiagnosesNameTheCandidateOnceAndWrapTheirText) {
    const DiagnosisResult result = report_diagnoses(ledger(), study(), {"good/1"});
    ASSERT_EQ(result.runs.size(), 1U);
    const Json json = parse_json(to_json(result))[0];
    EXPECT_EQ(json.at("run"), "good/1");
    EXPECT_TRUE(json.at("overfit_since").is_null());
    const std::string text = to_text(result, {.width = 60});
    const std::size_t words = text.find("\n\ngood  seed 1: ");
    ASSERT_NE(words, std::string::npos);
    EXPECT_EQ(text.find("good ", words + 8), std::string::npos);
    // Text that does not fit continues in its column.
    EXPECT_THAT(text.substr(words + 2), HasSubstr("\n      by "));
    for (std::size_t begin = words + 2, end; (end = text.find('\n', begin)) != std::string::npos;
         begin = end + 1)
        EXPECT_LE(end - begin, 60U);
    EXPECT_EQ(to_text(DiagnosisResult{}), "no runs yet\n\n");
}

TEST_F(MadeUpResults, ProgressCountsWhatIsOpenAndTellsNewsOnce) {
    StudyFollower follower(ledger(), study());
    EXPECT_TRUE(follower.news().empty());
    study_.add_run(
        {.candidate = "good", .regime = Regime::frozen, .seed = 9, .epochs = 2, .finished = false});
    const StudyProgress progress = report_progress(ledger(), study());
    EXPECT_EQ(progress.open, 1);
    EXPECT_EQ(progress.in_training, 0);
    ASSERT_TRUE(progress.seconds_left);
    EXPECT_THAT(to_text(progress), HasSubstr("study 'made up': 6 of 7 runs over, 0 in training"));
    EXPECT_EQ(parse_json(to_json(progress)).at("open"), 1);
    const StudyFollower::News news = follower.news();
    EXPECT_EQ(to_json(follower.progress()), to_json(progress));
    ASSERT_EQ(news.changed.size(), 1U);
    ASSERT_EQ(news.epochs.size(), 2U);
    EXPECT_EQ(news.epochs[0].first.name(), "good/9");
    EXPECT_EQ(news.epochs[1].second.epoch, 2);
    EXPECT_TRUE(follower.news().empty());
    // A candidate without an epoch leaves the time open.
    study_.add_run({.candidate = "new", .epochs = 0, .finished = false});
    EXPECT_FALSE(report_progress(ledger(), study()).seconds_left);
}

TEST_F(MadeUpResults, TrainingSizesNeedFractions) {
    EXPECT_THROW(report_training_sizes(ledger(), study()), InputError);
    for (const double fraction : {0.5, 1.0})
        for (const std::int64_t seed : {1, 2, 3})
            study_.add_run({.candidate = fmt::format("part: training_fraction {}", fraction),
                            .seed = seed,
                            .origin = "part",
                            .varied = {{"training.training_fraction", fmt::format("{}", fraction)}},
                            .training_fraction = fraction,
                            .epochs = 4,
                            .predicted = study_.correct_with(fraction == 1.0 ? 0.9 : 0.4, 1)});
    const TrainingSizesResult result = report_training_sizes(ledger(), study());
    ASSERT_EQ(result.report.curves.size(), 1U);
    EXPECT_THAT(
        to_table(result).csv(),
        testing::StartsWith("curve,regime,fraction,training_items,mean,low,high,seeds\npart,scratch,0.5,"));
    EXPECT_EQ(parse_json(to_json(result)).at("curves")[0].at("points").size(), 2U);
    EXPECT_THAT(to_text(result), HasSubstr("training items"));
}

TEST(SeedLooks, AreCountedWhenNothingIsLeftToTrain) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 40);
    const auto add = [&](std::int64_t seed, bool finished) {
        for (const char* name : {"a", "b"})
            study.add_run(
                {.candidate = name,
                 .seed = seed,
                 .finished = finished,
                 .predicted = study.correct_with(0.8, *name + 10 * static_cast<std::uint64_t>(seed))});
    };
    const auto look = [&] { return report_choice(study.ledger(), study.study()); };
    add(1, true);
    add(2, true);
    look();  // two seeds conclude nothing, and spend nothing
    EXPECT_TRUE(study.study().seed_looks.empty());
    add(3, true);
    EXPECT_EQ(look().choice.level, 0.05);
    EXPECT_EQ(study.study().seed_looks, std::vector<std::int64_t>{3});
    EXPECT_EQ(look().choice.level, 0.05);  // the same evidence again
    add(4, false);
    look();  // in the middle of training nobody stops
    EXPECT_EQ(study.study().seed_looks, std::vector<std::int64_t>{3});
    for (const RunRecord& run : study.ledger().runs(study.study().id))
        if (run.state == RunState::training) study.writer().fail_run(run.id, "stopped");
    add(5, true);
    const ChoiceResult later = look();
    EXPECT_EQ(later.choice.level, 0.025);
    EXPECT_EQ(study.study().seed_looks, (std::vector<std::int64_t>{3, 4}));
    EXPECT_THAT(to_text(later), HasSubstr("were compared before, with 3 seeds"));
    EXPECT_EQ(parse_json(to_json(later)).at("level").get<double>(), 0.025);
    // A study that says up to how many seeds it may have spends its level by plan.
    study.writer().put_margin(study.study().id, 0.02, 10);
    const Choice planned = look().choice;
    EXPECT_EQ(planned.margin, 0.02);
    EXPECT_LT(planned.level, 0.05);
    EXPECT_GT(planned.level, 0.0);
}

}  // namespace
}  // namespace jevrin
