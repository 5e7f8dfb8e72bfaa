// The tool as a user runs it.
#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/plan/recipe.hpp"
#include "jevrin/training/classifier.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <cctype>
#include <chrono>
#include <cstdlib>
#include <cstring>
#include <set>
#include <sstream>

namespace jevrin {
namespace {

using test::CommandResult;
using test::run_jevrin;
using test::small_plan;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;

// A trained small study that tests may read.
class TrainedStudy : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<TemporaryDirectory>();
        write_small_study(directory_->path(), small_plan(3));
        trained_ = run({"train", "plan.toml"});
    }
    static void TearDownTestSuite() { directory_.reset(); }
    static CommandResult run(const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory_->path()});
    }
    static Json run_json(std::vector<std::string> arguments) {
        arguments.emplace_back("--json");
        const CommandResult result = run(arguments);
        EXPECT_EQ(result.status, 0) << result.errors;
        return parse_json(result.output);
    }

    static inline std::unique_ptr<TemporaryDirectory> directory_;
    static inline CommandResult trained_;
};

TEST_F(TrainedStudy, TrainPrintsALinePerEpochAndASummary) {
    EXPECT_EQ(trained_.status, 0) << trained_.errors;
    EXPECT_EQ(trained_.errors, "");
    std::size_t lines = 0;
    for (std::size_t at = 0; (at = trained_.output.find("  epoch ", at)) != std::string::npos; ++at) ++lines;
    EXPECT_EQ(lines, 18U);
    EXPECT_THAT(trained_.output, AllOf(HasSubstr("6 runs trained, 0 already finished"),
                                       HasSubstr("6 of 6 runs finished; the highest accuracy")));
    EXPECT_THAT(trained_.output, testing::Not(HasSubstr("\x1b")));
}

TEST_F(TrainedStudy, RunsListsEveryRun) {
    const Json runs = run_json({"runs"});
    ASSERT_EQ(runs.size(), 6U);
    std::set<std::string> regimes;
    for (const Json& r : runs) {
        EXPECT_EQ(r["state"], "finished");
        EXPECT_EQ(r["epochs"], 3);
        EXPECT_EQ(r["run"], fmt::format("{}/{}", r["candidate"].get<std::string>(), r["seed"].get<int>()));
        EXPECT_GT(r["validation"]["loss"].get<double>(), 0.0);
        EXPECT_LE(r["trainable_parameters"].get<int>(), r["parameters"].get<int>());
        regimes.insert(r["regime"].get<std::string>());
    }
    EXPECT_EQ(regimes.size(), 3U);
    EXPECT_THAT(run({"runs"}).output, AllOf(HasSubstr("study 'small': 6 of 6 runs finished"),
                                            HasSubstr("test part of this study has not been looked at")));
}

TEST_F(TrainedStudy, EveryEpochsMatrixSumsToTheValidationPart) {
    const Json curves = run_json({"curves", "new head/1", "from scratch/2"});
    ASSERT_EQ(curves.size(), 2U);
    EXPECT_EQ(curves[1]["run"], "from scratch/2");
    for (const Json& e : curves[0]["epochs"]) {
        const Json matrix =
            run_json({"confusion", "new head/1", "--epoch", std::to_string(e["epoch"].get<int>())});
        EXPECT_EQ(matrix["classes"], (Json{"across", "both", "down"}));
        std::int64_t sum = 0;
        std::int64_t correct = 0;
        for (std::size_t i = 0; i < 3; ++i)
            for (std::size_t j = 0; j < 3; ++j) {
                sum += matrix["counts"][i][j].get<int>();
                if (i == j) correct += matrix["counts"][i][j].get<int>();
            }
        EXPECT_EQ(sum, 9);
        EXPECT_DOUBLE_EQ(e["validation"]["accuracy"].get<double>(), static_cast<double>(correct) / 9);
    }
}

TEST_F(TrainedStudy, ChooseNamesACandidateWithItsInterval) {
    const Json choice = run_json({"choose"});
    EXPECT_EQ(choice["metric"], "accuracy");
    ASSERT_EQ(choice["ranking"].size(), 3U);
    bool found = false;
    for (const Json& c : choice["ranking"]) {
        EXPECT_LE(c["low"].get<double>(), c["mean"].get<double>());
        EXPECT_GE(c["high"].get<double>(), c["mean"].get<double>());
        found = found || c["candidate"] == choice["chosen"];
    }
    EXPECT_TRUE(found);
    EXPECT_THAT(run({"choose"}).output, HasSubstr("> " + choice["chosen"].get<std::string>()));
}

TEST_F(TrainedStudy, ClassifyGivesWhatTheRunRecorded) {
    for (const std::string name : {"from scratch/1", "new head/2", "last stage/1"}) {
        ASSERT_EQ(run({"export", name, "model.onnx", "--replace"}).status, 0);
        SQLite::Database database((directory_->path() / "ledger" / "ledger.db").string());
        SQLite::Statement query(
            database,
            "SELECT items.item, probabilities FROM predictions JOIN items ON items.id = predictions.item "
            "JOIN runs ON runs.id = run WHERE candidate || '/' || seed = ?");
        query.bind(1, name);
        int compared = 0;
        for (; query.executeStep(); ++compared) {
            const std::string item = query.getColumn(0);
            const Json answer = run_json(
                {"classify", "model.onnx", "images/" + item.substr(0, item.rfind('#')), "--top", "0"});
            float recorded[3];
            std::memcpy(recorded, query.getColumn(1).getBlob(), sizeof recorded);
            const std::vector<std::string> classes = {"across", "both", "down"};
            for (const Json& top : answer[0]["top"]) {
                const auto place =
                    std::find(classes.begin(), classes.end(), top["class"].get<std::string>()) -
                    classes.begin();
                EXPECT_EQ(top["probability"].get<float>(), recorded[place]) << item;
            }
        }
        EXPECT_EQ(compared, 9);
    }
}

TEST_F(TrainedStudy, ExportNeverOverwritesUnasked) {
    write_file(directory_->path() / "precious.onnx", std::string("mine"));
    const CommandResult refused = run({"export", "new head/1", "precious.onnx"});
    EXPECT_EQ(refused.status, 2);
    EXPECT_THAT(refused.errors, HasSubstr("--replace"));
    EXPECT_EQ(read_text(directory_->path() / "precious.onnx"), "mine");
}

TEST_F(TrainedStudy, ClassifyGoesOnAfterABadImage) {
    ASSERT_EQ(run({"export", "new head/1", "m.onnx", "--replace"}).status, 0);
    write_file(directory_->path() / "bad\n.png", std::string("no image"));
    const CommandResult result =
        run({"classify", "m.onnx", "bad\n.png", "images/down/00.png", "missing.png"});
    EXPECT_EQ(result.status, 2);
    EXPECT_THAT(result.output, HasSubstr("images/down/00.png"));
    EXPECT_THAT(result.errors,
                AllOf(HasSubstr("bad\\x0a.png: it is not an image"), HasSubstr("missing.png: cannot read"),
                      HasSubstr("2 images not classified")));
}

TEST_F(TrainedStudy, FiguresAreWritten) {
    EXPECT_EQ(run({"curves", "--figure", "figures/c.png"}).status, 0);
    EXPECT_EQ(run({"confusion", "last stage/2", "--figure", "figures/m.svg"}).status, 0);
    EXPECT_GT(std::filesystem::file_size(directory_->path() / "figures" / "c.png"), 10'000U);
    EXPECT_THAT(read_text(directory_->path() / "figures" / "m.svg"), HasSubstr("across"));
    const CommandResult refused = run({"curves", "--figure", "c.gif"});
    EXPECT_EQ(refused.status, 2);
    EXPECT_THAT(refused.errors, HasSubstr(".png or .svg"));
}

TEST_F(TrainedStudy, AMissingRunOrLedgerIsHelped) {
    const CommandResult run_name = run({"confusion", "new heat/1"});
    EXPECT_EQ(run_name.status, 2);
    EXPECT_THAT(run_name.errors, HasSubstr("did you mean 'new head/1'"));
    const CommandResult ledger = run({"runs", "--ledger", "nowhere"});
    EXPECT_EQ(ledger.status, 2);
    EXPECT_THAT(ledger.errors, HasSubstr("there is no ledger here"));
    EXPECT_FALSE(std::filesystem::exists(directory_->path() / "nowhere"));
    EXPECT_EQ(run({"confusion", "new head/1", "--epoch", "9"}).status, 2);
    // A candidate where one run is asked for.
    EXPECT_THAT(run({"scores", "new head"}).errors,
                HasSubstr("'new head' is a candidate; name one of its runs, such as 'new head/1'"));
    EXPECT_THAT(run({"mistakes", "new head/1", "--true", "nowhere"}).errors,
                HasSubstr("the classes are across, both, down"));
    // The beginning of a file's name.
    EXPECT_THAT(run({"show", "new head/1", "across/"}).errors,
                testing::ContainsRegex("no item is called .across/. \\(did you mean .across/"));
}

TEST(Commands, AWordThatIsNoCommandNamesTheNearestOne) {
    EXPECT_THAT(run_jevrin({"trian", "plan.toml"}).errors,
                HasSubstr("no command is called 'trian' (did you mean 'train'?)"));
    EXPECT_THAT(run_jevrin({}).errors, HasSubstr("name a command"));
    EXPECT_THAT(run_jevrin({"--unknown"}).errors, HasSubstr("name a command"));
    EXPECT_THAT(run_jevrin({"bl\nah"}).errors, HasSubstr("'bl\\x0aah'"));
}

TEST_F(TrainedStudy, AReadOnlyLedgerCanBeReadButNotTrained) {
    TemporaryDirectory copy;
    std::filesystem::copy(directory_->path(), copy / "study", std::filesystem::copy_options::recursive);
    for (const auto& entry : std::filesystem::recursive_directory_iterator(copy.path()))
        std::filesystem::permissions(
            entry.path(), entry.is_directory() ? std::filesystem::perms(0555) : std::filesystem::perms(0444));
    const test::CommandOptions readonly{.directory = copy / "study", .as_nobody = true};
    const CommandResult read = run_jevrin({"runs"}, readonly);
    EXPECT_EQ(read.status, 0) << read.errors;
    EXPECT_THAT(read.output, HasSubstr("6 of 6 runs finished"));
    const CommandResult train = run_jevrin({"train", "plan.toml"}, readonly);
    EXPECT_EQ(train.status, 1) << train.output;
    EXPECT_THAT(train.errors,
                AllOf(HasSubstr("ledger"), testing::AnyOf(HasSubstr("read-only"), HasSubstr("who may write"),
                                                          HasSubstr("who may read and write"))));
    for (const auto& entry : std::filesystem::recursive_directory_iterator(copy.path()))
        std::filesystem::permissions(entry.path(), std::filesystem::perms(0755));
}

TEST_F(TrainedStudy, CurvesUseTheCharactersAndColoursOfTheTerminal) {
    // script(1) runs a command in a terminal of its own.
    const auto shown = [&](const std::string& environment) {
        const std::string command = fmt::format(
            "cd '{}' && env {} TERM=xterm script -qec \"'{}' curves\" shown.txt > /dev/null < /dev/null",
            directory_->path().string(), environment, JEVRIN_PROGRAM);
        EXPECT_EQ(std::system(command.c_str()), 0);
        return read_text(directory_->path() / "shown.txt");
    };
    const std::string rich = shown("-u NO_COLOR LC_ALL=C.UTF-8");
    EXPECT_THAT(rich, testing::AllOf(HasSubstr("\x1b[38;5;"), HasSubstr("\u2514\u2500")));
    for (const char* plain : {"NO_COLOR=1 LC_ALL=C.UTF-8", "-u NO_COLOR LC_ALL=C"}) {
        const std::string text = shown(plain);
        EXPECT_THAT(text, HasSubstr("+----"));
        EXPECT_THAT(text, testing::Not(HasSubstr("\x1b"))) << plain;
    }
}

TEST_F(TrainedStudy, TheQueriesOfTheDocumentRun) {
    const auto blocks = test::code_blocks("docs/formats.md", "sql");
    ASSERT_EQ(blocks.size(), 1U);
    SQLite::Database database((directory_->path() / "ledger" / "ledger.db").string());
    std::size_t queries = 0;
    for (std::size_t begin = 0, end; (end = blocks[0].find(';', begin)) != std::string::npos;
         begin = end + 1, ++queries) {
        SQLite::Statement query(database, blocks[0].substr(begin, end + 1 - begin));
        EXPECT_TRUE(query.executeStep()) << query.getQuery();
    }
    EXPECT_EQ(queries, 3U);
}

TEST_F(TrainedStudy, ThePlanOfTheGuideIsTheDemos) {
    const auto blocks = test::code_blocks("docs/guide.md", "toml");
    // The plan, a strength of augmentation, a recipe, backbones, own networks, a fair comparison.
    ASSERT_EQ(blocks.size(), 6U);
    const auto normal = [](const std::string& text) {
        std::string kept;
        bool comment = false;
        for (const char c : text) {
            comment = c == '#' || (comment && c != '\n');
            if (!comment && c != ' ' && c != '\n') kept += c;
        }
        return kept;
    };
    const auto demo = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "demo" / "glaze.toml";
    EXPECT_EQ(normal(blocks[0]), normal(read_text(demo)));
    write_file(directory_->path() / "recipe.toml", blocks[2]);
    EXPECT_EQ(read_recipe(directory_->path() / "recipe.toml").composition.copies, 2);
}

// A small study with the names of the demo, so that the plans of the guide run on it.
TEST(Commands, TheGuidesBackbonesAndNetworksAreChecked) {
    const TemporaryDirectory directory;
    test::write_small_set(directory / "glaze", {"crazing", "pinholes", "sound"}, 8);
    Classifier backbone{.network = residual_backbone({.widths = {4, 6, 8}, .blocks = {1}}, {64, 64, 3}),
                        .classes = {"a", "b"},
                        .preparation = {.fitting = {.size = 64}},
                        .provenance = {}};
    append_head(backbone.network, {}, 2);
    initialise(backbone.network, 0, 3);
    save_classifier(directory / "backbone.onnx", backbone);
    const auto blocks = test::code_blocks("docs/guide.md", "toml");
    ASSERT_EQ(blocks.size(), 6U);
    write_file(directory / "backbones.toml", blocks[3]);
    write_file(directory / "own.toml", blocks[4]);
    write_file(directory / "fair.toml", blocks[5]);
    const test::CommandOptions here{.directory = directory.path()};
    const CommandResult backbones =
        run_jevrin({"check", "backbones.toml", "--candidate", "gently", "--figure", "network.png"}, here);
    EXPECT_EQ(backbones.status, 0) << backbones.errors;
    EXPECT_THAT(backbones.output,
                testing::AllOf(HasSubstr("surfaces, shallow"), HasSubstr("stage3.block1.convolution1"),
                               HasSubstr("trains"), HasSubstr("frozen"), HasSubstr("total")));
    EXPECT_GT(std::filesystem::file_size(directory / "network.png"), 10'000U);
    const CommandResult own = run_jevrin({"check", "own.toml", "--json"}, here);
    EXPECT_EQ(own.status, 0) << own.errors;
    EXPECT_EQ(parse_json(own.output)["candidates"][1]["layers"].back()["shape"], (std::vector<int>{3}));
    const CommandResult fair = run_jevrin({"check", "fair.toml", "--json"}, here);
    EXPECT_EQ(fair.status, 0) << fair.errors;
    EXPECT_EQ(parse_json(fair.output)["runs"], (8 + 4 + 3 + 4) * 3);
    const CommandResult layers =
        run_jevrin({"layers", "backbone.onnx", "glaze/crazing/00.png", "--figure", "layers.png"}, here);
    EXPECT_EQ(layers.status, 0) << layers.errors;
    EXPECT_THAT(layers.output, testing::AllOf(HasSubstr("stage3"), HasSubstr("silent")));
    EXPECT_GT(std::filesystem::file_size(directory / "layers.png"), 10'000U);
    const CommandResult features =
        run_jevrin({"features", "backbones.toml", "features", "--candidate", "yardstick"}, here);
    EXPECT_EQ(features.status, 0) << features.errors;
    EXPECT_TRUE(std::filesystem::exists(directory / "features" / "features.csv"));
    EXPECT_EQ(run_jevrin({"features", "own.toml", "features"}, here).status, 2);
    EXPECT_EQ(run_jevrin({"layers", "backbone.onnx", "none.png"}, here).status, 2);
    EXPECT_EQ(run_jevrin({"train", "backbones.toml"}, here).status, 0);
}

// The names that a help text lists, each at the beginning of a line.
std::vector<std::string> names_listed(const std::string& help) {
    std::vector<std::string> names;
    std::istringstream lines(help);
    for (std::string line; std::getline(lines, line);)
        if (line.starts_with("  ") && std::islower(static_cast<unsigned char>(line[2])) != 0)
            names.push_back(line.substr(2, line.find(' ', 2) - 2));
    return names;
}

TEST(Commands, AreFewAndTheirHelpFitsOneScreen) {
    const auto fits = [](const std::vector<std::string>& arguments) {
        const CommandResult help = run_jevrin(arguments);
        EXPECT_EQ(help.status, 0);
        EXPECT_LE(std::count(help.output.begin(), help.output.end(), '\n'), 24)
            << testing::PrintToString(arguments);
        return help.output;
    };
    const std::vector<std::string> commands = names_listed(run_jevrin({"--help"}).output);
    EXPECT_LE(commands.size(), 29U);
    EXPECT_THAT(commands, testing::IsSupersetOf({"train", "choose", "ledger"}));
    for (const std::string& command : commands)
        for (const std::string& verb : names_listed(fits({command, "--help"})))
            fits({command, verb, "--help"});
    EXPECT_THAT(names_listed(run_jevrin({"ledger", "--help"}).output),
                testing::ElementsAre("add", "merge", "compare", "archive", "delete", "note"));
}

TEST(Commands, UsageErrorsNameWhatIsWrong) {
    const auto error_of = [](const std::vector<std::string>& arguments) {
        const CommandResult result = run_jevrin(arguments);
        EXPECT_EQ(result.status, 2);
        return result.errors;
    };
    EXPECT_THAT(error_of({}), HasSubstr("name a command"));
    EXPECT_THAT(error_of({"rnus"}), HasSubstr("did you mean 'runs'?"));
    EXPECT_THAT(error_of({"runs", "--jsn"}), HasSubstr("jevrin COMMAND --help"));
    EXPECT_THAT(error_of({"ledger"}), HasSubstr("name a verb: add, merge, compare, archive, delete, note"));
    EXPECT_THAT(error_of({"ledger", "merg"}), HasSubstr("no verb is called 'merg' (did you mean 'merge'?)"));
    EXPECT_THAT(error_of({"classes", "--part", "test"}),
                HasSubstr("--part needs one run, as CANDIDATE/SEED"));
    EXPECT_THAT(error_of({"show", "a/1", "--neighbours", "2"}), HasSubstr("--neighbours needs an ITEM"));
    EXPECT_THAT(error_of({"show", "a/1", "b.png", "--layers"}), HasSubstr("--layers does not apply"));
    EXPECT_THAT(error_of({"curves", "--over", "training_size", "--log"}), HasSubstr("--log does not apply"));
}

// All weights, curves and predictions of a ledger: everything but times.
std::string dump(const std::filesystem::path& ledger) {
    SQLite::Database database((ledger / "ledger.db").string());
    std::string text;
    for (const char* sql :
         {"SELECT candidate, seed, state, best_epoch FROM runs ORDER BY candidate, seed",
          "SELECT candidate, seed, epoch, training_loss, validation_loss, balanced_accuracy FROM epochs JOIN "
          "runs ON runs.id = run ORDER BY 1, 2, 3",
          "SELECT candidate, seed, items.item, hex(probabilities) FROM predictions JOIN runs ON runs.id = "
          "run JOIN items ON items.id = predictions.item ORDER BY 1, 2, 3"}) {
        SQLite::Statement query(database, sql);
        while (query.executeStep())
            for (int c = 0; c < query.getColumnCount(); ++c) text += query.getColumn(c).getString() + "|";
    }
    for (int run = 1; run <= 3; ++run) text += read_text(ledger / "models" / fmt::format("run-{}.onnx", run));
    return text;
}

TEST(Commands, APlanThatDoesNotFitTheMemoryIsRefusedBeforeAnythingTrains) {
    const test::TemporaryDirectory directory;
    const std::filesystem::path plan = test::write_small_study(directory.path(), test::small_plan());
    const std::string ledger = (directory / "ledger").string();
    for (const std::string command : {"check", "train"}) {
        std::vector<std::string> arguments = {command, plan.string(), "--memory", "0.001"};
        if (command == "train") arguments.insert(arguments.end(), {"--ledger", ledger});
        const CommandResult refused = run_jevrin(arguments);
        EXPECT_EQ(refused.status, 2);
        EXPECT_THAT(refused.errors, HasSubstr("candidate '"));
        EXPECT_THAT(refused.errors, HasSubstr("of memory for a batch of"));
    }
    EXPECT_EQ(run_jevrin({"train", plan.string(), "--ledger", ledger}).status, 0);
    // What is finished needs no memory any more.
    EXPECT_EQ(run_jevrin({"train", plan.string(), "--ledger", ledger, "--memory", "0.001"}).status, 0);
}

TEST(Commands, KilledAtRandomMomentsItEndsAsIfUndisturbed) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(30, "", "[3]"));
    const test::CommandOptions here{.directory = directory.path()};
    const auto begin = std::chrono::steady_clock::now();
    ASSERT_EQ(run_jevrin({"train", "plan.toml", "--ledger", "whole"}, here).status, 0);
    double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    RandomStream random({1, Purpose::sample, 0, 0});
    int killed = 0;
    for (int attempt = 0; attempt < 20 && killed < 6; ++attempt) {
        test::CommandOptions doomed = here;
        doomed.kill_after_seconds = seconds * random.uniform(0.1, 0.5);
        if (run_jevrin({"train", "plan.toml", "--ledger", "killed"}, doomed).status == 128 + 9) {
            ++killed;
            continue;
        }
        // It ended first: the machine was busier when the time was taken.
        std::filesystem::remove_all(directory / "killed");
        seconds /= 2;
    }
    EXPECT_GE(killed, 1);
    const CommandResult last = run_jevrin({"train", "plan.toml", "--ledger", "killed"}, here);
    EXPECT_EQ(last.status, 0) << last.errors;
    EXPECT_EQ(dump(directory / "killed"), dump(directory / "whole"));
}

TEST(Commands, AFullDiskStopsWithACureAndLosesNothing) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(3, "", "[3]"));
    const test::CommandOptions here{.directory = directory.path()};
    ASSERT_EQ(run_jevrin({"train", "plan.toml", "--ledger", "whole"}, here).status, 0);
    for (const long bytes : {100'000L, 20'000L, 4'000L}) {
        test::CommandOptions full = here;
        full.largest_file_bytes = bytes;
        const CommandResult result = run_jevrin({"train", "plan.toml", "--ledger", "full"}, full);
        EXPECT_EQ(result.status, 1) << bytes << result.output << result.errors;
        EXPECT_THAT(result.errors, testing::AnyOf(HasSubstr("start again"), HasSubstr("disk"))) << bytes;
        for (const auto& entry : std::filesystem::recursive_directory_iterator(directory / "full"))
            EXPECT_THAT(entry.path().string(), testing::Not(testing::EndsWith(".part")));
    }
    EXPECT_EQ(run_jevrin({"train", "plan.toml", "--ledger", "full"}, here).status, 0);
    EXPECT_EQ(dump(directory / "full"), dump(directory / "whole"));
}

}  // namespace
}  // namespace jevrin
