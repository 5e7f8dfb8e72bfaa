// Runs that are trained at the same time: the same records as one after another, and nobody pays for the
// others.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/threads.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/study/run_team.hpp"
#include "jevrin/study/runs_at_once.hpp"
#include "jevrin/study/study.hpp"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <latch>
#include <map>
#include <set>
#include <thread>

namespace jevrin {
namespace {

using test::message_of;
using test::small_plan;
using test::story;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::HasSubstr;

// For the test, and as it was before.
class Threads {
  public:
    explicit Threads(int count) : before_(threads()) { set_threads(count); }
    ~Threads() { set_threads(before_); }
    Threads(const Threads&) = delete;
    Threads& operator=(const Threads&) = delete;

  private:
    int before_;
};

TEST(AtOnce, TheRecordsAreThoseOfOneAfterAnother) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(
        directory.path(), small_plan(2, "augment = { flip = true, shift = 0.1 }", "[1, 2]")));
    train_study(plan, directory / "one", {}, {.at_once = 1});
    const std::string expected = story(directory / "one");
    for (const std::int64_t at_once : {2, 3, 6}) {
        const Threads enough(static_cast<int>(at_once));
        const std::filesystem::path ledger = directory / ("at once " + std::to_string(at_once));
        train_study(plan, ledger, {}, {.at_once = at_once});
        EXPECT_EQ(story(ledger) == expected, true) << at_once;
    }
    // Without anything kept, each run computes its own features.
    train_study(plan, directory / "nothing kept", {}, {.stores = Stores::left_out, .at_once = 3});
    EXPECT_EQ(story(directory / "nothing kept") == expected, true);
}

TEST(AtOnce, AreToldByTheThreadThatAsked) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(3)));
    const auto self = std::this_thread::get_id();
    std::set<std::string> running;
    std::size_t most = 0;
    std::size_t finished = 0;
    bool elsewhere = false;
    StudyCallbacks callbacks;
    const auto here = [&] { elsewhere = elsewhere || std::this_thread::get_id() != self; };
    bool begun = false;
    callbacks.begun = [&](const StudyOutlook& outlook) {
        here();
        begun = true;
        EXPECT_EQ(outlook.at_once, 2);
    };
    callbacks.run_started = [&](const RunRecord& run, std::int64_t) {
        here();
        running.insert(run.name());
        most = std::max(most, running.size());
    };
    std::map<std::string, std::int64_t> epochs;
    callbacks.epoch_finished = [&](const RunRecord& run, const RecordedEpoch& epoch, bool) {
        here();
        EXPECT_TRUE(running.contains(run.name()));
        EXPECT_EQ(epoch.epoch, ++epochs[run.name()]);
    };
    callbacks.progress = [&](const RunRecord& run, const StudyPosition& position) {
        here();
        EXPECT_TRUE(running.contains(run.name()));
        EXPECT_GE(position.study_share, 0.0);
        EXPECT_LE(position.study_share, 1.0);
        EXPECT_EQ(position.runs, 6);
    };
    callbacks.run_finished = [&](const RunRecord& run) {
        here();
        EXPECT_EQ(running.erase(run.name()), 1U);
        ++finished;
    };
    callbacks.stop_requested = [&] {
        if (begun) here();  // images are prepared by many
        return false;
    };
    const StudySummary summary = train_study(plan, directory / "ledger", callbacks, {.at_once = 2});
    EXPECT_EQ(summary.trained, 6);
    EXPECT_EQ(finished, 6U);
    EXPECT_EQ(most, 2U);
    EXPECT_FALSE(elsewhere);
}

TEST(AtOnce, AllAreSavedWhenStoppedAndGoOn) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(4)));
    train_study(plan, directory / "whole", {}, {.at_once = 1});
    int stops = 0;
    for (bool done = false; !done; ++stops) {
        int epochs = 0;
        StudyCallbacks callbacks;
        callbacks.epoch_finished = [&](const RunRecord&, const RecordedEpoch&, bool) { ++epochs; };
        callbacks.stop_requested = [&] { return epochs >= 5; };
        try {
            train_study(plan, directory / "parts", callbacks, {.at_once = 2});
            done = true;
        } catch (const Interrupted&) {
            EXPECT_LT(stops, 10);
        }
    }
    EXPECT_GE(stops, 3);
    EXPECT_EQ(story(directory / "parts") == story(directory / "whole"), true);
}

TEST(AtOnce, AFailingRunDoesNotTouchTheOthers) {
    const TemporaryDirectory directory;
    const auto file = write_small_study(
        directory.path(), small_plan(4, "optimiser = { learning_rate = 1000.0, weight_decay = 9.0 }", "[1]"));
    const auto told = [&](const char* name, std::int64_t at_once) {
        train_study(read_plan(file), directory / name, {}, {.at_once = at_once});
        const Ledger ledger = Ledger::open(directory / name);
        std::string text;
        for (const RunRecord& run : ledger.runs(ledger.study().id))
            text +=
                run.name() + " " + name_of(run.state) + " " + std::to_string(run.epochs) + run.reason + "\n";
        return text;
    };
    const std::string expected = told("one", 1);
    EXPECT_THAT(expected, HasSubstr("failed"));
    EXPECT_EQ(told("three", 3), expected);
}

TEST(AtOnce, WhatIsToldMayFailAndEverythingEnds) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(3)));
    StudyCallbacks callbacks;
    callbacks.epoch_finished = [](const RunRecord&, const RecordedEpoch&, bool) {
        throw WorkError("nobody can be told");
    };
    EXPECT_THAT(
        message_of<WorkError>([&] { train_study(plan, directory / "ledger", callbacks, {.at_once = 2}); }),
        HasSubstr("nobody can be told"));
    const StudySummary summary = train_study(plan, directory / "ledger");
    EXPECT_EQ(summary.trained + summary.already_finished, 6);
}

TEST(AtOnce, AsManyAsThreadsAndMemoryAllow) {
    const Threads four(4);
    const std::int64_t unit = 1'000'000'000;
    const auto runs = [&](std::vector<std::int64_t> units) {
        for (std::int64_t& one : units) one *= unit;
        return units;
    };
    set_memory_limit(resident_memory() + 10 * unit + unit / 2);
    EXPECT_EQ(runs_at_once({}, 0), 1);
    EXPECT_EQ(runs_at_once(runs({1}), 0), 1);
    EXPECT_EQ(runs_at_once(runs({1, 1, 1}), 0), 3);
    EXPECT_EQ(runs_at_once(runs({1, 1, 1, 1, 1, 1}), 0), 4);
    EXPECT_EQ(runs_at_once(runs({1, 1, 1, 1, 1, 1}), 6), 6);
    EXPECT_EQ(runs_at_once(runs({1, 1, 1}), 7), 3);
    // Whichever run meets which: the largest ones together.
    EXPECT_EQ(runs_at_once(runs({1, 4, 1, 4, 4, 1}), 0), 2);
    EXPECT_EQ(runs_at_once(runs({20, 20}), 0), 1);
    EXPECT_THAT(message_of<InputError>([&] {
                    runs_at_once(runs({4, 4, 4}), 3);
                }),
                HasSubstr("at most 2 of these fit"));
    set_memory_limit(0);
}

TEST(AtOnce, WhatIsMeasuredIsMeasuredAlone) {
    const Threads four(4);
    RunTeam team(4, {});
    std::atomic<int> working{0};
    std::atomic<int> measured{0};
    std::atomic<bool> disturbed{false};
    team.carry_out([&](std::size_t member) {
        for (int step = 0; step < 40; ++step) {
            ++working;
            std::this_thread::sleep_for(std::chrono::microseconds(100));
            --working;
            team.pass();
            if (step % 10 != static_cast<int>(member)) continue;
            team.alone([&] {
                disturbed = disturbed || working > 0 || SerialLoops::here();
                std::this_thread::sleep_for(std::chrono::milliseconds(1));
                disturbed = disturbed || working > 0;
                ++measured;
            });
        }
    });
    EXPECT_EQ(measured, 16);
    EXPECT_FALSE(disturbed);
    EXPECT_FALSE(SerialLoops::here());
    // What one throws ends all, and is thrown on.
    EXPECT_THAT(message_of<WorkError>([&] {
                    team.carry_out([&](std::size_t member) {
                        if (member == 2) team.alone([] { throw WorkError("cannot be measured"); });
                        while (!team.stop_requested()) team.pass();
                        throw Interrupted("asked to");
                    });
                }),
                HasSubstr("cannot be measured"));
}

TEST(AtOnce, TheLastOnesHaveAllThreads) {
    const Threads two(2);
    LoopGroup group;
    std::latch at_work{2};
    std::latch seen{2};
    std::atomic<bool> first_is_done{false};
    const auto serial_at = [&](bool alone) {
        const SerialLoops loops(&group);
        at_work.arrive_and_wait();
        const bool before = SerialLoops::here();
        seen.arrive_and_wait();
        if (alone) {
            while (!first_is_done || group.working() > 1) std::this_thread::yield();
            EXPECT_FALSE(SerialLoops::here());
        } else {
            {
                const WaitingLoops waiting;
                EXPECT_EQ(group.working(), 1);
            }
            first_is_done = true;
        }
        return before;
    };
    bool first = false;
    std::thread other([&] { first = serial_at(false); });
    EXPECT_TRUE(serial_at(true));
    other.join();
    EXPECT_TRUE(first);
}

}  // namespace
}  // namespace jevrin
