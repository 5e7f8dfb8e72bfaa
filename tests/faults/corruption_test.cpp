// Single changed bytes, anywhere in what a ledger keeps: an error in words, or nothing different.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/training_state.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <cstdlib>

namespace jevrin {
namespace {

using test::TemporaryDirectory;

namespace fs = std::filesystem;

int times(int otherwise) {
    const char* stated = std::getenv("JEVRIN_SWEEP");
    return stated == nullptr ? otherwise : std::atoi(stated);
}

class Corruption : public testing::Test {
  protected:
    Corruption() {
        test::write_small_study(directory_.path(), test::small_plan(2, "", "[1]"));
        train_study(read_plan(directory_ / "plan.toml"), ledger());
        predict_part(ledger(), "", "new head/1", Part::test);
        LedgerWriter writer = LedgerWriter::open(ledger());
        const StudyId study = writer.ledger().study().id;
        writer.put_mark(
            study,
            {.item = writer.ledger().items(study).front().id, .label = "both", .note = "odd", .marked = {}});
    }
    fs::path ledger() const { return directory_ / "ledger"; }

    // What commands would show.
    std::string told() const {
        std::string text = test::story(ledger());
        const Ledger read = Ledger::open(ledger());
        const StudyRecord study = read.study();
        text += study.name + name_of(study.metric) + std::to_string(study.test_looks);
        for (const std::string& name : study.classes) text += name;
        for (const RunRecord& run : read.runs(study.id)) {
            text += fmt::format("{} {} {} {}", run.parameters, run.best->epoch, run.planned_epochs,
                                read.image_fingerprint(run.id));
            for (const Part part : all_parts)
                for (const ItemRecord& item : read.items(run.id, part))
                    text += fmt::format("{}{}", item.id, item.label);
            for (const OutcomeRecord& outcome : read.outcomes(run.id, Part::validation))
                text += fmt::format("{}{}", outcome.label, outcome.predicted);
            for (const PredictionRecord& prediction : read.predictions(run.id, Part::test))
                text +=
                    fmt::format("{}{}{}", prediction.item, prediction.predicted, prediction.probabilities[0]);
            text += std::to_string(load_model(read, run).classes.size());
        }
        for (const MarkRecord& mark : read.marks(study.id)) text += mark.item + mark.label + mark.note;
        for (const TestLook& look : read.test_looks(study.id)) text += look.run + look.looked;
        return text;
    }

    // One byte of the file is another at each time; ask() must throw an Error or say what it said before.
    int silent_changes(const fs::path& file, int count, const std::function<std::string()>& ask) const {
        const std::string whole = read_text(file);
        const std::string before = ask();
        int silent = 0;
        for (int k = 0; k < count; ++k) {
            RandomStream random({7, Purpose::sample, 0, static_cast<std::uint64_t>(k)});
            std::string changed = whole;
            const std::size_t at = random.below(static_cast<std::uint32_t>(whole.size()));
            changed[at] = static_cast<char>(changed[at] ^ (1 << random.below(8)));
            write_file(file, changed);
            try {
                if (ask() != before) {
                    ++silent;
                    ADD_FAILURE() << file << " differs in silence at byte " << at;
                }
            } catch (const Error&) {
            }
        }
        write_file(file, whole);
        return silent;
    }

    TemporaryDirectory directory_;
};

TEST_F(Corruption, OfTheDatabaseChangesNoNumberInSilence) {
    // All in one file, as after every command.
    SQLite::Database(ledger() / "ledger.db", SQLite::OPEN_READWRITE).exec("PRAGMA wal_checkpoint(TRUNCATE)");
    EXPECT_EQ(silent_changes(ledger() / "ledger.db", times(150), [&] { return told(); }), 0);
}

TEST_F(Corruption, OfAModelIsFoundByItsLedgerAndByTheFileItself) {
    const Ledger read = Ledger::open(ledger());
    const RunRecord run = read.run(read.study().id, "last stage/1");
    const fs::path file = read.model_file(run.id);
    const auto answer = [&](const Classifier& classifier) {
        return test::random_tensor({3}, 1).values().size() + classifier.network.nodes.size() > 0
                   ? fmt::format(
                         "{}", fmt::join(classify(classifier,
                                                  std::vector(1, std::vector<std::uint8_t>(16 * 16 * 3, 90))),
                                         ","))
                   : "";
    };
    EXPECT_EQ(silent_changes(file, times(100), [&] { return answer(load_model(read, run)); }), 0);
    // Exported, without a ledger beside it.
    EXPECT_EQ(silent_changes(file, times(100), [&] { return answer(load_classifier(file)); }), 0);
    // The model of another run in its place.
    const RunRecord other = read.run(read.study().id, "new head/1");
    write_file(file, read_text(read.model_file(other.id)));
    EXPECT_THAT(test::message_of<InputError>([&] { load_model(read, run); }),
                testing::HasSubstr("not the model that was recorded for its run"));
    fs::remove(file);
    EXPECT_THAT(test::message_of<InputError>([&] { load_model(read, run); }), testing::HasSubstr("missing"));
}

TEST_F(Corruption, OfACheckpointIsFound) {
    const fs::path file = directory_ / "run.checkpoint";
    TrainingState state{.epochs_done = 2, .steps_done = 9};
    state.parameters.push_back(test::random_tensor({5, 7}, 3));
    state.owner = "somebody 1";
    write_checkpoint(file, state);
    EXPECT_EQ(silent_changes(file, times(200),
                             [&] {
                                 const TrainingState read = read_checkpoint(file);
                                 return fmt::format("{} {} {}", read.epochs_done, read.owner,
                                                    fmt::join(read.parameters[0].values(), ","));
                             }),
              0);
}

}  // namespace
}  // namespace jevrin
