// The script of a batch job from a check whose numbers are stated: its estimate, its memory, its lines.
#include "jevrin/study/batch_script.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class StatedBatchScript : public testing::Test {
  protected:
    void SetUp() override {
        set_threads(2);
        plan_.name = "glaze faults, again";
        // Two runs of each: the longest one takes 100 seconds on two threads.
        check_.candidates = {{.candidate = "a",
                              .memory_bytes = 700'000'000,
                              .runs = 2,
                              .epochs = 10,
                              .epoch = {.products = 8.0},
                              .seconds_once = 20.0},
                             {.candidate = "b",
                              .memory_bytes = 3'000'000'000,
                              .runs = 2,
                              .epochs = 5,
                              .epoch = {.products = 4.0}}};
        check_.runs = 4;
        check_.seconds = 240.0;
    }
    BatchScript script(BatchScriptSettings settings) const {
        settings.directory = "/my studies";
        settings.command = {"jevrin", "train", "it's.toml"};
        return slurm_script(plan_, check_, settings);
    }

    Plan plan_;
    PlanCheck check_;
};

TEST_F(StatedBatchScript, AsksForTheMemoryAndTheTimeOfItsRuns) {
    const BatchScript of_ranks = script({});
    EXPECT_EQ(of_ranks.processes, 4);
    // Beside what a process holds in any case, the largest run.
    const std::int64_t base = of_ranks.bytes - 3'000'000'000;
    EXPECT_GT(base, 0);
    EXPECT_DOUBLE_EQ(of_ranks.seconds, 200.0);  // the longest run, on one thread
    EXPECT_EQ(of_ranks.limit, 10);
    EXPECT_THAT(
        of_ranks.text,
        AllOf(HasSubstr("#SBATCH --job-name=glaze-faults--again\n"), HasSubstr("#SBATCH --ntasks=4\n"),
              HasSubstr("#SBATCH --cpus-per-task=1\n"),
              HasSubstr(fmt::format("#SBATCH --mem-per-cpu={}M\n", of_ranks.bytes / 1'000'000 + 1)),
              HasSubstr("#SBATCH --time=10\n"), HasSubstr("#SBATCH --signal=B:USR1@120\n"),
              HasSubstr("4 runs, on 4 ranks of an MPI job."), HasSubstr("cd '/my studies' || exit 1\n"),
              HasSubstr("\nmpirun 'jevrin' 'train' 'it'\\''s.toml' &\n"), Not(HasSubstr("--array"))));
    // Two runs at once in one process of four threads, whose memory is asked for by the processor.
    const BatchScript one = script({.ranks = 2, .threads = 4});
    EXPECT_EQ(one.bytes, base + 2 * 3'000'000'000);
    EXPECT_DOUBLE_EQ(one.seconds, 200.0 / 4 * 2);
    EXPECT_THAT(one.text,
                AllOf(HasSubstr("#SBATCH --cpus-per-task=4\n"),
                      HasSubstr(fmt::format("#SBATCH --mem-per-cpu={}M\n", one.bytes / 4'000'000 + 1))));
    // All runs one after the other.
    EXPECT_DOUBLE_EQ(script({.ranks = 1}).seconds, 480.0);
    EXPECT_EQ(script({.ranks = 1}).limit, 20);  // twice that, in steps of five minutes
    EXPECT_EQ(script({.ranks = 1}).bytes, base + 3'000'000'000);
}

TEST_F(StatedBatchScript, OfAnArrayHasNoLauncher) {
    const BatchScript array = script(
        {.array = 3, .hours = 0.5, .lead = 60, .options = {"partition=small"}, .setup = {"module load x"}});
    EXPECT_EQ(array.processes, 3);
    EXPECT_EQ(array.limit, 30);
    EXPECT_THAT(array.text, AllOf(HasSubstr("#SBATCH --array=1-3\n#SBATCH --ntasks=1\n"),
                                  HasSubstr("#SBATCH --time=30\n"), HasSubstr("#SBATCH --signal=B:USR1@60\n"),
                                  HasSubstr("%A-%a.log\n"), HasSubstr("#SBATCH --partition=small\n"),
                                  HasSubstr("exit 1\nmodule load x\n"),
                                  HasSubstr("4 runs, by 3 tasks that share the ledger."),
                                  HasSubstr("\n'jevrin' 'train' "), Not(HasSubstr("mpirun"))));
}

TEST_F(StatedBatchScript, NeedsMoreTimeThanItLeavesForSaving) {
    EXPECT_NO_THROW(script({.hours = 2.0 / 60 + 0.01}));
    EXPECT_THAT(message_of<InputError>([&] { script({.hours = 2.0 / 60}); }),
                HasSubstr("the time limit of 2 min 0 s is no longer than the 2 min 0 s before it"));
    EXPECT_EQ(script({.hours = 0.001, .lead = 0}).limit, 1);
    for (BatchScriptSettings bad :
         {BatchScriptSettings{.launch = ""}, BatchScriptSettings{.options = {"a\nb"}},
          BatchScriptSettings{.setup = {""}}})
        EXPECT_THAT(message_of<InputError>([&] { script(bad); }), HasSubstr("one line of text"));
}

}  // namespace
}  // namespace jevrin
