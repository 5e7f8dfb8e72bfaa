// A study under mpirun: real processes, real signals, real kills.
#include "jobs/job.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/mpi/job.hpp"
#include "jevrin/study/study.hpp"

#include <dlfcn.h>
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <chrono>
#include <cmath>
#include <cstdlib>
#include <fstream>
#include <iterator>
#include <random>
#include <sstream>
#include <thread>

namespace jevrin {
namespace {

using test::comes_true;
using test::Job;
using test::run_jevrin;
using test::small_plan;
using test::story;
using test::TemporaryDirectory;
using test::training_processes;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;

class UnderMpi : public testing::Test {
  protected:
    void SetUp() override {
        if (JEVRIN_MPI == 0) GTEST_SKIP() << "this build has no MPI (JEVRIN_MPI=OFF)";
        if (!test::is_installed("mpirun")) GTEST_SKIP() << "mpirun is not installed (openmpi-bin)";
    }
    // Writes the study and trains it in one process.
    std::string story_of_one(const std::string& text) {
        train_study(read_plan(write_small_study(directory_.path(), text)), directory_ / "one", {},
                    {.at_once = 1});
        return story(directory_ / "one");
    }
    std::filesystem::path ledger() const { return directory_ / "ledger"; }
    std::string train(const std::string& options = "") const {
        return fmt::format("{} train plan.toml --threads 1 --ledger {} {}", JEVRIN_PROGRAM, ledger().string(),
                           options);
    }
    bool has_epochs() const {
        const std::filesystem::path checkpoints = ledger() / "checkpoints";
        return std::filesystem::exists(checkpoints) && !std::filesystem::is_empty(checkpoints);
    }

    TemporaryDirectory directory_;
};

TEST_F(UnderMpi, AStudyIsSpreadAndTheRecordsAreThoseOfOneProcess) {
    const std::string expected = story_of_one(small_plan(3));
    Job job(directory_.path(), "mpirun -n 3 " + train());
    EXPECT_EQ(job.wait(), 0) << job.output();
    EXPECT_EQ(story(ledger()) == expected, true);
    EXPECT_THAT(job.output(),
                AllOf(HasSubstr("6 runs to train, on 3 ranks"), HasSubstr("6 of 6 runs finished")));
    // Once more there is nothing to do.
    Job again(directory_.path(), "mpirun -n 2 " + train());
    EXPECT_EQ(again.wait(), 0) << again.output();
    EXPECT_THAT(again.output(), HasSubstr("0 runs trained, 6 already finished"));
}

TEST_F(UnderMpi, ASignalSavesAllAndAnotherNumberOfRanksGoesOn) {
    const std::string expected = story_of_one(small_plan(30, "", "[1, 2]"));
    Job job(directory_.path(), "mpirun -n 3 " + train());
    ASSERT_TRUE(comes_true([&] { return has_epochs(); })) << job.output();
    job.signal(SIGUSR1);  // mpirun passes it on
    EXPECT_EQ(job.wait(), 130) << job.output();
    EXPECT_THAT(job.output(), HasSubstr("the same command continues training"));
    EXPECT_TRUE(has_epochs());
    Job rest(directory_.path(), "mpirun -n 2 " + train());
    EXPECT_EQ(rest.wait(), 0) << rest.output();
    EXPECT_THAT(rest.output(), HasSubstr("resumed after epoch"));
    EXPECT_EQ(story(ledger()) == expected, true);
}

// One rank is killed, or mpirun with all of them, again and again. JEVRIN_KILLS says how often.
TEST_F(UnderMpi, KilledAgainAndAgainItEndsAsIfUndisturbed) {
    const char* stated = std::getenv("JEVRIN_KILLS");
    const int kills = stated == nullptr ? 5 : std::atoi(stated);
    const std::string expected = story_of_one(small_plan(40 + 12 * kills, "", "[1, 2]"));
    std::minstd_rand random(7);
    int killed = 0;
    for (int start = 0; start < 4 * kills + 10; ++start) {
        Job job(directory_.path(), "mpirun -n 3 " + train());
        if (killed < kills) {
            std::this_thread::sleep_for(std::chrono::milliseconds(250 + random() % 500));
            const std::vector<int> ranks = training_processes(ledger());
            if (job.is_running() && !ranks.empty()) {
                ++killed;
                if (random() % 3 == 0) {
                    job.signal(SIGKILL);
                    for (const int rank : ranks) ::kill(rank, SIGKILL);
                } else {
                    ::kill(ranks[random() % ranks.size()], SIGKILL);
                }
            }
        }
        if (job.wait() == 0) break;
        ASSERT_TRUE(comes_true([&] { return training_processes(ledger()).empty(); }));
    }
    EXPECT_EQ(killed, kills);
    EXPECT_EQ(story(ledger()) == expected, true);
}

// A machine that has nothing but the program: no plan, no images, no backbone, no ledger.
TEST_F(UnderMpi, ARankOnABareMachineGetsAllFromRankZero) {
    if (::geteuid() != 0 || std::system("unshare -m true 2> /dev/null") != 0)
        GTEST_SKIP() << "hiding files from one process needs root and 'unshare'";
    const std::string expected = story_of_one(small_plan(3));
    write_file(directory_ / "bare.sh",
               fmt::format("#!/bin/sh\n"
                           "mount -t tmpfs none images\n"
                           "for file in plan.toml backbone.onnx; do mount --bind /dev/null $file; done\n"
                           "exec {} train plan.toml --threads 1 --ledger {}\n",
                           JEVRIN_PROGRAM, (directory_ / "bare").string()));
    Job job(directory_.path(), fmt::format("mpirun -n 1 {} : -n 1 unshare -m sh bare.sh", train()));
    EXPECT_EQ(job.wait(), 0) << job.output();
    EXPECT_THAT(job.output(),
                HasSubstr("images are missing on this machine, or are others; they came from rank 0"));
    EXPECT_EQ(story(ledger()) == expected, true);
    EXPECT_FALSE(Ledger::exists(directory_ / "bare"));
}

TEST_F(UnderMpi, AFullDiskOfRankZeroEndsTheJobAndLosesNothing) {
    const auto mount = [&](const std::string& options) {
        return std::system(
            fmt::format("mount {} none '{}' 2> /dev/null", options, ledger().string()).c_str());
    };
    const std::string expected = story_of_one(small_plan(20));
    std::filesystem::create_directory(ledger());
    if (mount("-t tmpfs -o size=500k") != 0) GTEST_SKIP() << "a small disk needs the right to mount one";
    Job job(directory_.path(), "mpirun -n 3 " + train());
    EXPECT_NE(job.wait(), 0);
    EXPECT_THAT(job.output(), HasSubstr("disk is full")) << job.output();
    mount("-o remount,size=50m");
    Job rest(directory_.path(), "mpirun -n 3 " + train());
    EXPECT_EQ(rest.wait(), 0) << rest.output();
    EXPECT_EQ(story(ledger()) == expected, true);
    std::system(fmt::format("umount '{}'", ledger().string()).c_str());
}

TEST_F(UnderMpi, ARankThatHangsEndsTheJobAsAFailedOne) {
    write_small_study(directory_.path(), small_plan(200));
    Job job(directory_.path(), "mpirun -n 2 " + train("--rank-timeout 2"));
    ASSERT_TRUE(comes_true([&] { return has_epochs(); })) << job.output();
    int stopped = 0;
    for (const int process : training_processes(ledger())) {
        std::ifstream file(fmt::format("/proc/{}/environ", process));
        const std::string environment(std::istreambuf_iterator<char>(file), {});
        if (environment.find("OMPI_COMM_WORLD_RANK=1") != std::string::npos)
            stopped += ::kill(process, SIGSTOP) == 0 ? 1 : 0;
    }
    ASSERT_EQ(stopped, 1);
    EXPECT_EQ(job.wait(), 1) << job.output();
    EXPECT_THAT(job.output(), HasSubstr("has not been heard of for 2 seconds"));
    EXPECT_TRUE(comes_true([&] { return training_processes(ledger()).empty(); }));
}

// Seconds that a process has had a processor.
double processor_seconds(int process) {
    std::ifstream file(fmt::format("/proc/{}/stat", process));
    std::string text(std::istreambuf_iterator<char>(file), {});
    std::istringstream fields(text.substr(text.rfind(')') + 1));
    std::string skipped;
    for (int i = 0; i < 11; ++i) fields >> skipped;
    double user = 0;
    double system = 0;
    fields >> user >> system;
    return (user + system) / static_cast<double>(::sysconf(_SC_CLK_TCK));
}

TEST_F(UnderMpi, ARankWithoutWorkLeavesTheProcessorToOthers) {
    write_small_study(directory_.path(), small_plan(5000, "", "[1]"));
    Job job(directory_.path(), "mpirun -n 2 " + train("--only 'from scratch'"));
    ASSERT_TRUE(comes_true([&] { return has_epochs(); })) << job.output();
    const std::vector<int> ranks = training_processes(ledger());
    ASSERT_EQ(ranks.size(), 2U);
    const auto used = [&] { return std::pair(processor_seconds(ranks[0]), processor_seconds(ranks[1])); };
    const auto before = used();
    std::this_thread::sleep_for(std::chrono::seconds(1));
    const auto after = used();
    const double first = after.first - before.first;
    const double second = after.second - before.second;
    EXPECT_LT(std::min(first, second), 0.2);
    EXPECT_GT(std::max(first, second), std::min(first, second));
    job.signal(SIGTERM);
    job.wait();
}

TEST_F(UnderMpi, RunsThatRanksTrainTogetherAreTheSameBits) {
    const std::string expected = story_of_one(small_plan(2, "shards = 4", "[1]"));
    for (const auto& [ranks, of_run] : {std::pair(2, 2), std::pair(4, 2)}) {
        std::filesystem::remove_all(ledger());
        Job job(directory_.path(),
                fmt::format("mpirun -n {} {}", ranks, train(fmt::format("--ranks-per-run {}", of_run))));
        EXPECT_EQ(job.wait(), 0) << job.output();
        EXPECT_EQ(story(ledger()) == expected, true) << ranks << " " << of_run;
    }
    Job odd(directory_.path(), "mpirun -n 3 " + train("--ranks-per-run 2"));
    EXPECT_EQ(odd.wait(), 2);
    EXPECT_THAT(odd.output(), HasSubstr("must be a multiple"));
}

TEST_F(UnderMpi, APlanThatIsWrongEndsTheJobAtOnce) {
    write_small_study(directory_.path(), "name = \"x\"\nwrong = 1\n");
    Job job(directory_.path(), "mpirun -n 3 " + train());
    EXPECT_EQ(job.wait(), 2) << job.output();
    EXPECT_THAT(job.output(), HasSubstr("plan.toml:"));
    write_small_study(directory_.path(), small_plan(2));
    Job unknown(directory_.path(), "mpirun -n 3 " + train("--only nobody"));
    EXPECT_EQ(unknown.wait(), 2) << unknown.output();
    EXPECT_THAT(unknown.output(), HasSubstr("no candidate or run of the plan is called 'nobody'"));
}

TEST_F(UnderMpi, TwoJobsOnOneLedgerShareTheWork) {
    const std::string expected = story_of_one(small_plan(20));
    Job one(directory_.path(), "mpirun -n 2 " + train(), "one.log");
    Job two(directory_.path(), "mpirun -n 2 " + train(), "two.log");
    EXPECT_EQ(one.wait(), 0) << one.output();
    EXPECT_EQ(two.wait(), 0) << two.output();
    EXPECT_EQ(story(ledger()) == expected, true);
}

// Two machines, as two network namespaces, and the cable between them is cut.
class TwoMachines : public UnderMpi {
  protected:
    void SetUp() override {
        UnderMpi::SetUp();
        if (IsSkipped()) return;
        if (::geteuid() != 0 || !test::is_installed("ip") || system("ip netns add " + a_) != 0)
            GTEST_SKIP() << "network namespaces need root and 'ip' (iproute2)";
        made_ = true;
        ASSERT_EQ(system(fmt::format(
                      "ip netns add {1} && ip link add va netns {0} type veth peer name vb netns {1} && "
                      "ip -n {0} addr add 10.77.0.1/24 dev va && ip -n {1} addr add 10.77.0.2/24 dev vb && "
                      "ip -n {0} link set va up && ip -n {1} link set vb up && ip -n {0} link set lo up && "
                      "ip -n {1} link set lo up",
                      a_, b_)),
                  0);
        // What mpirun starts a program on another machine with.
        write_file(
            directory_ / "remote.sh",
            fmt::format(
                "#!/bin/sh\nshift\nexec ip netns exec {} unshare -u sh -c \"hostname machine-b; $*\"\n", b_));
        std::filesystem::permissions(directory_ / "remote.sh", std::filesystem::perms::owner_all);
    }
    void TearDown() override {
        if (made_) system(fmt::format("ip netns del {}; ip netns del {}", a_, b_));
    }
    static int system(const std::string& command) { return std::system((command + " 2> /dev/null").c_str()); }
    // The arguments of mpirun, which runs on machine a.
    std::string machines(const std::string& command) const {
        return fmt::format(
            "--mca plm_rsh_agent {} --mca plm_rsh_no_tree_spawn 1 --mca btl tcp,self "
            "--mca oob_tcp_keepalive_time 5 --mca oob_tcp_keepalive_intvl 1 --mca oob_tcp_keepalive_probes 2 "
            "--mca oob_tcp_if_include 10.77.0.0/24 --mca btl_tcp_if_include 10.77.0.0/24 "
            "--host 10.77.0.1:1,10.77.0.2:1 -n 2 {}",
            (directory_ / "remote.sh").string(), command);
    }
    // A script that runs mpirun on machine a, since the job begins there.
    Job job(const std::string& command) {
        write_file(directory_ / "mpirun",
                   fmt::format("#!/bin/sh\nexec ip netns exec {} unshare -u sh -c 'hostname machine-a; "
                               "exec mpirun {}'\n",
                               a_, machines(command)));
        return Job(directory_.path(), "sh ./mpirun");
    }
    void cut() const { system(fmt::format("ip -n {} link set va down", a_)); }
    void mend() const { system(fmt::format("ip -n {} link set va up", a_)); }

    std::string a_ = fmt::format("jva{}", ::getpid());
    std::string b_ = fmt::format("jvb{}", ::getpid());
    bool made_ = false;
};

TEST_F(TwoMachines, ACutNetworkEndsTheJobAndNothingIsLost) {
    const std::string expected = story_of_one(small_plan(40, "", "[1, 2]"));
    {
        Job first = job(train("--rank-timeout 3"));
        ASSERT_TRUE(comes_true([&] { return has_epochs(); })) << first.output();
        cut();
        ASSERT_TRUE(comes_true([&] { return training_processes(ledger()).empty(); })) << first.output();
        EXPECT_THAT(first.output(), HasSubstr("rank 1 on machine-b has not been heard of for 3 seconds"));
        // mpirun itself now and then waits for ever for its helper behind the cut.
        if (!comes_true([&] { return !first.is_running(); }, 10.0)) first.signal(SIGKILL);
        EXPECT_NE(first.wait(), 0) << first.output();
    }
    mend();
    Job second = job(train());
    EXPECT_EQ(second.wait(), 0) << second.output();
    EXPECT_EQ(story(ledger()) == expected, true);
}

// Four ranks that run this test, started by the process that is none.
TEST_F(UnderMpi, MessagesOfAnyLengthArriveWholeAndEveryRankIsHeard) {
    const std::unique_ptr<Ranks> ranks = join_job();
    if (!ranks) {
        Job job(directory_.path(), fmt::format("mpirun -n 4 {} --gtest_filter=UnderMpi.MessagesOfAnyLength*",
                                               std::filesystem::read_symlink("/proc/self/exe").string()));
        EXPECT_EQ(job.wait(), 0) << job.output();
        return;
    }
    ASSERT_EQ(ranks->size(), 4);
    EXPECT_EQ(ranks->on_this_machine(), 4);
    const int rank = ranks->rank();
    // More than MPI takes in one call here, and less.
    constexpr std::size_t large = (std::size_t{1} << 28) + 1000;
    std::string block(1'000'003, '\0');
    for (std::size_t i = 0; i < block.size(); ++i) block[i] = static_cast<char>(i * 7 + (i >> 12));
    std::string message;
    while (message.size() < large) message.append(block, 0, std::min(block.size(), large - message.size()));
    if (rank > 0) {
        for (const char* words : {"first", "", "third"}) ranks->send(0, words);
        if (rank == 3) ranks->send(0, message);
    }
    // Nobody goes on before all have sent.
    const std::unique_ptr<ShardLink> link = ranks->divide(2);
    EXPECT_EQ(link->size(), 2);
    EXPECT_EQ(link->rank(), rank % 2);
    if (rank == 0) {
        // In turns, and those of one rank in their order.
        for (const char* words : {"first", "", "third"})
            for (const int from : {1, 2, 3}) {
                const std::optional<Ranks::Bytes> next = ranks->receive(std::chrono::seconds(60));
                ASSERT_TRUE(next);
                EXPECT_EQ(next->from, from);
                EXPECT_EQ(next->bytes, words);
            }
        const std::optional<Ranks::Bytes> last = ranks->receive(std::chrono::seconds(60));
        ASSERT_TRUE(last);
        EXPECT_EQ(last->from, 3);
        EXPECT_EQ(last->bytes == message, true);
        EXPECT_FALSE(ranks->receive(std::chrono::milliseconds(1)));
    }
    if (link->rank() == 0) {
        link->send(1, 5, std::as_bytes(std::span(message)));
        link->send(1, 5, {});
    } else {
        std::string received(large, '\0');
        link->receive(0, 5, std::as_writable_bytes(std::span(received)));
        link->receive(0, 5, {});
        EXPECT_EQ(received == message, true);
    }
    link->give_up();
    std::byte never{};
    EXPECT_THROW(link->receive(1 - link->rank(), 6, {&never, 1}), WorkError);
}

TEST(WithoutMpi, AMissingModuleIsSaidAndHowToGoOn) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(2));
    // A copy of the program alone, as if only it had been installed.
    std::filesystem::create_directories(directory / "bin");
    std::filesystem::copy_file(JEVRIN_PROGRAM, directory / "bin/jevrin");
    const auto errors_of_a_rank = [&] {
        const test::CommandResult result =
            run_jevrin({"train", "plan.toml"}, {.directory = directory.path(),
                                                .environment = {{"PMIX_RANK", "0"}},
                                                .program = directory / "bin/jevrin"});
        EXPECT_EQ(result.status, 2);
        EXPECT_THAT(result.errors, HasSubstr("start the command without mpirun"));
        return result.errors;
    };
    EXPECT_THAT(errors_of_a_rank(), HasSubstr("jevrin-mpi.so is not installed"));
    const std::filesystem::path module = directory / "lib/jevrin/jevrin-mpi.so";
    std::filesystem::create_directories(module.parent_path());
    write_file(module, "half of a module");
    EXPECT_THAT(errors_of_a_rank(), HasSubstr("jevrin-mpi.so: file too short"));
    // The library of mathematics stands for a module of another version.
    Dl_info library{};
    ASSERT_NE(::dladdr(reinterpret_cast<void*>(static_cast<double (*)(double)>(&std::lgamma)), &library), 0);
    std::filesystem::copy_file(library.dli_fname, module, std::filesystem::copy_options::overwrite_existing);
    EXPECT_THAT(errors_of_a_rank(), HasSubstr("jevrin-mpi.so is of another version of Jevrin"));
    EXPECT_FALSE(std::filesystem::exists(directory / "ledger"));
    // Started alone it needs none.
    EXPECT_EQ(run_jevrin({"train", "plan.toml"},
                         {.directory = directory.path(), .program = directory / "bin/jevrin"})
                  .status,
              0);
}

}  // namespace
}  // namespace jevrin
