// The execution of one run by itself: trained, stopped in the middle and taken up again, without a scheduler.
#include "jevrin/study/run_execution.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/study/ledger_run_keeper.hpp"

namespace jevrin {
namespace {

using test::small_plan;
using test::TemporaryDirectory;
using test::write_small_study;

class Execution : public testing::Test {
  protected:
    Execution()
        : plan_(read_plan(write_small_study(directory_.path(), small_plan(3, "", "[1]")))),
          materials_(gather_materials(plan_)),
          runs_(plan_runs(*materials_)) {}

    RunRecord put(LedgerWriter& writer) {
        const StudyId study = writer.put_study("small", plan_.metric, materials_->set, materials_->parts);
        return writer.ledger().run_by_id(writer.put_run(study, runs_.front().identity));
    }
    RunRecord carry_out(LedgerWriter& writer, const RunRecord& run, const RunEvents& events = {}) {
        std::optional<PlaceLock> claim = writer.claim(run.id);
        LedgerRunKeeper keeper(writer, claim.value(), run.id,
                               item_ids(*materials_, validation_items(*materials_, runs_.front())));
        return RunExecution(keeper, *materials_, runs_.front(), {}, events).carry_out();
    }

    TemporaryDirectory directory_;
    Plan plan_;
    std::shared_ptr<const Materials> materials_;
    std::vector<PlannedRun> runs_;
};

TEST_F(Execution, RecordsEachEpochAndTellsOfIt) {
    LedgerWriter writer = LedgerWriter::open(directory_ / "ledger");
    std::vector<std::int64_t> told;
    RunEvents events;
    events.epoch_finished = [&](const RunRecord& run, const EpochNote& note) {
        EXPECT_EQ(run.epochs, note.epoch.epoch);
        told.push_back(note.epoch.epoch);
    };
    const RunRecord run = put(writer);
    carry_out(writer, run, events);
    EXPECT_THAT(told, testing::ElementsAre(1, 2, 3));
    const RunRecord finished = writer.ledger().run_by_id(run.id);
    EXPECT_EQ(finished.state, RunState::finished);
    EXPECT_EQ(writer.ledger().curve(run.id).size(), 3U);
    EXPECT_TRUE(std::filesystem::exists(writer.ledger().model_file(run.id)));
    EXPECT_FALSE(std::filesystem::exists(writer.ledger().checkpoint_file(run.id)));
}

TEST_F(Execution, StoppedAndTakenUpAgainEndsWithTheSameBits) {
    LedgerWriter whole = LedgerWriter::open(directory_ / "whole");
    carry_out(whole, put(whole));
    LedgerWriter writer = LedgerWriter::open(directory_ / "stopped");
    const RunRecord run = put(writer);
    int batches = 0;
    RunEvents events;
    events.stop_requested = [&] { return ++batches == 4; };
    EXPECT_THROW(carry_out(writer, run, events), Interrupted);
    EXPECT_EQ(writer.ledger().run_by_id(run.id).state, RunState::training);
    std::int64_t resumed = -1;
    events.stop_requested = {};
    events.started = [&](const RunRecord&, std::int64_t after) { resumed = after; };
    carry_out(writer, writer.ledger().run_by_id(run.id), events);
    EXPECT_GE(resumed, 0);
    EXPECT_EQ(test::story(directory_ / "stopped"), test::story(directory_ / "whole"));
}

}  // namespace
}  // namespace jevrin
