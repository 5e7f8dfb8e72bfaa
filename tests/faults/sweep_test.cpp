// One call that touches a file fails, or the process dies at it: whatever the place, nothing finished is
// lost, no output is cut, and the same command again ends as it would have. JEVRIN_SWEEP=N tries N places of
// each kind instead of three; 0 tries all of them.
#include "faults/tiny_plan.hpp"
#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <fmt/format.h>

#include <cerrno>
#include <cstdlib>
#include <set>

namespace jevrin {
namespace {

using test::CommandResult;
using test::run_jevrin;
using test::TemporaryDirectory;

namespace fs = std::filesystem;

// The files with which a scenario begins.
void write_study(const fs::path& directory) {
    test::write_small_set(directory / "images", {"across", "both", "down"}, 8);
    write_file(directory / "plan.toml", test::tiny_plan("small"));
}

CommandResult train(const fs::path& directory, const std::string& ledger) {
    return run_jevrin({"train", "plan.toml", "--ledger", ledger}, {.directory = directory});
}

struct Scenario {
    std::string name;
    std::function<void(const fs::path& directory)> prepare;
    std::vector<std::string> command;
    // What the command makes, as text to compare; the directory's state whether it succeeded or not.
    std::function<std::string(const fs::path& directory)> outcome;
    // Where calls fail: an image that cannot be read is left out with a warning, which makes another study.
    std::string under = "ledger";
    bool whole_or_old = false;  // outcome() is that of the beginning or the end, never between
};

std::string text_of(const fs::path& file) {
    return fs::exists(file) ? read_text(file) : "none";
}

std::string names_of_runs(const fs::path& directory) {
    const Ledger ledger = Ledger::open(directory / "ledger");
    std::string names;
    for (const std::string& study : ledger.study_names())
        for (const RunRecord& run : ledger.runs(ledger.study(study).id))
            names += fmt::format("{} {} {} {}\n", study, run.name(), name_of(run.state),
                                 ledger.predictions(run.id, Part::validation).size());
    return names;
}

const std::vector<Scenario>& scenarios() {
    static const std::vector<Scenario> all = {
        {"train",
         write_study,
         {"train", "plan.toml", "--retry"},
         [](const fs::path& directory) { return test::story(directory / "ledger"); }},
        {"migrate",
         [](const fs::path& directory) {
             const fs::path kept = fs::path(JEVRIN_SOURCE_DIRECTORY) / "tests/ledger/versions";
             fs::copy(kept / "images", directory / "images", fs::copy_options::recursive);
             fs::copy(kept / "backbone.onnx", directory / "backbone.onnx");
             fs::copy(kept / "plan-4.toml", directory / "plan.toml");
             fs::copy(kept / "9", directory / "ledger", fs::copy_options::recursive);
         },
         {"train", "plan.toml"},
         names_of_runs},
        {"merge",
         [](const fs::path& directory) {
             write_study(directory);
             train(directory, "ledger");
             write_file(directory / "plan.toml", test::tiny_plan("second"));
             train(directory, "other");
         },
         {"ledger", "merge", "other"},
         [](const fs::path& directory) {
             return names_of_runs(directory) + text_of(directory / "ledger/models/run-2.onnx");
         }},
        {"delete",
         [](const fs::path& directory) {
             write_study(directory);
             train(directory, "ledger");
         },
         {"ledger", "delete", "tiny/1", "--yes"},
         names_of_runs},
        {"export",
         [](const fs::path& directory) {
             write_study(directory);
             train(directory, "ledger");
             write_file(directory / "out.onnx", "before");
         },
         {"export", "tiny/1", "out.onnx", "--replace"},
         [](const fs::path& directory) { return text_of(directory / "out.onnx"); },
         "",
         true},
        {"table",
         [](const fs::path& directory) {
             write_study(directory);
             train(directory, "ledger");
             write_file(directory / "out.csv", "before");
         },
         {"curves", "--csv", "out.csv"},
         [](const fs::path& directory) { return text_of(directory / "out.csv"); },
         "",
         true},
        {"figure",
         [](const fs::path& directory) {
             write_study(directory);
             train(directory, "ledger");
             write_file(directory / "out.png", "before");
         },
         {"curves", "--figure", "out.png"},
         [](const fs::path& directory) { return text_of(directory / "out.png"); },
         "",
         true},
    };
    return all;
}

// Places in 1..count: all, or some that are spread evenly.
std::vector<long> places(long count) {
    const char* stated = std::getenv("JEVRIN_SWEEP");
    const long wanted = stated == nullptr ? 3 : std::atol(stated);
    std::set<long> chosen;
    if (wanted <= 0 || wanted >= count)
        for (long place = 1; place <= count; ++place) chosen.insert(place);
    else
        for (long k = 0; k < wanted; ++k) chosen.insert(1 + (2 * k + 1) * count / (2 * wanted));
    return {chosen.begin(), chosen.end()};
}

struct Fault {
    std::string calls;
    std::string act;
    int error = ENOSPC;
};

class Sweep : public testing::TestWithParam<std::size_t> {
  protected:
    void SetUp() override {
        if (std::string(JEVRIN_SANITIZED) != "") GTEST_SKIP() << "the sanitizer must be loaded first itself";
        fs::create_directories(kept_ / "start");
        scenario_.prepare(kept_ / "start");
    }
    // A fresh copy of the beginning.
    fs::path begin() {
        const fs::path directory = kept_ / "now";
        fs::remove_all(directory);
        fs::copy(kept_ / "start", directory, fs::copy_options::recursive);
        return directory;
    }
    CommandResult run(const fs::path& directory, const Fault& fault, long at) const {
        return run_jevrin(
            scenario_.command,
            {.directory = directory,
             .environment = {{"LD_PRELOAD", JEVRIN_FAILING_CALLS},
                             {"JEVRIN_FAULT_CALLS", fault.calls},
                             {"JEVRIN_FAULT_UNDER", (fs::canonical(directory) / scenario_.under).string()},
                             {"JEVRIN_FAULT_AT", std::to_string(at)},
                             {"JEVRIN_FAULT_ACT", fault.act},
                             {"JEVRIN_FAULT_ERROR", std::to_string(fault.error)},
                             {"JEVRIN_FAULT_COUNT", (kept_ / "count").string()}}});
    }
    void sweep(const Fault& fault, const std::string& before, const std::string& after) {
        ASSERT_EQ(run(begin(), fault, 0).status, 0);
        const long count = std::stol(read_text(kept_ / "count"));
        for (const long place : places(count)) {
            SCOPED_TRACE(
                fmt::format("{}: {} {} of {} {}", scenario_.name, fault.act, place, count, fault.calls));
            const fs::path directory = begin();
            const CommandResult hit = run(directory, fault, place);
            const bool killed = fault.act == "kill";
            EXPECT_THAT(hit.status, killed ? testing::Matcher<int>(testing::AnyOf(0, 128 + SIGKILL))
                                           : testing::Matcher<int>(testing::AnyOf(0, 1, 2)))
                << hit.errors;
            EXPECT_TRUE(hit.status == 0 || killed || !hit.errors.empty());
            if (fault.calls == "read") {
                EXPECT_THAT(hit.errors, testing::Not(testing::HasSubstr("damaged")));
            }
            if (scenario_.whole_or_old) {
                EXPECT_THAT(scenario_.outcome(directory),
                            testing::AnyOf(testing::StrEq(before), testing::StrEq(after)));
            }
            const CommandResult again = run_jevrin(scenario_.command, {.directory = directory});
            // What was deleted already cannot be deleted again.
            EXPECT_EQ(again.status == 2 && scenario_.name == "delete" ? 0 : again.status, 0) << again.errors;
            EXPECT_EQ(scenario_.outcome(directory), after);
            for (const auto& entry : fs::recursive_directory_iterator(directory)) {
                EXPECT_FALSE(entry.path().filename().string().starts_with(".jevrin-")) << entry.path();
            }
        }
    }

    const Scenario& scenario_ = scenarios()[GetParam()];
    TemporaryDirectory kept_;
};

TEST_P(Sweep, NothingIsLostWhateverCallFailsOrKills) {
    test::ignore_messages();  // of whichever call fails
    const fs::path directory = begin();
    const std::string before = scenario_.whole_or_old ? scenario_.outcome(directory) : "";
    const CommandResult whole = run_jevrin(scenario_.command, {.directory = directory});
    ASSERT_EQ(whole.status, 0) << whole.errors;
    const std::string after = scenario_.outcome(directory);
    for (const char* calls : {"write", "sync", "rename", "open", "make"}) {
        sweep({.calls = calls, .act = "fail"}, before, after);
        sweep({.calls = calls, .act = "kill"}, before, after);
    }
    sweep({.calls = "read", .act = "fail", .error = EIO}, before, after);
    sweep({.calls = "write", .act = "delay"}, before, after);
}

INSTANTIATE_TEST_SUITE_P(Scenarios, Sweep, testing::Range(std::size_t{0}, scenarios().size()),
                         [](const auto& test) { return scenarios()[test.param].name; });

}  // namespace
}  // namespace jevrin
