// A study on several ranks: the same records as in one process, whatever the ranks lack and whoever goes.
#include "support/support.hpp"
#include "support/thread_ranks.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/study/rank_message.hpp"
#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/study/study_runs.hpp"

#include <fmt/format.h>

#include <atomic>
#include <map>
#include <set>
#include <thread>

namespace jevrin {
namespace {

using test::message_of;
using test::small_plan;
using test::story;
using test::TemporaryDirectory;
using test::ThreadJob;
using test::write_small_study;
using testing::HasSubstr;
using testing::IsEmpty;

// Ranks from 1 on that help, each on a thread of its own and with stores of its own, until they end.
class Helpers {
  public:
    // ranks_of_run: so many train each run together.
    Helpers(ThreadJob& job, int size, const TemporaryDirectory& directory,
            std::map<int, std::function<bool()>> stops = {}, int ranks_of_run = 1) {
        for (int rank = 1; rank < size; ++rank)
            threads_.emplace_back([&job, &directory, rank, ranks_of_run, stop = stops[rank], this] {
                std::string end = "done";
                try {
                    const auto team = ranks_of_run == 1 ? nullptr : job.rank(rank).divide(ranks_of_run);
                    help_train(job.rank(rank), {.ledger = directory / fmt::format("rank {}", rank),
                                                .stop_requested = stop,
                                                .patience = 20.0,
                                                .team = team.get()});
                } catch (const Error& error) {
                    end = error.what();
                }
                const std::lock_guard lock(mutex_);
                ends_[rank] = end;
            });
    }
    ~Helpers() { join(); }
    std::string end_of(int rank) {
        join();
        return ends_[rank];
    }

  private:
    void join() {
        for (std::thread& thread : threads_)
            if (thread.joinable()) thread.join();
    }
    std::mutex mutex_;
    std::map<int, std::string> ends_;
    std::vector<std::thread> threads_;
};

class OnRanks : public testing::Test {
  protected:
    Plan write(const std::string& text) { return read_plan(write_small_study(directory_.path(), text)); }
    std::string story_of_one(const Plan& plan) {
        train_study(plan, directory_ / "one", {}, {.at_once = 1});
        return story(directory_ / "one");
    }
    // The warnings of rank 0 are kept.
    StudyCallbacks listening() {
        StudyCallbacks callbacks;
        callbacks.warning = [this](const std::string& message) { warnings_.push_back(message); };
        return callbacks;
    }
    std::string warnings() const { return fmt::format("{}", fmt::join(warnings_, "\n")); }

    TemporaryDirectory directory_;
    std::vector<std::string> warnings_;
};

TEST_F(OnRanks, TheRecordsAreThoseOfOneProcess) {
    const Plan plan = write(small_plan(3, "augment = { flip = true, shift = 0.1 }", "[1, 2, 3]"));
    const std::string expected = story_of_one(plan);
    for (const int size : {2, 4})
        for (const std::int64_t at_once : {1, 2}) {
            const std::filesystem::path ledger = directory_ / fmt::format("{} ranks {}", size, at_once);
            ThreadJob job(size);
            Helpers helpers(job, size, directory_);
            StudyCallbacks callbacks = listening();
            std::map<std::string, std::int64_t> epochs;
            std::set<std::string> running;
            callbacks.run_started = [&](const RunRecord& run, std::int64_t) { running.insert(run.name()); };
            callbacks.epoch_finished = [&](const RunRecord& run, const RecordedEpoch& epoch, bool) {
                EXPECT_TRUE(running.contains(run.name()));
                EXPECT_EQ(epoch.epoch, ++epochs[run.name()]);
            };
            callbacks.run_finished = [&](const RunRecord& run) {
                EXPECT_EQ(run.state, RunState::finished);
                EXPECT_EQ(running.erase(run.name()), 1U);
            };
            callbacks.begun = [&](const StudyOutlook& outlook) { EXPECT_EQ(outlook.ranks, size); };
            const StudySummary summary =
                train_study(plan, ledger, callbacks, {.at_once = at_once, .ranks = &job.rank(0)});
            EXPECT_EQ(summary.trained, 9);
            EXPECT_EQ(helpers.end_of(1), "done");
            EXPECT_EQ(epochs.size(), 9U);
            EXPECT_EQ(story(ledger) == expected, true) << size << " " << at_once;
            EXPECT_THAT(warnings_, IsEmpty());
            // Nothing is left that belongs to a run in training, and only rank 0 has a ledger.
            EXPECT_TRUE(std::filesystem::is_empty(ledger / "checkpoints"));
            EXPECT_FALSE(Ledger::exists(directory_ / "rank 1"));
        }
}

// Several ranks come to the end of an epoch before rank 0 has answered the first of them.
TEST_F(OnRanks, EpochsThatWaitAreKeptTogether) {
    const Plan plan = write(small_plan(4, "", "[1, 2, 3, 4]"));
    const std::string expected = story_of_one(plan);
    ThreadJob job(4);
    job.deliver_epochs_together(2);
    Helpers helpers(job, 4, directory_);
    StudyCallbacks callbacks = listening();
    std::int64_t epochs = 0;
    callbacks.epoch_finished = [&](const RunRecord&, const RecordedEpoch&, bool) { ++epochs; };
    train_study(plan, directory_ / "ledger", callbacks, {.at_once = 1, .ranks = &job.rank(0)});
    EXPECT_EQ(epochs, 12 * 4);
    EXPECT_GE(job.most_epochs_together(), 2U);
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
    EXPECT_THAT(warnings_, IsEmpty());
}

TEST_F(OnRanks, ModelsOfEachEpochAreKeptToo) {
    const Plan plan = write(small_plan(2, "", "[1]"));
    ThreadJob job(2);
    Helpers helpers(job, 2, directory_);
    train_study(plan, directory_ / "ledger", {}, {.keep_epochs = true, .at_once = 1, .ranks = &job.rank(0)});
    const Ledger ledger = Ledger::open(directory_ / "ledger");
    for (const RunRecord& run : ledger.runs(ledger.study().id))
        EXPECT_EQ(ledger.model_files(run.id).size(), 3U) << run.name();
}

TEST_F(OnRanks, WhatARankLacksComesFromRankZero) {
    const Plan plan = write(small_plan(2));
    const std::string expected = story_of_one(plan);
    StudyCallbacks callbacks = listening();
    // Rank 0 has read its images by now: the others find some gone, and one altered.
    callbacks.begun = [&](const StudyOutlook&) {
        int number = 0;
        for (const auto& entry : std::filesystem::recursive_directory_iterator(directory_ / "images")) {
            if (!entry.is_regular_file() || ++number % 2 == 0) continue;
            if (number == 1)
                write_file(entry.path(), "another image");
            else
                std::filesystem::remove(entry.path());
        }
    };
    ThreadJob job(2);
    Helpers helpers(job, 2, directory_);
    train_study(plan, directory_ / "ledger", callbacks, {.at_once = 1, .ranks = &job.rank(0)});
    EXPECT_EQ(helpers.end_of(1), "done");
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
    EXPECT_THAT(warnings(), HasSubstr("images are missing on this machine, or are others"));
}

TEST_F(OnRanks, ARankThatStopsLeavesItsRunToOthers) {
    const Plan plan = write(small_plan(4));
    const std::string expected = story_of_one(plan);
    std::atomic<int> batches{0};
    ThreadJob job(3);
    Helpers helpers(job, 3, directory_, {{1, [&] { return ++batches > 10; }}});
    const StudySummary summary =
        train_study(plan, directory_ / "ledger", listening(), {.at_once = 1, .ranks = &job.rank(0)});
    EXPECT_EQ(summary.trained, 6);
    EXPECT_GT(batches, 10);
    for (const int rank : {1, 2}) EXPECT_EQ(helpers.end_of(rank), "done");
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
}

TEST_F(OnRanks, AllAreSavedWhenRankZeroStopsAndGoOn) {
    const Plan plan = write(small_plan(4));
    const std::string expected = story_of_one(plan);
    int stops = 0;
    for (bool done = false; !done && stops < 10; ++stops) {
        int epochs = 0;
        StudyCallbacks callbacks;
        callbacks.epoch_finished = [&](const RunRecord&, const RecordedEpoch&, bool) { ++epochs; };
        callbacks.stop_requested = [&] { return epochs >= 6; };
        ThreadJob job(3);
        Helpers helpers(job, 3, directory_);
        try {
            train_study(plan, directory_ / "ledger", callbacks, {.at_once = 1, .ranks = &job.rank(0)});
            done = true;
        } catch (const Interrupted&) {
        }
        EXPECT_FALSE(job.was_abandoned());
    }
    EXPECT_GE(stops, 2);
    EXPECT_LT(stops, 10);
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
}

TEST_F(OnRanks, ASlowRankGivesItsLastRunToAFasterOne) {
    const Plan plan = write(small_plan(12, "", "[1, 2, 3]"));
    const std::string expected = story_of_one(plan);
    // Rank 1 takes longer for each batch than rank 0 for an epoch, though a sanitizer slows both.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
    constexpr std::chrono::milliseconds pause{1500};
#else
    constexpr std::chrono::milliseconds pause{150};
#endif
    ThreadJob job(2);
    Helpers helpers(job, 2, directory_, {{1, [=] {
                                              std::this_thread::sleep_for(pause);
                                              return false;
                                          }}});
    StudyCallbacks callbacks;
    std::map<std::string, int> starts;
    callbacks.run_started = [&](const RunRecord& run, std::int64_t) { ++starts[run.name()]; };
    train_study(plan, directory_ / "ledger", callbacks, {.at_once = 1, .ranks = &job.rank(0)});
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
    int moved = 0;
    for (const auto& [name, times] : starts) moved += times > 1 ? 1 : 0;
    EXPECT_GE(moved, 1);
}

TEST_F(OnRanks, ARunThatWasKeptForARankThatEndsIsForOthers) {
    const Plan plan = write(small_plan(12, "", "[1, 2]"));
    declare_study(plan, directory_ / "ledger");
    LedgerWriter writer = LedgerWriter::open(directory_ / "ledger");
    std::vector<PlannedRun> two;
    std::vector<RunId> ids;
    const auto materials = gather_materials(plan);
    for (PlannedRun& run : plan_runs(*materials)) {
        if (run.candidate->name != plan.candidates.front().name) continue;
        ids.push_back(writer.put_run(writer.ledger().study().id, run.identity));
        two.push_back(std::move(run));
    }
    ASSERT_EQ(two.size(), 2U);
    StudySummary summary;
    StudyRuns runs(std::move(two), ids, false, summary, [](std::size_t) {});
    const RunWorker slow{.rank = 1, .thread = 0};
    const RunWorker fast{.rank = 2, .thread = 0};
    const RunWorker other{.rank = 3, .thread = 0};
    const std::size_t first = runs.take(writer, fast).value().place;
    const std::size_t last = runs.take(writer, slow).value().place;
    for (int epoch = 0; epoch < 3; ++epoch) EXPECT_FALSE(runs.should_move(first, fast, 9));
    runs.finish(first);
    EXPECT_FALSE(runs.take(writer, fast));
    EXPECT_FALSE(runs.should_move(last, slow, 9));
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
    EXPECT_TRUE(runs.should_move(last, slow, 8));
    runs.leave(last);
    EXPECT_FALSE(runs.take(writer, other));
    runs.gone(fast.rank);
    EXPECT_TRUE(runs.take(writer, other));
}

TEST_F(OnRanks, AFailingRunIsRecordedWithItsReason) {
    const Plan plan =
        write(small_plan(4, "optimiser = { learning_rate = 1000.0, weight_decay = 9.0 }", "[1]"));
    const auto told = [&](const char* name, Ranks* ranks) {
        train_study(plan, directory_ / name, {}, {.at_once = 1, .ranks = ranks});
        const Ledger ledger = Ledger::open(directory_ / name);
        std::string text;
        for (const RunRecord& run : ledger.runs(ledger.study().id))
            text += run.name() + name_of(run.state) + std::to_string(run.epochs) + run.reason + "\n";
        return text;
    };
    const std::string expected = told("alone", nullptr);
    EXPECT_THAT(expected, HasSubstr("failed"));
    ThreadJob job(3);
    Helpers helpers(job, 3, directory_);
    EXPECT_EQ(told("ledger", &job.rank(0)), expected);
    EXPECT_EQ(helpers.end_of(2), "done");
}

TEST_F(OnRanks, RunsThatSeveralTrainTogetherAreTheSameBits) {
    for (const char* statistics : {"shard", "batch"}) {
        const Plan plan = write(small_plan(
            3, fmt::format("augment = {{ flip = true }}\nshards = 4\nshard_statistics = \"{}\"", statistics),
            "[1]"));
        std::filesystem::remove_all(directory_ / "one");
        const std::string expected = story_of_one(plan);
        for (const auto& [size, ranks_of_run] : {std::pair(2, 2), std::pair(3, 3), std::pair(4, 2)}) {
            SCOPED_TRACE(fmt::format("{} of {} ranks, statistics of the {}", ranks_of_run, size, statistics));
            const std::filesystem::path ledger =
                directory_ / fmt::format("{} {} {}", size, ranks_of_run, statistics);
            ThreadJob job(size);
            Helpers helpers(job, size, directory_, {}, ranks_of_run);
            const auto team = job.rank(0).divide(ranks_of_run);
            const StudySummary summary =
                train_study(plan, ledger, {}, {.ranks = &job.rank(0), .team = team.get()});
            EXPECT_EQ(summary.trained, 3);
            for (int rank = 1; rank < size; ++rank) EXPECT_EQ(helpers.end_of(rank), "done");
            EXPECT_EQ(story(ledger) == expected, true);
        }
    }
}

TEST_F(OnRanks, ATeamStopsTogetherAndAnyNumberGoesOn) {
    const Plan plan = write(small_plan(4, "shards = 2\npatience = 3", "[1]"));
    const std::string expected = story_of_one(plan);
    int stops = 0;
    for (bool done = false; !done && stops < 10; ++stops) {
        int epochs = 0;
        StudyCallbacks callbacks;
        callbacks.epoch_finished = [&](const RunRecord&, const RecordedEpoch&, bool) { ++epochs; };
        callbacks.stop_requested = [&] { return epochs >= 3; };
        const int ranks = stops % 2 == 0 ? 2 : 1;
        ThreadJob job(ranks);
        Helpers helpers(job, ranks, directory_, {}, 2);
        const auto team = ranks == 1 ? nullptr : job.rank(0).divide(2);
        try {
            train_study(plan, directory_ / "ledger", callbacks,
                        {.at_once = 1, .ranks = &job.rank(0), .team = team.get()});
            done = true;
        } catch (const Interrupted&) {
        }
        EXPECT_FALSE(job.was_abandoned());
    }
    EXPECT_GE(stops, 3);
    EXPECT_LT(stops, 10);
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
}

TEST_F(OnRanks, ATeamNeedsAsManyShards) {
    const Plan plan = write(small_plan(2, "shards = 2", "[1]"));
    ThreadJob job(3);
    Helpers helpers(job, 3, directory_, {}, 3);
    const auto team = job.rank(0).divide(3);
    EXPECT_THAT(message_of<InputError>([&] {
                    train_study(plan, directory_ / "ledger", {}, {.ranks = &job.rank(0), .team = team.get()});
                }),
                HasSubstr("has 2 shards, and 3 ranks are to train each of its runs together"));
    EXPECT_EQ(helpers.end_of(1), "done");
}

// A rank that a test plays itself.
Json greeting(const std::string& version, const std::string& processor = "") {
    const RankGreeting here = rank_greeting();
    return {{"do", "greet"},       {"question", 1},
            {"host", "elsewhere"}, {"version", version},
            {"build", here.build}, {"processor", processor.empty() ? here.processor : processor}};
}

TEST_F(OnRanks, AnotherVersionIsRefusedAndTheStudyGoesOn) {
    const Plan plan = write(small_plan(2, "", "[1]"));
    ThreadJob job(2);
    job.rank(1).send(0, packed(greeting("0.0.1")));
    job.rank(1).send(0, packed({{"do", "end"}, {"question", 2}}));
    const StudySummary summary =
        train_study(plan, directory_ / "ledger", listening(), {.at_once = 1, .ranks = &job.rank(0)});
    EXPECT_EQ(summary.trained, 3);
    EXPECT_THAT(warnings(), HasSubstr("rank 1 on elsewhere takes no part: it has version 0.0.1"));
    const RankMessage answer = unpacked(*job.rank(1).receive(std::chrono::milliseconds(0)));
    EXPECT_THAT(answer.head.at("refused").get<std::string>(), HasSubstr("install the same on all machines"));
}

TEST_F(OnRanks, WhatARankHasThatEndsIsForOthers) {
    const Plan plan = write(small_plan(2, "", "[1]"));
    const std::string expected = story_of_one(plan);
    ThreadJob job(2);
    job.rank(1).send(0, packed(greeting(rank_greeting().version)));
    job.rank(1).send(0, packed({{"do", "run"}, {"question", 2}, {"thread", 0}}));
    job.rank(1).send(0, packed({{"do", "run"}, {"question", 3}, {"thread", 1}}));
    std::thread later([&] {
        // Once it has them.
        for (int answers = 0; answers < 3;) answers += job.rank(1).receive(std::chrono::seconds(5)) ? 1 : 3;
        job.rank(1).send(0, packed({{"do", "end"}, {"question", 4}}));
    });
    const StudySummary summary =
        train_study(plan, directory_ / "ledger", {}, {.at_once = 1, .ranks = &job.rank(0)});
    later.join();
    EXPECT_EQ(summary.trained, 3);
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
}

TEST_F(OnRanks, AnotherProcessorIsSaid) {
    const Plan plan = write(small_plan(2, "", "[1]"));
    ThreadJob job(2);
    job.rank(1).send(0, packed(greeting(rank_greeting().version, "another processor, SSE2")));
    job.rank(1).send(0, packed({{"do", "end"}, {"question", 2}}));
    train_study(plan, directory_ / "ledger", listening(), {.at_once = 1, .ranks = &job.rank(0)});
    EXPECT_THAT(warnings(), HasSubstr("rank 1 on elsewhere has another processor than rank 0 (another "
                                      "processor, SSE2"));
    EXPECT_THAT(warnings(), HasSubstr("not the same bits"));
}

TEST_F(OnRanks, AnotherProcessorIsRefusedWhereRunsAreShared) {
    test::ignore_messages();  // they name this one
    const Plan plan = write(small_plan(2, "shards = 2", "[1]"));
    ThreadJob job(4);
    // Of the second team: the first could train without it.
    for (const int rank : {2, 3})
        job.rank(rank).send(0, packed(greeting(rank_greeting().version, "another, SSE2")));
    std::thread follower([&] {
        const auto team = job.rank(1).divide(2);
        try {
            help_train(job.rank(1), {.ledger = directory_ / "rank 1", .patience = 20.0, .team = team.get()});
        } catch (const WorkError&) {
            // It had not heard yet that it is to end when the job was ended.
        }
    });
    const auto team = job.rank(0).divide(2);
    EXPECT_THAT(message_of<InputError>([&] {
                    train_study(plan, directory_ / "ledger", {},
                                {.ranks = &job.rank(0), .ranks_patience = 0.5, .team = team.get()});
                }),
                HasSubstr("ranks that train a run together must be of one kind"));
    follower.join();
}

TEST_F(OnRanks, ASilentRankEndsTheJobAndNothingIsLost) {
    const Plan plan = write(small_plan(3));
    const std::string expected = story_of_one(plan);
    ThreadJob job(2);
    // It takes a run and is heard of no more.
    job.rank(1).send(0, packed(greeting(rank_greeting().version)));
    job.rank(1).send(0, packed({{"do", "run"}, {"question", 2}, {"thread", 0}}));
    EXPECT_THAT(message_of<WorkError>([&] {
                    train_study(plan, directory_ / "ledger", {},
                                {.at_once = 1, .ranks = &job.rank(0), .ranks_patience = 0.5});
                }),
                HasSubstr("rank 1 on elsewhere has not been heard of"));
    EXPECT_TRUE(job.was_abandoned());
    train_study(plan, directory_ / "ledger", {}, {.at_once = 1});
    EXPECT_EQ(story(directory_ / "ledger") == expected, true);
}

TEST_F(OnRanks, ARankThatLosesRankZeroEnds) {
    ThreadJob job(2);
    // Rank 0 answers once and then never again.
    job.rank(0).send(1, packed({{"answer", 1}, {"refused", "not yet"}}));
    EXPECT_THAT(message_of<WorkError>(
                    [&] { help_train(job.rank(1), {.ledger = directory_ / "rank 1", .patience = 0.3}); }),
                HasSubstr("rank 0 has not been heard of"));
}

TEST_F(OnRanks, WhatIsNoMessageEndsTheJob) {
    const Plan plan = write(small_plan(2, "", "[1]"));
    for (const char* bytes : {"", "no message", "99999\n{}", "2\n{}"}) {
        ThreadJob job(2);
        job.rank(1).send(0, bytes);
        EXPECT_THROW(train_study(plan, directory_ / "ledger", {},
                                 {.at_once = 1, .ranks = &job.rank(0), .ranks_patience = 0.5}),
                     Error)
            << bytes;
    }
    // What rank 0 has not, or has not given, is refused, and it goes on.
    ThreadJob job(2);
    job.rank(1).send(0, packed({{"do", "finish"}, {"question", 1}, {"thread", 7}}));
    job.rank(1).send(0, packed({{"do", "images"}, {"question", 2}, {"items", {0, 1'000'000}}}));
    job.rank(1).send(0, packed({{"do", "backbone"}, {"question", 3}, {"name", "another"}}));
    job.rank(1).send(0, packed({{"do", "end"}, {"question", 4}}));
    train_study(plan, directory_ / "ledger", {}, {.at_once = 1, .ranks = &job.rank(0)});
    for (int question = 1; question <= 3; ++question)
        EXPECT_TRUE(unpacked(*job.rank(1).receive(std::chrono::milliseconds(0))).head.contains("refused"))
            << question;
}

TEST_F(OnRanks, APlanThatWasNotReadFromTextIsRefused) {
    Plan plan = write(small_plan(2, "", "[1]"));
    plan.text.clear();
    ThreadJob job(2);
    EXPECT_THAT(message_of<InputError>(
                    [&] { train_study(plan, directory_ / "ledger", {}, {.ranks = &job.rank(0)}); }),
                HasSubstr("read from a file"));
}

}  // namespace
}  // namespace jevrin
