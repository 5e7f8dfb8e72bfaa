// Batch scripts on a real Slurm: slurmctld and two slurmd on this machine, started by the script beside this.
#include "jobs/job.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/study/study.hpp"

#include <fmt/format.h>

#include <cstdlib>
#include <fstream>
#include <memory>
#include <optional>
#include <sstream>

namespace jevrin {
namespace {

using test::comes_true;
using test::run_jevrin;
using test::small_plan;
using test::story;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

// What a command of the shell prints.
std::string printed(const std::string& command) {
    std::string text;
    FILE* pipe = ::popen((command + " 2>&1").c_str(), "r");
    char piece[4096];
    while (pipe != nullptr && std::fgets(piece, sizeof piece, pipe) != nullptr) text += piece;
    if (pipe != nullptr) ::pclose(pipe);
    return text;
}

// One cluster for all tests of a process.
class Cluster {
  public:
    Cluster() {
        const std::string program = JEVRIN_SOURCE_DIRECTORY "/tests/jobs/cluster";
        const std::string out = (directory_ / "out").string();
        const int status = std::system(
            fmt::format("'{}' start '{}' 2 > '{}' 2>&1", program, (directory_ / "cluster").string(), out)
                .c_str());
        const std::string said = read_text(out);
        if (WEXITSTATUS(status) == 3)
            missing_ = said;
        else if (status != 0)
            failure_ = said;
        ::setenv("SLURM_CONF", (directory_ / "cluster/slurm.conf").c_str(), 1);
    }
    ~Cluster() {
        std::system(fmt::format("'{}' stop '{}' > /dev/null 2>&1",
                                JEVRIN_SOURCE_DIRECTORY "/tests/jobs/cluster",
                                (directory_ / "cluster").string())
                        .c_str());
    }
    Cluster(const Cluster&) = delete;
    Cluster& operator=(const Cluster&) = delete;
    const std::string& missing() const { return missing_; }
    const std::string& failure() const { return failure_; }

  private:
    TemporaryDirectory directory_;
    std::string missing_;
    std::string failure_;
};

class OnSlurm : public testing::Test {
  protected:
    static void SetUpTestSuite() { cluster_ = std::make_unique<Cluster>(); }
    static void TearDownTestSuite() { cluster_.reset(); }
    void SetUp() override {
        if (!cluster_->missing().empty()) GTEST_SKIP() << cluster_->missing();
        ASSERT_EQ(cluster_->failure(), "");
        test::allow_small_machines();
    }
    // Writes the study, trains it here, and writes its batch script.
    std::string story_of_one(const std::string& text) {
        train_study(read_plan(write_small_study(directory_.path(), text)), directory_ / "one", {},
                    {.at_once = 1});
        return story(directory_ / "one");
    }
    std::string script(const std::vector<std::string>& options) {
        std::vector<std::string> words = {"slurm", "plan.toml", "--ledger", ledger().string()};
        words.insert(words.end(), options.begin(), options.end());
        const test::CommandResult result = run_jevrin(words, {.directory = directory_.path()});
        EXPECT_EQ(result.status, 0) << result.errors;
        return result.output;
    }
    // The number of the job.
    std::string submit() {
        const std::string said =
            printed(fmt::format("cd '{}' && sbatch --parsable plan.sbatch", directory_.path().string()));
        EXPECT_EQ(said.find_first_not_of("0123456789\n"), std::string::npos) << said;
        return said.substr(0, said.find('\n'));
    }
    static std::string property(const std::string& job, const std::string& name) {
        const std::string all = printed("scontrol show job " + job);
        const std::size_t at = all.find(name + "=");
        return at == std::string::npos
                   ? ""
                   : all.substr(at + name.size() + 1, all.find_first_of(" \n", at) - at - name.size() - 1);
    }
    bool is_finished() const {
        if (!Ledger::exists(ledger())) return false;
        try {
            const Ledger opened = Ledger::open(ledger());
            const auto runs = opened.runs(opened.study().id);
            return !runs.empty() && std::all_of(runs.begin(), runs.end(), [](const RunRecord& run) {
                return run.state == RunState::finished;
            });
        } catch (const Error&) {
            return false;  // it is being made
        }
    }
    static std::string state_of(const std::string& job) { return property(job, "JobState"); }
    // A job that was queued again waits for two minutes; three seconds here, since a node refuses a job that
    // begins in the second in which it was ended there.
    static bool begins_again(const std::string& job) {
        if (!comes_true([&] { return property(job, "Restarts") == "1" && state_of(job) == "PENDING"; }))
            return false;
        printed(fmt::format("scontrol update jobid={} StartTime=now+3", job));
        return comes_true([&] { return state_of(job) != "PENDING"; });
    }
    bool has_epochs() const {
        const std::filesystem::path checkpoints = ledger() / "checkpoints";
        return std::filesystem::exists(checkpoints) && !std::filesystem::is_empty(checkpoints);
    }
    bool completes(const std::string& job, double seconds = 120.0) const {
        return comes_true([&] { return state_of(job) == "COMPLETED"; }, seconds);
    }
    // What the jobs printed and what the scheduler knows.
    std::string logs() const {
        return printed(
            fmt::format("cat '{}'/*.log; date; scontrol show job; sinfo; ps -eo pid,stat,etimes,args; "
                        "tail -n 40 \"$(dirname \"$SLURM_CONF\")\"/slurm*.log",
                        directory_.path().string()));
    }
    std::filesystem::path ledger() const { return directory_ / "ledger"; }

    static std::unique_ptr<Cluster> cluster_;
    TemporaryDirectory directory_;
};
std::unique_ptr<Cluster> OnSlurm::cluster_;

TEST_F(OnSlurm, AnMpiJobOnTwoNodesTrainsTheStudy) {
    if (JEVRIN_MPI == 0) GTEST_SKIP() << "this build has no MPI (JEVRIN_MPI=OFF)";
    const std::string expected = story_of_one(small_plan(3));
    const std::string said = script({"--ranks", "3", "--option", "nodes=2"});
    EXPECT_THAT(said, AllOf(HasSubstr("6 runs on 3 ranks with 1 thread"),
                            HasSubstr("submit it: sbatch plan.sbatch")));
    const std::string job = submit();
    EXPECT_TRUE(completes(job)) << logs();
    EXPECT_EQ(property(job, "NumNodes"), "2");
    EXPECT_THAT(logs(), HasSubstr("6 runs to train, on 3 ranks"));
    EXPECT_EQ(story(ledger()) == expected, true);
}

TEST_F(OnSlurm, AnArrayOfTasksSharesTheLedger) {
    const std::string expected = story_of_one(small_plan(3));
    script({"--array", "3"});
    const std::string job = submit();
    EXPECT_TRUE(comes_true([&] { return is_finished() && printed("squeue -h -j " + job).empty(); }, 60.0))
        << logs();
    EXPECT_EQ(story(ledger()) == expected, true);
}

TEST_F(OnSlurm, BeforeItsTimeLimitAJobSavesAndQueuesItselfAgain) {
    if (JEVRIN_MPI == 0) GTEST_SKIP() << "this build has no MPI (JEVRIN_MPI=OFF)";
    const std::string expected = story_of_one(small_plan(150, "", "[1, 2]"));
    script({"--ranks", "2", "--option", "nodes=2"});
    const std::string job = submit();
    ASSERT_TRUE(comes_true([&] { return has_epochs(); })) << logs();
    // A study can be followed from where no job runs.
    EXPECT_EQ(run_jevrin({"watch", "--once", "--ledger", ledger().string()}).status, 0);
    // What the scheduler does at that time.
    printed("scancel --batch --signal=USR1 " + job);
    ASSERT_TRUE(begins_again(job)) << logs();
    EXPECT_TRUE(completes(job)) << logs();
    EXPECT_THAT(logs(),
                AllOf(HasSubstr("the same command continues training"), HasSubstr("resumed after epoch")));
    EXPECT_EQ(story(ledger()) == expected, true);
}

TEST_F(OnSlurm, AJobThatIsRequeuedOrCancelledLosesNothing) {
    if (JEVRIN_MPI == 0) GTEST_SKIP() << "this build has no MPI (JEVRIN_MPI=OFF)";
    const std::string expected = story_of_one(small_plan(150, "", "[1, 2]"));
    script({"--ranks", "2"});
    const std::string job = submit();
    ASSERT_TRUE(comes_true([&] { return has_epochs(); })) << logs();
    printed("scontrol requeue " + job);
    ASSERT_TRUE(begins_again(job)) << logs();
    printed("scancel " + job);
    ASSERT_TRUE(comes_true([&] { return property(job, "JobState") == "CANCELLED"; })) << logs();
    ASSERT_TRUE(comes_true([&] { return test::training_processes(ledger()).empty(); }));
    EXPECT_EQ(property(job, "Restarts"), "1");  // it is not queued again
    const std::string next = submit();
    EXPECT_TRUE(completes(next)) << logs();
    EXPECT_EQ(story(ledger()) == expected, true);
}

TEST(BatchScript, IsRefusedWhenItCannotWork) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(2));
    const auto refused = [&](std::vector<std::string> options) {
        options.insert(options.begin(), {"slurm", "plan.toml"});
        const test::CommandResult result = run_jevrin(options, {.directory = directory.path()});
        EXPECT_EQ(result.status, 2);
        return result.errors;
    };
    EXPECT_THAT(refused({"--ranks", "2", "--array", "2"}), HasSubstr("name one of them"));
    EXPECT_THAT(refused({"--hours", "0.05", "--lead", "600"}), HasSubstr("no longer than"));
    EXPECT_THAT(refused({"--option", "partition=a\nrm -rf"}), HasSubstr("one line"));
    EXPECT_FALSE(std::filesystem::exists(directory / "plan.sbatch"));
    write_file(directory / "plan.sbatch", "mine");
    EXPECT_THAT(refused({}), HasSubstr("not overwritten"));
    EXPECT_EQ(read_text(directory / "plan.sbatch"), "mine");
}

TEST(BatchScript, NamesBecomeNoCode) {
    const TemporaryDirectory directory;
    const std::filesystem::path odd = directory / "a 'b' $(touch c)";
    std::filesystem::create_directory(odd);
    std::string plan = small_plan(2);
    plan.replace(plan.find("name = \""), plan.find('\n', plan.find("name = \"")) - plan.find("name = \""),
                 "name = \"x; touch d\"");
    write_small_study(odd, plan);
    ASSERT_EQ(run_jevrin({"slurm", "plan.toml", "--ledger", "l 'x'", "--array", "2", "--threads", "2"},
                         {.directory = odd})
                  .status,
              0);
    // The script is run by the shell itself, without a scheduler.
    const std::string said = printed(fmt::format(
        "cd / && bash \"{}/$(printf %s \"a 'b' \\$(touch c)\")/plan.sbatch\"", directory.path().string()));
    EXPECT_TRUE(Ledger::exists(odd / "l 'x'")) << said;
    for (const char* name : {"c", "d"})
        for (const std::filesystem::path& place : {odd, directory.path(), std::filesystem::path("/")})
            EXPECT_FALSE(std::filesystem::exists(place / name)) << place;
}

}  // namespace
}  // namespace jevrin
