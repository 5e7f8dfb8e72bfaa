// Notes, tags, what is archived, deleted, merged and held against another ledger.
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/comparison/ledger_difference.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::ElementsAre;
using testing::HasSubstr;

std::vector<std::string> names_of(const std::vector<RunRecord>& runs) {
    std::vector<std::string> names;
    for (const RunRecord& run : runs) names.push_back(run.name());
    return names;
}

TEST(Upkeep, NotesAndTagsStayWithARun) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 8);
    const RunId run = study.add_run({});
    study.writer().put_note(run, "looks <odd>, 'check' \"it\"");
    study.writer().add_tag(run, "zeta");
    study.writer().add_tag(run, "alpha");
    const RunRecord record = Ledger::open(directory / "ledger").run(study.study().id, "a/1");
    EXPECT_EQ(record.note, "looks <odd>, 'check' \"it\"");
    EXPECT_THAT(record.tags, ElementsAre("alpha", "zeta"));
}

TEST(Upkeep, ArchivedRunsAreOutOfSightAndComeBack) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 8);
    const RunId run = study.add_run({.candidate = "a"});
    study.add_run({.candidate = "b"});
    const StudyId id = study.study().id;
    study.writer().put_archived(run, true);
    EXPECT_THAT(names_of(study.ledger().runs(id)), ElementsAre("b/1"));
    EXPECT_THAT(names_of(study.ledger().archived_runs(id)), ElementsAre("a/1"));
    EXPECT_THAT(study.ledger().candidates(id), ElementsAre("b"));
    EXPECT_TRUE(study.ledger().run(id, "a/1").archived);
    study.writer().put_archived(run, false);
    EXPECT_EQ(study.ledger().runs(id).size(), 2U);
}

TEST(Upkeep, DeletingForgetsAllButLooksAtTheTestPart) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 8);
    const RunId run = study.add_run({.candidate = "a", .epochs = 3});
    const RunId kept = study.add_run({.candidate = "b"});
    LedgerWriter& writer = study.writer();
    const Ledger& ledger = writer;
    const StudyId id = study.study().id;
    for (const auto& file : {ledger.model_file(run), ledger.model_file(run, 2), ledger.checkpoint_file(run),
                             ledger.model_file(kept)})
        write_file(file, std::string("x"));
    writer.record_test_look(run, {});
    writer.add_tag(run, "t");
    writer.delete_run(run);
    EXPECT_THAT(names_of(ledger.runs(id)), ElementsAre("b/1"));
    EXPECT_FALSE(std::filesystem::exists(ledger.model_file(run)));
    EXPECT_FALSE(std::filesystem::exists(ledger.model_file(run, 2)));
    EXPECT_FALSE(std::filesystem::exists(ledger.checkpoint_file(run)));
    EXPECT_TRUE(std::filesystem::exists(ledger.model_file(kept)));
    EXPECT_TRUE(ledger.epochs(run).empty());
    EXPECT_TRUE(ledger.predictions(run, Part::validation).empty());
    EXPECT_EQ(ledger.test_looks(id).size(), 1U);
    EXPECT_EQ(ledger.study().test_looks, 1);
    // Its plan brings it back as a run that is still to be trained.
    EXPECT_EQ(study.add_run({.candidate = "a", .finished = false}), run);
    EXPECT_EQ(ledger.run(id, "a/1").epochs, 1);
}

TEST(Upkeep, ARunInTrainingIsNotDeleted) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 8);
    const RunId run = study.add_run({.finished = false});
    LedgerWriter other = LedgerWriter::open(directory / "ledger");
    const auto claim = other.claim(run);
    ASSERT_TRUE(claim.has_value());
    EXPECT_THAT(message_of<InputError>([&] { study.writer().delete_run(run); }), HasSubstr("being trained"));
    EXPECT_EQ(study.ledger().epochs(run).size(), 1U);
}

TEST(Merging, CopiesWhatIsMissingAndKeepsWhatIsThere) {
    const TemporaryDirectory directory;
    MadeUpStudy ours(directory / "ours", 2, 8);
    MadeUpStudy theirs(directory / "theirs", 2, 8);
    ours.add_run({.candidate = "both", .epochs = 2});
    ours.add_run({.candidate = "begun", .epochs = 1, .finished = false});
    theirs.add_run({.candidate = "only there", .epochs = 4});
    const RunId both = theirs.add_run({.candidate = "both", .epochs = 2});
    const RunId begun = theirs.add_run({.candidate = "begun", .epochs = 1});
    write_file(theirs.ledger().model_file(begun), std::string("weights"));
    write_file(theirs.ledger().model_file(both), std::string("not copied"));
    theirs.writer().add_tag(both, "there");
    theirs.writer().record_test_look(both, {});
    const MergeSummary summary = ours.writer().merge(Ledger::open(directory / "theirs"));
    EXPECT_EQ(summary.studies, 0);
    EXPECT_EQ(summary.runs, 2);
    EXPECT_EQ(summary.known, 2);
    EXPECT_EQ(summary.differing, 0);
    const StudyId id = ours.study().id;
    const RunRecord copied = ours.ledger().run(id, "only there/1");
    EXPECT_EQ(copied.state, RunState::finished);
    EXPECT_EQ(copied.epochs, 4);
    const auto their_predictions = theirs.ledger().predictions(
        theirs.ledger().run(theirs.study().id, "only there/1").id, Part::validation);
    const auto our_predictions = ours.ledger().predictions(copied.id, Part::validation);
    ASSERT_EQ(our_predictions.size(), their_predictions.size());
    for (std::size_t i = 0; i < our_predictions.size(); ++i) {
        EXPECT_EQ(our_predictions[i].item, their_predictions[i].item);
        EXPECT_EQ(our_predictions[i].predicted, their_predictions[i].predicted);
    }
    const RunRecord finished = ours.ledger().run(id, "begun/1");
    EXPECT_EQ(finished.state, RunState::finished);
    EXPECT_TRUE(std::filesystem::exists(ours.ledger().model_file(finished.id)));
    const RunRecord known = ours.ledger().run(id, "both/1");
    EXPECT_THAT(known.tags, ElementsAre("there"));
    EXPECT_FALSE(std::filesystem::exists(ours.ledger().model_file(known.id)));
    EXPECT_EQ(ours.ledger().test_looks(id).size(), 1U);
    // A second time nothing is left to copy, and nothing is counted twice.
    const MergeSummary again = ours.writer().merge(Ledger::open(directory / "theirs"));
    EXPECT_EQ(again.runs, 0);
    EXPECT_EQ(again.known, 3);
    EXPECT_EQ(ours.ledger().test_looks(id).size(), 1U);
}

TEST(Merging, ANewStudyComesBehindThoseThatAreHere) {
    const TemporaryDirectory directory;
    MadeUpStudy ours(directory / "ours", 2, 8);
    ours.add_run({});
    LedgerWriter other = LedgerWriter::open(directory / "theirs");
    const StudyId study = other.put_study("another", Metric::macro_f1, ours.set(), ours.parts());
    other.put_run(
        study,
        {.candidate = "c", .regime = Regime::frozen, .seed = 4, .settings = "{}", .planned_epochs = 1});
    EXPECT_EQ(ours.writer().merge(other).studies, 1);
    EXPECT_THAT(ours.ledger().study_names(), ElementsAre("made up", "another"));
    EXPECT_EQ(ours.ledger().study("another").metric, Metric::macro_f1);
    EXPECT_THAT(names_of(ours.ledger().runs(ours.ledger().study("another").id)), ElementsAre("c/4"));
    EXPECT_THAT(message_of<InputError>([&] { ours.writer().merge(Ledger::open(directory / "ours")); }),
                HasSubstr("the same ledger"));
}

TEST(Merging, OtherSettingsUnderOneNameStandAsideForOurs) {
    const TemporaryDirectory directory;
    MadeUpStudy ours(directory / "ours", 2, 8);
    MadeUpStudy theirs(directory / "theirs", 2, 8);
    ours.add_run({.settings = R"({"rate": 1})"});
    theirs.add_run({.settings = R"({"rate": 2})", .epochs = 3});
    EXPECT_EQ(ours.writer().merge(theirs.ledger()).runs, 1);
    const std::vector<RunRecord> runs = ours.ledger().runs(ours.study().id);
    ASSERT_EQ(runs.size(), 1U);
    EXPECT_EQ(runs[0].epochs, 1);
    const std::vector<RunPair> pairs = compare_ledgers(ours.ledger(), theirs.ledger());
    ASSERT_EQ(pairs.size(), 1U);
    EXPECT_THAT(pairs[0].differing, ElementsAre("rate"));
}

TEST(Merging, TakesLayersWarningsMarksAndFoldsAlong) {
    const TemporaryDirectory directory;
    MadeUpStudy ours(directory / "ours", 2, 8);
    MadeUpStudy theirs(directory / "theirs", 2, 8);
    ours.add_run({.candidate = "here"});
    LedgerWriter& other = theirs.writer();
    const StudyId study = theirs.study().id;
    const SplitId split = other.put_split(study, theirs.set(), theirs.parts(), "folds");
    const RunId run = other.put_run(study, {.candidate = "folded",
                                            .origin = "family",
                                            .varied = {{"a", "1"}},
                                            .regime = Regime::partial,
                                            .seed = 3,
                                            .fold = 2,
                                            .split = split,
                                            .settings = R"({"fold": 2})",
                                            .planned_epochs = 1,
                                            .parameters = 11,
                                            .trainable_parameters = 7,
                                            .multiplications = 5});
    ConfusionMatrix matrix(2);
    matrix.add(0, 1, 3);
    other.begin_run(run, "name = \"x\"", R"({"cores": 2})");
    other.record_epoch(run, {{.epoch = 1, .step = 4, .validation_loss = 0.5}, matrix}, true,
                       {{.layer = "stem", .weight_norm = 2.5, .dead_fraction = -1.0}}, {"something odd"});
    other.put_note(run, "from the other machine");
    other.put_mark(study, {.item = theirs.set().items[0].id,
                           .label = "class 001",
                           .excluded = false,
                           .note = "n",
                           .marked = {}});
    EXPECT_EQ(ours.writer().merge(other).runs, 1);
    const RunRecord copy = ours.ledger().run(ours.study().id, "folded/3/2");
    EXPECT_EQ(copy.origin, "family");
    ASSERT_EQ(copy.varied.size(), 1U);
    EXPECT_EQ(copy.varied[0].value, "1");
    EXPECT_EQ(copy.regime, Regime::partial);
    EXPECT_EQ(copy.multiplications, 5);
    EXPECT_EQ(copy.note, "from the other machine");
    EXPECT_EQ(copy.best->validation.at(0, 1), 3);
    EXPECT_EQ(ours.ledger().plan(copy.id), "name = \"x\"");
    EXPECT_EQ(ours.ledger().environment(copy.id), R"({"cores": 2})");
    ASSERT_EQ(ours.ledger().layers(copy.id, 1).size(), 1U);
    EXPECT_EQ(ours.ledger().layers(copy.id, 1)[0].weight_norm, 2.5);
    ASSERT_EQ(ours.ledger().warnings(copy.id).size(), 1U);
    EXPECT_EQ(ours.ledger().warnings(copy.id)[0].message, "something odd");
    ASSERT_EQ(ours.ledger().marks(ours.study().id).size(),
              0U);  // marks belong to a place, and theirs is another
    EXPECT_EQ(ours.ledger().items(copy.id, Part::validation).size(), 12U);
}

TEST(Merging, LeavesOursAloneWhereAModelCannotBeCopied) {
    const TemporaryDirectory directory;
    MadeUpStudy ours(directory / "ours", 2, 8);
    MadeUpStudy theirs(directory / "theirs", 2, 8);
    ours.add_run({.candidate = "here"});
    const RunId run = theirs.add_run({.candidate = "there"});
    // A folder in the place of the model: it is no file to copy.
    std::filesystem::create_directories(theirs.ledger().model_file(run) / "x");
    EXPECT_THROW(ours.writer().merge(theirs.ledger()), InputError);
    EXPECT_THAT(names_of(ours.ledger().runs(ours.study().id)), ElementsAre("here/1"));
    std::filesystem::remove_all(theirs.ledger().model_file(run));
    EXPECT_EQ(ours.writer().merge(theirs.ledger()).runs, 1);
}

TEST(Merging, ARunInTrainingHereIsLeftAlone) {
    const TemporaryDirectory directory;
    MadeUpStudy ours(directory / "ours", 2, 8);
    MadeUpStudy theirs(directory / "theirs", 2, 8);
    const RunId run = ours.add_run({.epochs = 2, .finished = false});
    theirs.add_run({.epochs = 2});
    LedgerWriter trainer = LedgerWriter::open(directory / "ours");
    const auto claim = trainer.claim(run);
    EXPECT_EQ(ours.writer().merge(theirs.ledger()).runs, 0);
    EXPECT_EQ(ours.ledger().run_by_id(run).state, RunState::training);
}

TEST(LedgerDifference, NamesWhatOnlyOneHasAndWhatScoresOtherwise) {
    const TemporaryDirectory directory;
    MadeUpStudy first(directory / "first", 2, 8);
    MadeUpStudy second(directory / "second", 2, 8);
    first.add_run({.candidate = "same"});
    second.add_run({.candidate = "same"});
    first.add_run({.candidate = "scores"});
    second.add_run(
        {.candidate = "scores", .predicted = [](std::size_t, std::size_t) { return std::size_t{0}; }});
    first.add_run({.candidate = "first"});
    second.add_run({.candidate = "second"});
    const std::vector<RunPair> pairs = compare_ledgers(first.ledger(), second.ledger());
    ASSERT_EQ(pairs.size(), 4U);
    EXPECT_TRUE(pairs[0].same_settings());
    EXPECT_EQ(pairs[0].first, pairs[0].second);
    EXPECT_TRUE(pairs[1].same_settings());
    EXPECT_EQ(pairs[1].first, 1.0);
    EXPECT_EQ(pairs[1].second, 0.5);
    EXPECT_FALSE(pairs[2].in_second);
    EXPECT_FALSE(pairs[3].in_first);
    EXPECT_EQ(pairs[3].run, "second/1");
}

}  // namespace
}  // namespace jevrin
