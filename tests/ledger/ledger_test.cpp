#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/images/parts.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <unistd.h>

#include <atomic>
#include <thread>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::UnorderedElementsAre;

class LedgerTest : public testing::Test {
  protected:
    LedgerTest() {
        test::write_small_set(directory_ / "images", {"a", "b"}, 8);
        set_ = read_image_set({.from = directory_ / "images"});
        parts_ = split_into_parts(set_, {.training = 0.5, .validation = 0.25, .test = 0.25, .seed = 1});
    }
    std::filesystem::path file() const { return directory_ / "ledger"; }
    static RecordedEpoch epoch(std::int64_t number, std::int64_t correct) {
        RecordedEpoch e{{.epoch = number,
                         .training_loss = 1.5,
                         .validation_loss = 0.5 / static_cast<double>(number),
                         .learning_rate = 0.1,
                         .seconds = 2.0},
                        ConfusionMatrix(2)};
        e.validation.add(0, 0, correct);
        e.validation.add(1, 0, 4 - correct);
        return e;
    }
    static RunIdentity identity(std::int64_t seed, const std::string& settings = "{}") {
        return {.candidate = "c",
                .regime = Regime::scratch,
                .seed = seed,
                .settings = settings,
                .planned_epochs = 3,
                .parameters = 10,
                .trainable_parameters = 4};
    }
    std::vector<PredictionRecord> predictions() const {
        std::vector<PredictionRecord> records;
        for (const std::size_t item : parts_.validation)
            records.push_back({set_.items[item].id, set_.items[item].label, 1, {0.25F, 0.75F}});
        return records;
    }

    TemporaryDirectory directory_;
    ImageSet set_;
    Parts parts_;
};

TEST(Scores, OfTrainingAreThoseOfTheMetric) {
    EpochRecord epoch{.step = 7, .training_scores = {0.9, 0.7, 0.6}, .validation_scores = {0.8, 0.5, 0.4}};
    EXPECT_EQ(training_score(epoch, Metric::accuracy), 0.9);
    EXPECT_EQ(training_score(epoch, Metric::balanced_accuracy), 0.7);
    EXPECT_EQ(training_score(epoch, Metric::macro_f1), 0.6);
    // Without the matrix, what was recorded beside it.
    EXPECT_EQ(validation_score(epoch, Metric::accuracy), 0.8);
    EXPECT_EQ(validation_score(epoch, Metric::balanced_accuracy), 0.5);
    EXPECT_EQ(validation_score(epoch, Metric::macro_f1), 0.4);
    // Early ledgers kept nothing else of training.
    epoch.step = 0;
    EXPECT_EQ(training_score(epoch, Metric::macro_f1), 0.9);
}

TEST_F(LedgerTest, ImageSetsHaveVersionsAndDivisionsAreFoundAgain) {
    LedgerWriter ledger = LedgerWriter::open(file());
    const PartsSettings settings;
    const auto study = ledger.put_study("s", Metric::accuracy, set_, parts_, settings.key());
    const auto first = ledger.put_run(study, identity(1));
    EXPECT_EQ(ledger.ledger().study().image_set_version, 1);
    const KnownPlaces known = ledger.ledger().known_places(settings.key());
    EXPECT_EQ(known.size(), set_.items.size());
    for (const Part part : all_parts)
        for (const std::size_t item : parts_.of(part))
            EXPECT_EQ(known.at(set_.items[item].content).part, part);
    EXPECT_TRUE(ledger.ledger().known_places("other").empty());

    write_file(directory_.path() / "images" / "a" / "new.png", encode_png(test::small_picture(0, 99)));
    const ImageSet larger = read_image_set({.from = directory_ / "images"});
    ledger.put_study("s", Metric::accuracy, larger, split_into_parts(larger, settings, known),
                     settings.key());
    const auto second = ledger.put_run(study, identity(2));
    EXPECT_EQ(ledger.ledger().study().image_set_version, 2);
    EXPECT_EQ(ledger.ledger().run_by_id(first).image_set_version, 1);
    EXPECT_EQ(ledger.ledger().run_by_id(second).image_set_version, 2);
    EXPECT_EQ(ledger.ledger().known_places(settings.key()).size(), larger.items.size());
    // Reading the same set again is no new version.
    ledger.put_study("t", Metric::accuracy, larger, split_into_parts(larger, settings, known),
                     settings.key());
    EXPECT_EQ(ledger.ledger().study().image_set_version, 2);
}

TEST_F(LedgerTest, FoldsAreKnownWhicheverIsValidation) {
    LedgerWriter ledger = LedgerWriter::open(file());
    PartsSettings settings{.by = PartsBy::folds, .test = 0.25, .folds = 3, .fold = 2};
    const Parts parts = split_into_parts(set_, settings);
    ledger.put_study("s", Metric::accuracy, set_, parts, settings.key());
    settings.fold = 3;
    const Parts other = split_into_parts(set_, settings, ledger.ledger().known_places(settings.key()));
    EXPECT_EQ(other.folds, parts.folds);
    EXPECT_NE(other.validation, parts.validation);
}

TEST_F(LedgerTest, WhatIsWrittenIsRead) {
    LedgerWriter ledger = LedgerWriter::open(file());
    const StudyId study = ledger.put_study("s", Metric::macro_f1, set_, parts_);
    const RunId run = ledger.put_run(study, identity(3));
    ledger.record_epoch(run, epoch(1, 2), true);
    ledger.record_epoch(run, epoch(2, 1), false);
    ledger.finish_run(run, predictions());

    const Ledger reader = Ledger::open(file());
    const StudyRecord read = reader.study();
    EXPECT_EQ(read.name, "s");
    EXPECT_EQ(read.metric, Metric::macro_f1);
    EXPECT_THAT(read.classes, testing::ElementsAre("a", "b"));
    const RunRecord record = reader.run(read.id, "c/3");
    EXPECT_EQ(record.state, RunState::finished);
    EXPECT_EQ(record.epochs, 2);
    EXPECT_EQ(record.best->epoch, 1);
    EXPECT_DOUBLE_EQ(record.seconds, 4.0);
    const auto epochs = reader.epochs(run);
    ASSERT_EQ(epochs.size(), 2U);
    EXPECT_EQ(epochs[1].validation.at(1, 0), 3);
    EXPECT_EQ(epochs[1].validation.total(), 4);
    const auto predicted = reader.predictions(run, Part::validation);
    ASSERT_EQ(predicted.size(), parts_.validation.size());
    EXPECT_EQ(predicted[0].probabilities, (std::vector<float>{0.25F, 0.75F}));
    EXPECT_EQ(reader.items(run, Part::test).size(), parts_.test.size());
    EXPECT_TRUE(reader.predictions(run, Part::test).empty());
}

TEST_F(LedgerTest, AnEpochIsRecordedWholeOrNotAtAll) {
    LedgerWriter ledger = LedgerWriter::open(file());
    const RunId run = ledger.put_run(ledger.put_study("s", Metric::accuracy, set_, parts_), identity(1));
    ledger.record_epoch(run, epoch(1, 2), true);
    EXPECT_THROW(ledger.record_epoch(run, epoch(1, 3), true), WorkError);  // the same epoch twice
    EXPECT_EQ(ledger.ledger().epochs(run).size(), 1U);
    EXPECT_EQ(ledger.ledger().epochs(run)[0].validation.at(0, 0), 2);
    // Predictions for an item that does not exist undo the whole transaction.
    auto wrong = predictions();
    wrong.back().item = "no such item";
    EXPECT_THROW(ledger.finish_run(run, wrong), WorkError);
    EXPECT_EQ(ledger.ledger().run_by_id(run).state, RunState::training);
    EXPECT_TRUE(ledger.ledger().predictions(run, Part::validation).empty());
}

TEST_F(LedgerTest, OtherSettingsSupersedeAndTheOldOnesComeBack) {
    LedgerWriter ledger = LedgerWriter::open(file());
    const StudyId study = ledger.put_study("s", Metric::accuracy, set_, parts_);
    const RunId first = ledger.put_run(study, identity(1, "{\"epochs\":1}"));
    EXPECT_EQ(ledger.put_run(study, identity(1, "{\"epochs\":1}")), first);
    std::int64_t superseded = 0;
    const RunId second = ledger.put_run(study, identity(1, "{\"epochs\":2}"), &superseded);
    EXPECT_NE(second, first);
    EXPECT_EQ(superseded, 1);
    ASSERT_EQ(ledger.ledger().runs(study).size(), 1U);
    EXPECT_EQ(ledger.ledger().runs(study)[0].id, second);
    EXPECT_EQ(ledger.put_run(study, identity(1, "{\"epochs\":1}")), first);
    EXPECT_EQ(ledger.ledger().runs(study)[0].id, first);
}

TEST_F(LedgerTest, LooksAtTheTestPartAreCounted) {
    LedgerWriter ledger = LedgerWriter::open(file());
    const RunId run = ledger.put_run(ledger.put_study("s", Metric::accuracy, set_, parts_), identity(1));
    EXPECT_EQ(ledger.ledger().study().test_looks, 0);
    ledger.record_test_look(run, {});
    ledger.record_test_look(run, {});
    EXPECT_EQ(ledger.ledger().study().test_looks, 2);
}

TEST_F(LedgerTest, ALookAtImagesIsOneAtThoseOfTheTestPart) {
    for (std::size_t i = 0; i < set_.items.size(); ++i) {
        set_.items[i].content = {.high = 7, .low = i};
        set_.items[i].id = set_.items[i].path + "#" + set_.items[i].content.text();
    }
    const auto content = [&](std::size_t item) { return set_.items[item].content; };
    LedgerWriter writer = LedgerWriter::open(file());
    const StudyId study = writer.put_study("s", Metric::accuracy, set_, parts_);
    writer.put_run(study, identity(1));
    const Ledger ledger = Ledger::open(file());
    const std::vector<std::size_t>& test = parts_.test;
    ASSERT_EQ(test.size(), 4U);
    EXPECT_EQ(ledger.test_images(), std::set<ContentHash>({content(test[0]), content(test[1]),
                                                           content(test[2]), content(test[3])}));
    EXPECT_THAT(ledger.looked_at(), IsEmpty());
    // Twice the same image, one of training, and one that no set has.
    const std::vector<ContentHash> seen = {content(test[1]),
                                           content(test[1]),
                                           content(test[3]),
                                           content(parts_.training[0]),
                                           {.high = 8, .low = 8}};
    writer.record_look("classify", seen);
    ASSERT_EQ(ledger.test_looks(study).size(), 1U);
    EXPECT_EQ(ledger.test_looks(study)[0].items, 2);
    EXPECT_EQ(ledger.test_looks(study)[0].what, "classify");
    EXPECT_THAT(ledger.looked_at(), UnorderedElementsAre(seen[0], seen[2], seen[3], seen[4]));
    // None of the test part: no look at it.
    writer.record_look("features", {content(parts_.validation[0])});
    EXPECT_EQ(ledger.test_looks(study).size(), 1U);
    EXPECT_EQ(ledger.looked_at().size(), 5U);
}

TEST_F(LedgerTest, StudiesAndRunsAreFoundByNameOrHelped) {
    LedgerWriter ledger = LedgerWriter::open(file());
    EXPECT_THAT(message_of<InputError>([&] { ledger.ledger().study(); }),
                HasSubstr("no study has been trained"));
    const StudyId first = ledger.put_study("tiles", Metric::accuracy, set_, parts_);
    ledger.put_study("others", Metric::accuracy, set_, parts_);
    EXPECT_EQ(ledger.ledger().study().name, "others");
    ledger.put_study("tiles", Metric::accuracy, set_, parts_);
    EXPECT_EQ(ledger.ledger().study().name, "tiles");
    EXPECT_THAT(message_of<InputError>([&] { ledger.ledger().study("tile"); }),
                HasSubstr("did you mean 'tiles'"));
    ledger.put_run(first, identity(1));
    EXPECT_THAT(message_of<InputError>([&] { ledger.ledger().run(first, "c/2"); }),
                HasSubstr("did you mean 'c/1'"));
    EXPECT_THAT(message_of<InputError>([&] { ledger.ledger().study("x'; DROP TABLE runs; --"); }),
                HasSubstr("no study is called"));
    EXPECT_EQ(ledger.ledger().runs(first).size(), 1U);
}

TEST_F(LedgerTest, AReaderSeesEachEpochAsSoonAsItIsFinished) {
    LedgerWriter writer = LedgerWriter::open(file());
    const StudyId study = writer.put_study("s", Metric::accuracy, set_, parts_);
    const RunId run = writer.put_run(study, identity(1));
    const Ledger reader = Ledger::open(file());
    EXPECT_EQ(reader.run(study, "c/1").state, RunState::waiting);
    for (std::int64_t number = 1; number <= 3; ++number) {
        writer.record_epoch(run, epoch(number, number), number == 2);
        EXPECT_EQ(static_cast<std::int64_t>(reader.epochs(run).size()), number);
    }
    EXPECT_EQ(reader.run(study, "c/1").state, RunState::training);
    EXPECT_EQ(reader.run(study, "c/1").best->epoch, 2);
    writer.restart_run(run);
    EXPECT_TRUE(reader.epochs(run).empty());
    EXPECT_FALSE(reader.run(study, "c/1").best.has_value());
    writer.fail_run(run, "it diverged");
    EXPECT_EQ(reader.run(study, "c/1").reason, "it diverged");
}

// Each reading is of one commit, whatever is written between its statements.
TEST_F(LedgerTest, AReaderBesideAWriterNeverCallsTheLedgerDamaged) {
    LedgerWriter writer = LedgerWriter::open(file());
    const StudyId study = writer.put_study("s", Metric::accuracy, set_, parts_);
    const RunId first = writer.put_run(study, identity(1));
    constexpr std::int64_t runs = 300;
    std::atomic<bool> written = false;
    std::jthread writing([&] {
        for (std::int64_t seed = 2; seed <= runs; ++seed) {
            writer.put_run(study, identity(seed));
            writer.record_test_look(first, {});
        }
        written = true;
    });
    const Ledger reader = Ledger::open(file());
    std::size_t seen = 0;
    while (!written) {
        const std::size_t listed = reader.run_stamps(study).size();
        EXPECT_GE(listed, seen);
        EXPECT_GE(reader.runs(study).size(), listed);
        EXPECT_LE(reader.study().test_looks, runs);
        seen = listed;
    }
    EXPECT_EQ(reader.runs(study).size(), static_cast<std::size_t>(runs));
}

TEST_F(LedgerTest, WhatIsNoLedgerIsRefused) {
    EXPECT_THAT(message_of<InputError>([&] { Ledger::open(directory_ / "none"); }),
                HasSubstr("there is no ledger here"));
    make_directory(directory_ / "text");
    write_file(directory_.path() / "text" / "ledger.db", std::string(5000, 'x'));
    EXPECT_THAT(message_of<InputError>([&] { Ledger::open(directory_ / "text"); }),
                HasSubstr("damaged or not a database"));
    LedgerWriter::open(file());
    SQLite::Database(file() / "ledger.db", SQLite::OPEN_READWRITE).exec("PRAGMA user_version = 99");
    EXPECT_THAT(message_of<InputError>([&] { Ledger::open(file()); }), HasSubstr("newer version"));
    EXPECT_THAT(message_of<InputError>([&] { LedgerWriter::open(file()); }), HasSubstr("newer version"));
}

TEST_F(LedgerTest, ATruncatedDatabaseIsRefusedInWords) {
    {
        LedgerWriter ledger = LedgerWriter::open(file());
        ledger.put_study("s", Metric::accuracy, set_, parts_);
    }
    const std::string bytes = read_text(file() / "ledger.db");
    std::filesystem::remove(file() / "ledger.db-wal");
    std::filesystem::remove(file() / "ledger.db-shm");
    write_file(file() / "ledger.db", std::string_view(bytes).substr(0, bytes.size() / 2));
    EXPECT_THROW(Ledger::open(file()).study(), InputError);
}

TEST_F(LedgerTest, WhatDoesNotExistIsAnErrorThatNamesTheFile) {
    LedgerWriter writer = LedgerWriter::open(file());
    writer.put_study("s", Metric::accuracy, set_, parts_);
    const Ledger& ledger = writer.ledger();
    const RunId none{99};
    const std::string expected = (file() / "ledger.db").string() + ": there is no run with the number 99";
    EXPECT_THAT(message_of<InputError>([&] { ledger.run_by_id(none); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { ledger.curve(none); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { ledger.epochs(none); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { ledger.predictions(none, Part::test); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { ledger.items(none, Part::test); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { ledger.settings(none); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { writer.put_note(none, "x"); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { writer.fail_run(none, "x"); }), HasSubstr(expected));
    EXPECT_THAT(message_of<InputError>([&] { ledger.item_id(ItemNumber{999}); }),
                HasSubstr("there is no item with the number 999"));
}

TEST_F(LedgerTest, AnUnknownStateSaysThatTheLedgerIsDamaged) {
    LedgerWriter writer = LedgerWriter::open(file());
    writer.put_run(writer.put_study("s", Metric::accuracy, set_, parts_), identity(1));
    SQLite::Database database((file() / "ledger.db").string(), SQLite::OPEN_READWRITE);
    database.exec("UPDATE runs SET state = 'resting'");
    EXPECT_THAT(message_of<InputError>([&] { writer.ledger().runs(StudyId{1}); }),
                AllOf(HasSubstr("ledger.db: state is 'resting'"), HasSubstr("damaged")));
}

}  // namespace
}  // namespace jevrin
