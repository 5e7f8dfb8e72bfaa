// Where files, terminals, users and other programs begin: the tool run as it is run there.
#include "faults/tiny_plan.hpp"
#include "support/support.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/study.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <fstream>

namespace jevrin {
namespace {

using test::CommandOptions;
using test::CommandResult;
using test::run_jevrin;
using test::TemporaryDirectory;
using test::tiny_plan;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

namespace fs = std::filesystem;

// One trained study, made once; tests work on copies where they change it.
class Edges : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        made_ = std::make_unique<TemporaryDirectory>();
        test::write_small_set(*made_ / "images", {"across", "both", "down"}, 8);
        write_file(*made_ / "plan.toml", tiny_plan("small"));
        ASSERT_EQ(run_jevrin({"train", "plan.toml"}, {.directory = made_->path()}).status, 0);
    }
    static void TearDownTestSuite() { made_.reset(); }
    Edges() { fs::copy(made_->path(), directory_ / "work", fs::copy_options::recursive); }

    fs::path file(const std::string& name) const { return directory_ / "work" / name; }
    CommandResult run(const std::vector<std::string>& arguments, CommandOptions options = {}) const {
        options.directory = directory_ / "work";
        return run_jevrin(arguments, options);
    }

    TemporaryDirectory directory_;

  private:
    static inline std::unique_ptr<TemporaryDirectory> made_;
};

TEST_F(Edges, ARunWhoseModelCannotBeUsedIsFailedAndSaysWhy) {
    for (const char* rate : {"10", "31", "100"}) {
        write_file(file("hot.toml"),
                   tiny_plan("hot", "",
                             fmt::format("optimiser = {{ kind = \"sgd\", learning_rate = {}, "
                                         "momentum = 0.9 }}",
                                         rate)));
        run({"train", "hot.toml", "--ledger", "hot", "--retry"});
        const Ledger ledger = Ledger::open(file("hot"));
        for (const RunRecord& one : ledger.runs(ledger.study().id)) {
            if (one.state == RunState::finished) {
                EXPECT_EQ(run({"export", one.name(), "x.onnx", "--ledger", "hot", "--replace"}).status, 0)
                    << rate;
                EXPECT_EQ(run({"scores", one.name(), "--ledger", "hot"}).status, 0) << rate;
            } else {
                EXPECT_EQ(one.state, RunState::failed);
                EXPECT_NE(one.reason, "");
            }
        }
    }
}

TEST_F(Edges, AnotherLedgerInItsPlaceIsNotWrittenTo) {
    LedgerWriter writer = LedgerWriter::open(file("ledger"));
    const RunId run_id = writer.ledger().runs(writer.ledger().study().id).front().id;
    fs::rename(file("ledger"), file("moved"));
    fs::copy(file("moved"), file("ledger"), fs::copy_options::recursive);
    const std::string before = read_text(file("ledger") / "ledger.db");
    EXPECT_THAT(test::message_of<WorkError>([&] { writer.put_note(run_id, "for the other"); }),
                HasSubstr("another ledger took its place"));
    EXPECT_THROW(writer.require_in_place(), WorkError);
    EXPECT_EQ(read_text(file("ledger") / "ledger.db"), before);
    fs::remove_all(file("ledger"));
    EXPECT_THAT(test::message_of<WorkError>([&] { writer.put_note(run_id, "x"); }),
                HasSubstr("moved or deleted"));
}

TEST_F(Edges, ADeletedFileOfClaimsIsSurvived) {
    LedgerWriter writer = LedgerWriter::open(file("ledger"));
    std::optional<PlaceLock> ours = writer.claim(RunId{1});
    ASSERT_TRUE(ours);
    EXPECT_FALSE(writer.claim(RunId{1}));
    fs::remove(file("ledger") / "claims");
    EXPECT_FALSE(ours->is_in_place());
    EXPECT_TRUE(ours->renew());
    EXPECT_FALSE(writer.claim(RunId{1}));  // held again, in the new file
    fs::remove(file("ledger") / "claims");
    const std::optional<PlaceLock> theirs = writer.claim(RunId{1});
    ASSERT_TRUE(theirs);
    EXPECT_FALSE(ours->renew());
}

// Readers who may not write see what is committed, also when it is in the database's log alone.
TEST_F(Edges, ReadersWithoutTheRightToWriteSeeWhatIsCommitted) {
    if (::geteuid() != 0) GTEST_SKIP() << "needs a second user";
    // The way to the directory must be open to others.
    for (fs::path path = file("ledger"); path != path.root_path(); path = path.parent_path())
        if (path.string().starts_with(fs::temp_directory_path().string()) &&
            path != fs::temp_directory_path())
            fs::permissions(path, fs::perms::others_exec | fs::perms::others_read, fs::perm_options::add);
    const auto note_seen = [&] { return run({"runs", "--json"}, {.as_nobody = true}); };
    // A ledger at rest.
    EXPECT_THAT(note_seen().output, HasSubstr("tiny/1"));
    {
        // One in use: the note is in the log, and nowhere else.
        LedgerWriter writer = LedgerWriter::open(file("ledger"));
        writer.put_note(RunId{1}, "written just now");
        ASSERT_GT(fs::file_size(file("ledger") / "ledger.db-wal"), 0U);
        const CommandResult live = note_seen();
        EXPECT_EQ(live.status, 0) << live.errors;
        EXPECT_THAT(live.output, HasSubstr("written just now"));
        // A copy with its log and without the shared index, as from a medium that cannot be written.
        fs::create_directory(file("copied"));
        for (const char* name : {"ledger.db", "ledger.db-wal"})
            fs::copy(file("ledger") / name, file("copied") / name);
    }
    const CommandResult stale = run({"runs", "--ledger", "copied", "--json"}, {.as_nobody = true});
    EXPECT_EQ(stale.status, 1);
    EXPECT_THAT(stale.errors, HasSubstr("ledger.db-wal"));
    EXPECT_THAT(stale.errors, Not(HasSubstr("not a ledger")));
    EXPECT_THAT(note_seen().output, HasSubstr("written just now"));
}

TEST_F(Edges, AReaderOfALedgerAtRestFollowsWhoBeginsToWrite) {
    if (::geteuid() != 0) GTEST_SKIP() << "needs a second user";
    for (fs::path path = file("ledger"); path != fs::temp_directory_path(); path = path.parent_path())
        fs::permissions(path, fs::perms::others_exec | fs::perms::others_read, fs::perm_options::add);
    int opened[2];
    int written[2];
    ASSERT_EQ(::pipe(opened), 0);
    ASSERT_EQ(::pipe(written), 0);
    const pid_t child = ::fork();
    char byte = 0;
    if (child == 0) {
        int status = 1;
        try {
            if (::setgid(65534) != 0 || ::setuid(65534) != 0) ::_exit(2);
            const Ledger reader = Ledger::open(file("ledger"));
            if (::write(opened[1], "x", 1) != 1 || ::read(written[0], &byte, 1) != 1) ::_exit(3);
            status = reader.run_by_id(RunId{1}).note == "since then" ? 0 : 4;
        } catch (const Error& error) {
            std::fputs(error.what(), stderr);
        }
        ::_exit(status);
    }
    ASSERT_EQ(::read(opened[0], &byte, 1), 1);
    LedgerWriter writer = LedgerWriter::open(file("ledger"));
    writer.put_note(RunId{1}, "since then");
    ASSERT_EQ(::write(written[1], "x", 1), 1);
    int status = 0;
    ::waitpid(child, &status, 0);
    EXPECT_EQ(status, 0);
}

TEST_F(Edges, LooksAtTheTestPartFollowTheImages) {
    const auto looks = [&](const std::string& study, const std::string& ledger = "ledger") {
        return parse_json(run({"runs", "--json", "--study", study, "--ledger", ledger}).output);
    };
    const auto line = [&](const std::string& study) { return run({"runs", "--study", study}).output; };
    // Two looks within a second are two, here and in a ledger they are merged into.
    for (int look = 0; look < 2; ++look) ASSERT_EQ(run({"scores", "tiny/1", "--part", "test"}).status, 0);
    EXPECT_THAT(line("small"), HasSubstr("looked at 2 times, with 1 run"));
    fs::copy(file("ledger"), file("before"), fs::copy_options::recursive);
    // Another name of the study.
    write_file(file("renamed.toml"), tiny_plan("renamed"));
    ASSERT_EQ(run({"train", "renamed.toml"}).status, 0);
    EXPECT_THAT(line("renamed"), HasSubstr("looked at 2 times, 2 times in the study 'small'"));
    EXPECT_EQ(looks("renamed")[0]["test_looks"], 0);  // with that run
    // Another split of the same images: looks at images that are in its test part count, and those that train
    // now are named.
    write_file(file("split.toml"), tiny_plan("split", "split_seed = 5"));
    const CommandResult trained = run({"train", "split.toml"});
    EXPECT_THAT(trained.errors, HasSubstr("looked at as test images before"));
    EXPECT_THAT(run({"check", "split.toml"}).errors, HasSubstr("looked at as test images before"));
    // Another ledger.
    ASSERT_EQ(run({"train", "renamed.toml", "--ledger", "second"}).status, 0);
    ASSERT_EQ(run({"ledger", "merge", "before", "--ledger", "second"}).status, 0);
    EXPECT_THAT(run({"runs", "--study", "renamed", "--ledger", "second"}).output,
                HasSubstr("looked at 2 times"));
    ASSERT_EQ(run({"ledger", "merge", "before", "--ledger", "second"}).status, 0);
    EXPECT_THAT(run({"runs", "--study", "renamed", "--ledger", "second"}).output,
                HasSubstr("looked at 2 times"));
    // Features, and images given to a model.
    ASSERT_EQ(run({"export", "tiny/1", "model.onnx", "--study", "small"}).status, 0);
    const Ledger ledger = Ledger::open(file("ledger"));
    const StudyRecord small = ledger.study("small");
    const std::string path = path_of_item(ledger.items(ledger.run(small.id, "tiny/1").id, Part::test)[0].id);
    const CommandResult classified = run({"classify", "model.onnx", "images/" + path});
    EXPECT_THAT(classified.errors, HasSubstr("1 of these images is in the sealed test part"));
    EXPECT_THAT(line("small"), HasSubstr("looked at 3 times, with 1 run, 1 time by 'classify'"));
    const std::string other =
        path_of_item(ledger.items(ledger.run(small.id, "tiny/1").id, Part::training)[0].id);
    write_file(file("own.png"), read_file(file("images/" + other)));
    EXPECT_THAT(run({"classify", "model.onnx", "own.png"}).errors, Not(HasSubstr("sealed")));
    write_file(file("backbone.toml"),
               "name = \"transfer\"\nseeds = [1]\n[images]\nfrom = \"images\"\nsize = 8\nsplit_seed = 9\n"
               "[training]\nepochs = 1\n[backbone]\nfile = \"model.onnx\"\n[[candidate]]\nname = \"head\"\n"
               "regime = \"frozen\"\n");
    ASSERT_EQ(run({"features", "backbone.toml", "out", "--with-test"}).status, 0);
    EXPECT_THAT(line("small"), HasSubstr("1 time by 'features'"));
    const CommandResult nowhere =
        run({"features", "backbone.toml", "out", "--with-test", "--ledger", "none"});
    EXPECT_THAT(nowhere.errors, HasSubstr("no ledger in none records"));
    // A backbone that was trained on images of the test part says so, in any ledger.
    const CommandResult leaking = run({"check", "backbone.toml", "--ledger", "elsewhere"});
    EXPECT_THAT(leaking.errors, AllOf(HasSubstr("was trained on"), HasSubstr("of the test part")));
}

TEST_F(Edges, MergeIsAllOrNothingAndNamesTheRightLedger) {
    write_file(file("other.toml"), tiny_plan("other"));
    ASSERT_EQ(run({"train", "other.toml", "--ledger", "other"}).status, 0);
    const std::string model = read_text(file("other/models/run-1.onnx"));
    std::string flipped = model;
    flipped[flipped.size() / 2] = static_cast<char>(flipped[flipped.size() / 2] ^ 16);
    write_file(file("other/models/run-1.onnx"), flipped);
    const CommandResult damaged = run({"ledger", "merge", "other"});
    EXPECT_EQ(damaged.status, 2);
    EXPECT_THAT(damaged.errors, AllOf(HasSubstr("other/models/run-1.onnx"), HasSubstr("not the model")));
    EXPECT_FALSE(fs::exists(file("ledger/models/run-2.onnx")));
    write_file(file("other/models/run-1.onnx"), model);
    // Damage of its database is the other ledger's, by name.
    {
        SQLite::Database database(file("other/ledger.db"), SQLite::OPEN_READWRITE);
        database.exec("UPDATE epochs SET accuracy = 0.99");
    }
    const CommandResult wrong = run({"ledger", "merge", "other"});
    EXPECT_EQ(wrong.status, 2);
    EXPECT_THAT(wrong.errors, HasSubstr("other/ledger.db"));
    EXPECT_THAT(run({"runs"}).output, Not(HasSubstr("other")));
}

TEST_F(Edges, OutputsGoWhereTheyAreSent) {
    const std::string table = run({"runs", "--csv", "-"}).output;
    EXPECT_THAT(table, testing::StartsWith("run,"));
    EXPECT_EQ(std::count(table.begin(), table.end(), '\n'), 2);  // nothing else
    EXPECT_EQ(run({"runs", "--csv", "/dev/stdout"}).output, table);
    // Nor beside the table of any other command.
    for (const std::vector<std::string>& command : {std::vector<std::string>{"scores", "tiny/1"},
                                                    {"classes", "tiny/1"},
                                                    {"classes"},
                                                    {"confusion", "tiny/1"},
                                                    {"mistakes", "tiny/1"},
                                                    {"thresholds", "tiny/1"},
                                                    {"curves"},
                                                    {"choose"},
                                                    {"classify", "ledger/models/run-1.onnx", "images"}}) {
        std::vector<std::string> words = command;
        words.insert(words.end(), {"--csv", "t.csv"});
        ASSERT_EQ(run(words).status, 0) << command[0];
        words.back() = "-";
        EXPECT_EQ(run(words).output, read_text(file("t.csv"))) << command[0];
    }
    EXPECT_EQ(run({"runs", "--csv", "/dev/null"}).status, 0);
    EXPECT_TRUE(fs::is_character_file("/dev/null"));
    EXPECT_EQ(run({"runs", "--csv", "-", "--json"}).status, 2);
    const std::string model = run({"export", "tiny/1", "-"}).output;
    EXPECT_EQ(model, read_text(file("ledger/models/run-1.onnx")));
    EXPECT_EQ(run({"curves", "--figure", "-"}).output.substr(1, 3), "PNG");
    EXPECT_EQ(run({"curves", "--csv", "/dev/full"}).status, 1);
    // What is redirected to a file is not replaced under the shell's hands.
    const CommandResult both = run({"curves", "--csv", "/dev/stdout"}, {.output = "/dev/full"});
    EXPECT_EQ(both.status, 1);
}

TEST_F(Edges, AFigureThatCannotBeFinishedLeavesTheOldOne) {
    ASSERT_EQ(run({"curves", "--figure", "c.png"}).status, 0);
    const std::string old = read_text(file("c.png"));
    for (const long bytes : {0L, 1000L, 20'000L}) {
        const CommandResult cut = run({"curves", "--figure", "c.png"}, {.largest_file_bytes = bytes});
        EXPECT_EQ(cut.status, 1) << bytes;
        EXPECT_EQ(read_text(file("c.png")), old) << bytes;
    }
    // A plot program that stops in the middle and calls that success.
    fs::create_directory(file("bin"));
    const auto pretend = [&](const std::string& script) {
        write_file(file("bin/gnuplot"), "#!/bin/sh\n" + script + "\n");
        fs::permissions(file("bin/gnuplot"), fs::perms::owner_all);
        return run({"curves", "--figure", "c.png"},
                   {.environment = {{"PATH", file("bin").string() + ":" + std::getenv("PATH")}}});
    };
    const std::string draw_whole = "cat >/dev/null; cat '" + file("c.png").string() + "'; ";
    for (const std::string& script :
         {std::string("cat >/dev/null; printf '\\211PNG\\r\\n'"), std::string("exit 0"),
          std::string("kill -9 $$"), std::string("exec cat"), draw_whole + "exit 3",
          draw_whole + "kill -9 $$"}) {
        const CommandResult cut = pretend(script);
        EXPECT_EQ(cut.status, 1) << script;
        EXPECT_THAT(cut.errors, HasSubstr("gnuplot could not draw this figure")) << script;
        EXPECT_EQ(read_text(file("c.png")), old) << script;
    }
    // Settings of the environment do not reach the plot program.
    ASSERT_EQ(
        run({"curves", "--figure", "d.png"},
            {.environment = {{"GNUTERM", "dumb"}, {"GNUPLOT_LIB", "/nowhere"}, {"LC_ALL", "de_DE.UTF-8"}}})
            .status,
        0);
    EXPECT_EQ(read_text(file("d.png")), old);
    // Nor do folders whose names the font lacks, or that are no text at all.
    for (const std::string& name :
         {std::string("\xF0\x93\x82\x80"), std::string("\xFF\xFE"), std::string("a\nb 'c' %d")}) {
        ASSERT_EQ(run({"curves", "--figure", name + "/c.png"}).status, 0);
        EXPECT_EQ(read_text(file(name) / "c.png"), old);
    }
}

TEST_F(Edges, StreamsThatAreFullClosedOrGone) {
    EXPECT_EQ(run({"--help"}, {.output = "/dev/full"}).status, 1);
    EXPECT_EQ(run({"runs"}, {.output = "/dev/full"}).status, 1);
    EXPECT_EQ(run({"runs"}, {.output = "closed"}).status, 1);
    EXPECT_EQ(run({"runs", "--ledger", "none"}, {.errors = "/dev/full"}).status, 2);
    EXPECT_EQ(run({"runs", "--ledger", "none"}, {.errors = "closed"}).status, 2);
    // Work goes on without a place for warnings, and no text lands in a file.
    for (const char* errors : {"/dev/full", "closed"}) {
        const std::string ledger = std::string("with-") + (errors[0] == 'c' ? "closed" : "full");
        EXPECT_EQ(run({"train", "plan.toml", "--ledger", ledger}, {.errors = errors}).status, 0);
        EXPECT_EQ(test::story(file(ledger)), test::story(file("ledger")));
    }
    EXPECT_EQ(run({"curves", "--csv", "t.csv"}, {.output = "closed", .errors = "closed"}).status, 1);
    EXPECT_THAT(read_text(file("t.csv")), testing::StartsWith("run,"));
}

TEST_F(Edges, WithJsonAnErrorIsOneDocument) {
    for (const std::vector<std::string>& words :
         {std::vector<std::string>{"runs", "--ledger", "none", "--json"},
          {"scores", "nobody/9", "--json"},
          {"survey", "none.toml", "--json"},
          {"runs", "--no-such-option", "--json"}}) {
        const CommandResult result = run(words);
        EXPECT_EQ(result.status, 2);
        EXPECT_EQ(result.output, "");
        const Json error = parse_json(result.errors);
        EXPECT_EQ(error["exit_status"], 2);
        EXPECT_NE(error["error"].get<std::string>(), "");
        EXPECT_TRUE(error["warnings"].is_array());
    }
}

TEST_F(Edges, StrangeFilesAreNamedAndNeverWaitedFor) {
    const auto begun = std::chrono::steady_clock::now();
    ASSERT_EQ(::mkfifo(file("fifo").c_str(), 0600), 0);
    ASSERT_EQ(::mkfifo(file("fifo.toml").c_str(), 0600), 0);
    ASSERT_EQ(::mkfifo(file("images/both/fifo.png").c_str(), 0600), 0);
    std::ofstream(file("images/both/huge.png")) << "x";
    fs::resize_file(file("images/both/huge.png"), std::uintmax_t{100} << 30);
    fs::create_symlink("/dev/zero", file("images/down/zero.png"));
    EXPECT_THAT(run({"check", "fifo.toml"}).errors, HasSubstr("not a regular file"));
    EXPECT_THAT(run({"classify", "fifo", "images"}).errors, HasSubstr("not a regular file"));
    EXPECT_THAT(run({"scores", "tiny/1", "--predictions", "fifo"}).errors, HasSubstr("not a regular file"));
    write_file(file("index.toml"), "name = \"x\"\nseeds = [1]\n[images]\nfrom = \"fifo\"\n");
    EXPECT_THAT(run({"survey", "index.toml"}).errors, HasSubstr("not a regular file"));
    const CommandResult surveyed = run({"train", "plan.toml", "--ledger", "strange"});
    EXPECT_EQ(surveyed.status, 0) << surveyed.errors;
    EXPECT_THAT(surveyed.errors, HasSubstr("3 unreadable images left out"));
    EXPECT_THAT(read_text(file("strange/left-out.csv")),
                AllOf(HasSubstr("both/fifo.png"), HasSubstr("both/huge.png"), HasSubstr("down/zero.png")));
    EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(20));
}

TEST_F(Edges, InterruptedFromTheFirstMoment) {
    for (const double seconds : {0.0, 0.002, 0.01, 0.03}) {
        const CommandResult result =
            run({"train", "plan.toml", "--ledger", "stopped"}, {.signal_after_seconds = seconds});
        EXPECT_THAT(result.status, testing::AnyOf(0, 130, 128 + 2)) << seconds << result.errors;
    }
    EXPECT_EQ(run({"train", "plan.toml", "--ledger", "stopped"}).status, 0);
    EXPECT_EQ(test::story(file("stopped")), test::story(file("ledger")));
}

TEST_F(Edges, LimitsAreSaidBeforeTimeOrMemoryGoes) {
    std::string deep = "a";
    for (int k = 0; k < 60'000; ++k) deep += ".a";
    write_file(file("deep.toml"), "name = 'deep'\n\n" + deep + " = 1\n");
    EXPECT_THAT(run({"check", "deep.toml"}).errors, HasSubstr("deep.toml:3: a key has more than 64 parts"));
    write_file(file("deeper.toml"), "[" + deep + "]\nb = 1\n");
    EXPECT_EQ(run({"check", "deeper.toml"}).status, 2);
    write_file(file("nested.toml"), "a = " + std::string(60'000, '[') + std::string(60'000, ']') + "\n");
    EXPECT_EQ(run({"check", "nested.toml"}).status, 2);
    std::string seeds = "1";
    for (int k = 2; k <= 200'000; ++k) seeds += "," + std::to_string(k);
    write_file(file("seeds.toml"), "name = \"x\"\nseeds = [" + seeds + "]\n[images]\nfrom = \"images\"\n");
    EXPECT_THAT(run({"check", "seeds.toml"}).errors, HasSubstr("at most 1000"));
    std::string layers;
    for (int k = 0; k < 5000; ++k) layers += "{ kind = \"convolution\", width = 4 },\n";
    write_file(file("layers.toml"),
               "name = \"x\"\nseeds = [1]\n[images]\nfrom = \"images\"\n[[candidate]]\nname = "
               "\"c\"\nregime = \"scratch\"\n[candidate.network]\nlayers = [\n" +
                   layers + "]\n");
    EXPECT_THAT(run({"check", "layers.toml"}).errors, HasSubstr("more than 4096 layers"));
    // Sentences are no keys.
    std::string words = "# ";
    for (int k = 0; k < 200; ++k) words += "A word. ";
    write_file(file("words.toml"), words + "\n" + tiny_plan("words"));
    EXPECT_EQ(run({"check", "words.toml", "--ledger", "none"}).status, 0);
}

TEST_F(Edges, LittleMemoryAndFewFilesAreErrorsInWords) {
    if (std::string(JEVRIN_SANITIZED) != "") GTEST_SKIP() << "the sanitizer needs the addresses";
    for (const long megabytes : {64L, 80L, 100L, 140L}) {
        const CommandResult result =
            run({"train", "plan.toml", "--ledger", "narrow"}, {.memory_bytes = megabytes << 20});
        EXPECT_THAT(result.status, testing::AnyOf(0, 1)) << megabytes << result.errors;
    }
    for (const long files : {4L, 6L, 8L, 12L, 20L}) {
        const CommandResult result = run({"train", "plan.toml", "--ledger", "few"}, {.open_files = files});
        EXPECT_THAT(result.status, testing::AnyOf(0, 1, 2, 127)) << files << result.errors;
    }
    EXPECT_EQ(run({"train", "plan.toml", "--ledger", "narrow"}).status, 0);
    EXPECT_EQ(test::story(file("narrow")), test::story(file("ledger")));
}

// Cells that a spreadsheet would run are guarded in what the tool writes, and read back as they were.
TEST_F(Edges, TablesHoldNoFormulas) {
    fs::remove_all(file("images"));
    test::write_small_set(file("images"), {"=1+1", "@sum", "plain"}, 6);
    write_file(file("names.toml"), tiny_plan("names"));
    ASSERT_EQ(run({"train", "names.toml", "--ledger", "names"}).status, 0);
    for (const std::vector<std::string>& command : {std::vector<std::string>{"scores", "tiny/1"},
                                                    {"classes", "tiny/1"},
                                                    {"confusion", "tiny/1"},
                                                    {"thresholds", "tiny/1"},
                                                    {"mistakes", "tiny/1"}}) {
        std::vector<std::string> words = command;
        words.insert(words.end(), {"--csv", "t.csv", "--ledger", "names"});
        if (run(words).status != 0) continue;
        const std::string text = read_text(file("t.csv"));
        EXPECT_THAT(text, Not(testing::ContainsRegex("(^|,|\n|\")[=@]"))) << command[0];
    }
    const CommandResult own = run({"scores", "tiny/1", "--csv", "own.csv", "--ledger", "names", "--json"});
    const CommandResult back =
        run({"scores", "tiny/1", "--predictions", "own.csv", "--ledger", "names", "--json"});
    EXPECT_EQ(parse_json(own.output)["scores"], parse_json(back.output)["scores"]) << back.errors;
}

}  // namespace
}  // namespace jevrin
