// Ledgers where several machines may see them, and ledgers of several machines that become one.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/file_system.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/study.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

namespace jevrin {
namespace {

using test::run_jevrin;
using test::small_plan;
using test::story;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

std::string journal_of(const std::filesystem::path& ledger) {
    SQLite::Database database((ledger / "ledger.db").string(), SQLite::OPEN_READONLY);
    return database.execAndGet("PRAGMA journal_mode").getString();
}

TEST(FileSystems, AreFoundByTheDeepestMount) {
    const std::string mounts =
        "22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw\n"
        "30 22 0:40 / /home rw shared:9 - nfs4 server:/home rw,vers=4.2,local_lock=none\n"
        "31 22 0:41 / /scratch\\040space rw - lustre 10.0.0.1@tcp:/x rw,flock\n"
        "32 22 0:42 / /old rw - nfs server:/old rw,vers=3,nolock\n"
        "33 32 8:2 / /old/local rw - xfs /dev/sdb1 rw\n"
        "no mount at all\n";
    const auto on = [&](const char* path) { return file_system_of(path, mounts); };
    EXPECT_EQ(on("/data").type, "ext4");
    EXPECT_FALSE(on("/data").is_shared);
    EXPECT_FALSE(on("/homes/x").is_shared);
    EXPECT_TRUE(on("/home/me/ledger").is_shared);
    EXPECT_EQ(on("/home/me/ledger").local_locks, "");
    EXPECT_EQ(on("/scratch space/ledger").type, "lustre");
    EXPECT_TRUE(on("/old/ledger").is_shared);
    EXPECT_EQ(on("/old/ledger").local_locks, "nolock");
    EXPECT_FALSE(on("/old/local/ledger").is_shared);
    EXPECT_EQ(file_system_of("/", "").type, "");
}

class OnNetworkFiles : public testing::Test {
  protected:
    test::CommandResult train(const std::string& mount_options, const std::string& locks = "") {
        write_file(directory_ / "mounts", fmt::format("22 1 8:1 / {} rw - nfs4 server:/x rw,{}\n",
                                                      directory_.path().string(), mount_options));
        return run_jevrin({"train", "plan.toml"},
                          {.directory = directory_.path(),
                           .environment = {{"LD_PRELOAD", JEVRIN_FAILING_CALLS},
                                           {"JEVRIN_FAULT_MOUNTS", (directory_ / "mounts").string()},
                                           {"JEVRIN_FAULT_LOCKS", locks}}});
    }
    void SetUp() override {
        if (std::string(JEVRIN_SANITIZED) == "address")
            GTEST_SKIP() << "its own library must be loaded first";
        write_small_study(directory_.path(), small_plan(2, "", "[1]"));
    }
    TemporaryDirectory directory_;
};

TEST_F(OnNetworkFiles, TheLedgerNeedsNoMemoryThatMachinesShare) {
    const test::CommandResult trained = train("vers=4.2");
    EXPECT_EQ(trained.status, 0) << trained.errors;
    EXPECT_THAT(trained.errors, Not(HasSubstr("network file system")));
    EXPECT_EQ(journal_of(directory_ / "ledger"), "delete");
    EXPECT_EQ(run_jevrin({"runs"}, {.directory = directory_.path()}).status, 0);
}

TEST_F(OnNetworkFiles, ALedgerThatWasCopiedThereIsChanged) {
    ASSERT_EQ(
        run_jevrin({"train", "plan.toml", "--until", "new head"}, {.directory = directory_.path()}).status,
        0);
    EXPECT_EQ(journal_of(directory_ / "ledger"), "wal");
    EXPECT_EQ(train("vers=4.2").status, 0);
    EXPECT_EQ(journal_of(directory_ / "ledger"), "delete");
}

TEST_F(OnNetworkFiles, LocksOfOneMachineAloneAreSaid) {
    const test::CommandResult trained = train("vers=3,nolock");
    EXPECT_EQ(trained.status, 0) << trained.errors;
    EXPECT_THAT(trained.errors, AllOf(HasSubstr("locks hold on one machine alone (nolock)"),
                                      HasSubstr("never let two machines write there at the same time")));
}

TEST_F(OnNetworkFiles, WithoutLocksTheCureIsNamed) {
    const test::CommandResult refused = train("vers=3", "37");
    EXPECT_EQ(refused.status, 1) << refused.errors;
    EXPECT_THAT(refused.errors, AllOf(HasSubstr("this file system cannot lock files"), HasSubstr("mpirun"),
                                      HasSubstr("'jevrin ledger merge'")));
}

// Two machines train into ledgers of their own, one of them is interrupted; a third merges and goes on.
TEST(LedgersOfMachines, BecomeOneAsIfThereHadBeenOne) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(6)));
    train_study(plan, directory / "one", {}, {.at_once = 1});
    train_study(plan, directory / "a", {}, {.selection = {.only = {"new head"}}, .at_once = 1});
    int epochs = 0;
    StudyCallbacks callbacks;
    callbacks.epoch_finished = [&](const RunRecord&, const RecordedEpoch&, bool) { ++epochs; };
    callbacks.stop_requested = [&] { return epochs >= 8; };  // in the second of its runs
    const StudyOptions others{.selection = {.only = {"last stage"}}, .at_once = 1};
    EXPECT_THROW(train_study(plan, directory / "b", callbacks, others), Interrupted);
    // A beginning of the same run is here already, and less far.
    epochs = 6;
    EXPECT_THROW(train_study(plan, directory / "home", callbacks, others), Interrupted);

    LedgerWriter home = LedgerWriter::open(directory / "home");
    for (int time = 0; time < 2; ++time)
        for (const char* machine : {"a", "b"}) {
            const MergeSummary summary = home.merge(Ledger::open(directory / machine));
            EXPECT_EQ(summary.runs > 0, time == 0) << machine;
        }
    std::vector<std::int64_t> resumed;
    StudyCallbacks listening;
    listening.run_started = [&](const RunRecord&, std::int64_t after) {
        if (after > 0) resumed.push_back(after);
    };
    train_study(plan, directory / "home", listening, {.at_once = 1});
    EXPECT_THAT(resumed, testing::ElementsAre(2));  // behind the epochs of machine b
    EXPECT_EQ(story(directory / "home") == story(directory / "one"), true);
    for (const auto& entry : std::filesystem::directory_iterator(directory / "home" / "models"))
        EXPECT_TRUE(entry.is_regular_file()) << entry.path();
}

}  // namespace
}  // namespace jevrin
