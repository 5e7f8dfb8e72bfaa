// Stopping, sharing and repeating: what a user does to a running study.
#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <fmt/format.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <sstream>
#include <thread>

namespace jevrin {
namespace {

using test::CommandResult;
using test::run_jevrin;
using test::small_plan;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;

// Runs the tool and sends it a signal once a condition holds.
CommandResult run_and_signal(const std::filesystem::path& directory, int signal,
                             const std::function<bool()>& when) {
    test::CommandOptions options{.directory = directory};
    CommandResult result;
    std::thread runner([&] { result = run_jevrin({"train", "plan.toml"}, options); });
    for (int i = 0; i < 2000 && !when(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    // The tool is the only child of this process; any of its threads may be the parent.
    for (const auto& task : std::filesystem::directory_iterator("/proc/self/task")) {
        const std::filesystem::path list = task.path() / "children";
        FILE* file = std::fopen(list.c_str(), "r");
        int child = 0;
        while (file != nullptr && std::fscanf(file, "%d", &child) == 1) ::kill(child, signal);
        if (file != nullptr) std::fclose(file);
    }
    runner.join();
    return result;
}

std::string weights(const std::filesystem::path& ledger) {
    std::string all;
    for (int run = 1; run <= 3; ++run) all += read_text(ledger / "models" / fmt::format("run-{}.onnx", run));
    return all;
}

TEST(Interruption, CtrlCKeepsFinishedEpochsAndSaysHowToGoOn) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(300, "", "[3]"));
    const auto checkpoint = directory.path() / "ledger" / "checkpoints" / "run-3.checkpoint";
    const CommandResult stopped =
        run_and_signal(directory.path(), SIGINT, [&] { return std::filesystem::exists(checkpoint); });
    EXPECT_EQ(stopped.status, 130) << stopped.output << stopped.errors;
    EXPECT_THAT(stopped.errors, AllOf(HasSubstr("completed epochs are saved in ledger"),
                                      HasSubstr("the same command continues training")));
    const Ledger ledger = Ledger::open(directory / "ledger");
    const auto runs = ledger.runs(ledger.study().id);
    std::int64_t kept = 0;
    for (const RunRecord& run : runs) kept += run.epochs;
    EXPECT_GT(kept, 0);
    const CommandResult status = run_jevrin({"runs"}, {.directory = directory.path()});
    EXPECT_THAT(status.output, HasSubstr("interrupted"));
}

TEST(Interruption, TerminatedInTheMiddleOfAnEpochItGoesOnBehindTheBatch) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(40, "augment = \"light\"", "[3]"));
    const test::CommandOptions here{.directory = directory.path()};
    ASSERT_EQ(run_jevrin({"train", "plan.toml", "--ledger", "whole"}, here).status, 0);
    const auto checkpoint = directory.path() / "ledger" / "checkpoints" / "run-3.checkpoint";
    const CommandResult stopped =
        run_and_signal(directory.path(), SIGTERM, [&] { return std::filesystem::exists(checkpoint); });
    EXPECT_EQ(stopped.status, 130) << stopped.output << stopped.errors;
    ASSERT_EQ(run_jevrin({"train", "plan.toml"}, here).status, 0);
    EXPECT_EQ(weights(directory / "ledger"), weights(directory / "whole"));
}

// JEVRIN_KILLS=200 does it as often as that.
TEST(Killing, AtRandomMomentsLosesNothingAndChangesNoBit) {
    const char* wanted = std::getenv("JEVRIN_KILLS");
    const int kills = wanted != nullptr ? std::atoi(wanted) : 10;
    const TemporaryDirectory directory;
    write_small_study(
        directory.path(),
        small_plan(25, "validate_every = 2\nema_decay = 0.9\noptimiser = { kind = \"adamw\" }", "[3]"));
    const test::CommandOptions here{.directory = directory.path()};
    ASSERT_EQ(run_jevrin({"train", "plan.toml", "--ledger", "whole"}, here).status, 0);
    const auto finish_and_compare = [&] {
        const CommandResult last = run_jevrin({"train", "plan.toml"}, here);
        ASSERT_EQ(last.status, 0) << last.errors;
        EXPECT_EQ(last.errors.find("damaged"), std::string::npos) << last.errors;
        EXPECT_EQ(weights(directory / "ledger"), weights(directory / "whole"));
        const Ledger ledger = Ledger::open(directory / "ledger");
        for (const RunRecord& run : ledger.runs(StudyId{1})) {
            EXPECT_EQ(run.state, RunState::finished);
            EXPECT_EQ(run.epochs, run.planned_epochs);
        }
    };
    RandomStream random({static_cast<std::uint64_t>(kills), Purpose::sample, 0, 0});
    for (int done = 0; done < kills;) {
        test::CommandOptions killed = here;
        killed.kill_after_seconds = random.uniform(0.02, 0.2);
        if (run_jevrin({"train", "plan.toml"}, killed).status == 128 + SIGKILL) {
            ++done;
            continue;
        }
        // It was faster: from the beginning.
        finish_and_compare();
        std::filesystem::remove_all(directory / "ledger");
    }
    finish_and_compare();
}

TEST(Sharing, TwoProcessesTrainEachRunOnce) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(12, "", "[3, 4]"));
    const test::CommandOptions here{.directory = directory.path()};
    ASSERT_EQ(run_jevrin({"train", "plan.toml", "--ledger", "whole"}, here).status, 0);
    CommandResult second;
    std::thread beside([&] { second = run_jevrin({"train", "plan.toml"}, here); });
    const CommandResult first = run_jevrin({"train", "plan.toml"}, here);
    beside.join();
    EXPECT_EQ(first.status, 0) << first.errors;
    EXPECT_EQ(second.status, 0) << second.errors;
    const Ledger ledger = Ledger::open(directory / "ledger");
    const Ledger whole = Ledger::open(directory / "whole");
    for (const RunRecord& run : ledger.runs(StudyId{1})) {
        EXPECT_EQ(run.state, RunState::finished) << run.name();
        const auto ended_in = [&](const CommandResult& result) {
            std::istringstream lines(result.output);
            for (std::string line; std::getline(lines, line);)
                if (line.starts_with(run.name()) && line.find("epoch  12/12") != std::string::npos)
                    return true;
            return false;
        };
        EXPECT_NE(ended_in(first), ended_in(second)) << run.name() << first.output << second.output;
        EXPECT_EQ(read_text(ledger.model_file(run.id)),
                  read_text(whole.model_file(whole.run(StudyId{1}, run.name()).id)));
    }
}

TEST(Threads, AnyNumberGivesTheSameModels) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(2, "augment = { flip = true, shift = 0.1 }", "[3]"));
    for (const char* threads : {"1", "2", "3", "5"}) {
        const CommandResult trained =
            run_jevrin({"train", "plan.toml", "--threads", threads, "--ledger", threads},
                       {.directory = directory.path()});
        ASSERT_EQ(trained.status, 0) << trained.errors;
        EXPECT_EQ(weights(directory / threads), weights(directory / "1")) << threads;
    }
    EXPECT_EQ(run_jevrin({"train", "plan.toml", "--threads", "0"}, {.directory = directory.path()}).status,
              2);
}

TEST(BadImages, AreWarnedAboutAndLeftOut) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(1, "", "[3]"));
    write_file(directory.path() / "images" / "both" / "empty.png", std::string());
    write_file(directory.path() / "images" / "both" / "text.jpg", std::string("text"));
    const CommandResult trained = run_jevrin({"train", "plan.toml"}, {.directory = directory.path()});
    EXPECT_EQ(trained.status, 0);
    EXPECT_THAT(trained.errors, AllOf(HasSubstr("2 unreadable images left out"),
                                      HasSubstr("both/empty.png: it is empty"), HasSubstr("both/text.jpg")));
}

// Changes a good study in one way and returns what training says; nothing may be written.
CommandResult train_after(const std::function<void(const std::filesystem::path&)>& change) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(1, "", "[3]"));
    change(directory.path());
    const CommandResult result = run_jevrin({"train", "plan.toml"}, {.directory = directory.path()});
    EXPECT_EQ(result.status, 2) << result.output;
    EXPECT_EQ(result.output, "");
    EXPECT_FALSE(std::filesystem::exists(directory / "ledger"));
    return result;
}

TEST(BadStudies, AreRefusedBeforeAnythingIsWritten) {
    EXPECT_THAT(train_after([](const auto& d) {
                    for (int i = 1; i < 12; ++i)
                        std::filesystem::remove(d / "images" / "down" /
                                                fmt::format("{:02}.{}", i, i % 2 ? "jpg" : "png"));
                }).errors,
                AllOf(HasSubstr("class 'down' has 1 image "), HasSubstr("add images")));
    EXPECT_THAT(
        train_after([](const auto& d) { std::filesystem::create_directory(d / "images" / "Down"); }).errors,
        HasSubstr("differ only by case"));
    EXPECT_THAT(
        train_after([](const auto& d) { write_file(d / "backbone.onnx", std::string("no model")); }).errors,
        HasSubstr("backbone.onnx: it is not an ONNX file"));
    EXPECT_THAT(train_after([](const auto& d) {
                    const std::string whole = read_text(d / "backbone.onnx");
                    write_file(d / "backbone.onnx", whole.substr(0, whole.size() / 3));
                }).errors,
                HasSubstr("backbone.onnx: "));
    EXPECT_THAT(train_after([](const auto& d) { std::filesystem::remove_all(d / "images"); }).errors,
                HasSubstr("'from' under [images] names"));
    EXPECT_THAT(train_after([](const auto& d) { std::filesystem::remove(d / "plan.toml"); }).errors,
                HasSubstr("plan.toml: cannot read"));
}

TEST(OddNames, OfClassesAndCandidatesTravelThroughTheWholeWay) {
    const TemporaryDirectory directory;
    const std::vector<std::string> classes = {"it's", "a \"b\" `c` $(d)", "caf\xc3\xa9 \xe9\x99\xb6"};
    test::write_small_set(directory / "images", classes, 12);
    test::write_small_backbone(directory / "backbone.onnx");
    std::string plan = small_plan(1, "", "[3]");
    plan.replace(plan.find("new head"), 8, "'; DROP $(x) `y`");
    write_file(directory / "plan.toml", plan);
    const test::CommandOptions here{.directory = directory.path()};
    ASSERT_EQ(run_jevrin({"train", "plan.toml"}, here).status, 0);
    const std::string run = "'; DROP $(x) `y`/3";
    const CommandResult matrix = run_jevrin({"confusion", run, "--figure", "m.svg"}, here);
    EXPECT_EQ(matrix.status, 0) << matrix.errors;
    EXPECT_THAT(matrix.output, AllOf(HasSubstr("caf\xc3\xa9 \xe9\x99\xb6"), HasSubstr("it's")));
    ASSERT_EQ(run_jevrin({"export", run, "m.onnx"}, here).status, 0);
    const CommandResult answer = run_jevrin({"classify", "m.onnx", "images/it's/00.png", "--top", "0"}, here);
    EXPECT_EQ(answer.status, 0) << answer.errors;
    for (const std::string& name : classes) EXPECT_THAT(answer.output, HasSubstr(name));
}

}  // namespace
}  // namespace jevrin
