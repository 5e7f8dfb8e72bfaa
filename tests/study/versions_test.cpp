// Ledgers of every earlier version of the format, each made by the version that wrote it, with the plan it
// was made from: they open, keep their runs, and nothing of them is trained again. tests/ledger/versions/
// holds them; scripts/keep-ledger adds one.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/schema.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/training/classifier.hpp"

#include <sqlite3.h>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

const std::filesystem::path kept = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "tests/ledger/versions";

class LedgerVersion : public testing::TestWithParam<int> {
  protected:
    LedgerVersion() {
        const auto copy = [&](const std::string& from, const std::string& to) {
            std::filesystem::copy(kept / from, directory_ / to, std::filesystem::copy_options::recursive);
        };
        copy("images", "images");
        copy("backbone.onnx", "backbone.onnx");
        copy(GetParam() < 4 ? "plan-1.toml" : "plan-4.toml", "plan.toml");
        copy(std::to_string(GetParam()), "ledger");
    }
    std::filesystem::path ledger() const { return directory_ / "ledger"; }
    Plan plan() const { return read_plan(directory_ / "plan.toml"); }

    TemporaryDirectory directory_;
};

// State, candidate and best score of every run, as the database itself has them.
std::vector<std::string> recorded_runs(const std::filesystem::path& ledger) {
    std::vector<std::string> rows;
    sqlite3* database = nullptr;
    sqlite3_open((ledger / "ledger.db").c_str(), &database);
    sqlite3_exec(
        database,
        "SELECT candidate || '/' || seed || ' ' || state || ' ' || superseded || ' ' || accuracy FROM runs "
        "JOIN epochs "
        "ON run = runs.id AND epoch = best_epoch ORDER BY 1",
        [](void* to, int, char** values, char**) {
            static_cast<std::vector<std::string>*>(to)->emplace_back(values[0]);
            return 0;
        },
        &rows, nullptr);
    sqlite3_close(database);
    return rows;
}

TEST_P(LedgerVersion, KeepsItsRunsAndTrainsNothingAgain) {
    EXPECT_THAT(message_of<InputError>([&] { Ledger::open(ledger()); }), HasSubstr("brings it up to date"));
    const std::vector<std::string> before = recorded_runs(ledger());
    ASSERT_GE(before.size(), 4U);
    const StudySummary summary = train_study(plan(), ledger());
    EXPECT_EQ(summary.trained, 0);
    EXPECT_EQ(summary.superseded, 0);
    EXPECT_EQ(summary.already_finished, static_cast<std::int64_t>(before.size()));
    EXPECT_EQ(recorded_runs(ledger()), before);
    // Nor from a plan that spells out what was left at its default.
    const Plan again = plan();
    const Plan spelled =
        parse_plan(plan_of_run(again, again.candidates[0], 1, 0), directory_ / "spelled.toml");
    EXPECT_EQ(train_study(spelled, ledger()).trained, 0);
    const Ledger reading = Ledger::open(ledger());
    for (const RunRecord& run : reading.runs(reading.study().id)) {
        if (run.candidate != "solved") {
            EXPECT_EQ(run.batch, 4) << run.name();
        }
        EXPECT_EQ(reading.epochs(run.id).back().validation.total(), 6) << run.name();
        EXPECT_EQ(reading.predictions(run.id, Part::validation).size(), 6U) << run.name();
    }
}

TEST_P(LedgerVersion, IsWholeAsSoonAsItIsBroughtUpToDate) {
    LedgerWriter::open(ledger());
    const Ledger reading = Ledger::open(ledger());
    EXPECT_EQ(reading.study().name, plan().name);
    for (const RunRecord& run : reading.runs(reading.study().id)) {
        EXPECT_EQ(reading.epochs(run.id).back().validation.total(), 6) << run.name();
        EXPECT_EQ(reading.predictions(run.id, Part::validation).size(), 6U) << run.name();
    }
}

// Keys and metadata that were renamed since: what older versions wrote under the earlier names.
TEST_P(LedgerVersion, IsReadUnderTheNamesOfToday) {
    train_study(plan(), ledger());
    const Ledger reading = Ledger::open(ledger());
    for (const RunRecord& run : reading.runs(reading.study().id)) {
        const std::string settings = reading.settings(run.id);
        EXPECT_THAT(settings, AllOf(HasSubstr("split_seed"), Not(HasSubstr("division_seed")))) << run.name();
        if (run.candidate == "adam") {
            EXPECT_THAT(settings, AllOf(HasSubstr("gradient_clipping"), HasSubstr("focal_gamma")));
        }
    }
    const Classifier classifier = load_classifier(ledger() / "models" / "run-1.onnx");
    EXPECT_EQ(classifier.out_of_distribution.has_value(), GetParam() >= 5);
}

TEST_P(LedgerVersion, TrainsWhatThePlanChanges) {
    Plan changed = plan();
    changed.candidates.resize(1);
    changed.candidates[0].training.optimiser.momentum = 0.7;
    const StudySummary summary = train_study(changed, ledger());
    EXPECT_EQ(summary.trained, 1);
    EXPECT_EQ(summary.superseded, 1);
}

// Runs as an earlier version may have left them: one whose settings were written in another way took the
// place of a finished one, and was never trained.
class LedgerWithoutIdentities : public LedgerVersion {};
TEST_P(LedgerWithoutIdentities, AFinishedRunTakesItsPlaceBackFromOneThatWasOnlyWrittenOtherwise) {
    sqlite3* database = nullptr;
    sqlite3_open((ledger() / "ledger.db").c_str(), &database);
    const auto execute = [&](const char* sql) {
        EXPECT_EQ(sqlite3_exec(database, sql, nullptr, nullptr, nullptr), SQLITE_OK)
            << sqlite3_errmsg(database);
    };
    execute(
        "CREATE TEMP TABLE twin AS SELECT * FROM runs WHERE id = 1;"
        "UPDATE runs SET superseded = 1 WHERE id = 1;"
        "UPDATE twin SET id = 100, settings = settings || ' ', state = 'waiting', best_epoch = 0;"
        "INSERT INTO runs SELECT * FROM twin;");
    sqlite3_close(database);
    EXPECT_EQ(train_study(plan(), ledger()).trained, 0);
    const Ledger reading = Ledger::open(ledger());
    EXPECT_EQ(reading.run_by_id(RunId{1}).state, RunState::finished);
    for (const RunRecord& run : reading.runs(reading.study().id)) EXPECT_NE(run.id, RunId{100});
}

// Looks at the test part that an earlier version recorded, two of them in one second, stay as many, also in a
// ledger that is merged with a copy of itself.
class LedgerWithLooks : public LedgerVersion {};
TEST_P(LedgerWithLooks, KeepsEachLookAndMergesItOnce) {
    sqlite3* database = nullptr;
    sqlite3_open((ledger() / "ledger.db").c_str(), &database);
    EXPECT_EQ(sqlite3_exec(database,
                           "INSERT INTO test_looks (run, looked) VALUES (1, '2026-01-01T00:00:00Z'), "
                           "(1, '2026-01-01T00:00:00Z'), (2, '2026-01-02T00:00:00Z')",
                           nullptr, nullptr, nullptr),
              SQLITE_OK);
    sqlite3_close(database);
    std::filesystem::copy(ledger(), directory_ / "copy", std::filesystem::copy_options::recursive);
    LedgerWriter ours = LedgerWriter::open(ledger());
    EXPECT_EQ(ours.ledger().study().test_looks, 3);
    ours.merge(LedgerWriter::open(directory_ / "copy").ledger());
    EXPECT_EQ(ours.ledger().study().test_looks, 3);
    EXPECT_EQ(ours.ledger().test_looks(ours.ledger().study().id).front().what, "scores");
}

INSTANTIATE_TEST_SUITE_P(Kept, LedgerWithLooks, testing::Range(1, 10));
INSTANTIATE_TEST_SUITE_P(Kept, LedgerVersion, testing::Range(1, schema_version));
INSTANTIATE_TEST_SUITE_P(Kept, LedgerWithoutIdentities, testing::Range(1, 7));

}  // namespace
}  // namespace jevrin
