// What the tool says about a trained run: scores, classes, matrices, mistakes, items, suspects, marks,
// thresholds; and what it refuses.
#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/images/image.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <chrono>
#include <cmath>
#include <set>
#include <sstream>
#include <thread>

namespace jevrin {
namespace {

using nlohmann::json;
using test::CommandResult;
using test::run_jevrin;
using test::small_plan;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

std::string read_text(const std::filesystem::path& file) {
    const std::vector<std::byte> bytes = read_file(file);
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

std::size_t lines_of(const std::string& text) {
    return static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
}

bool is_picture(const std::filesystem::path& file) {
    const std::string text = read_text(file);
    return text.starts_with("\x89PNG") || text.find("<svg") != std::string::npos;
}

class Evaluated : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<TemporaryDirectory>();
        write_small_study(directory_->path(), small_plan(3));
        EXPECT_EQ(run({"train", "plan.toml", "--keep-epochs"}).status, 0);
    }
    static void TearDownTestSuite() { directory_.reset(); }
    static CommandResult run(const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory_->path()});
    }
    static json run_json(std::vector<std::string> arguments) {
        arguments.emplace_back("--json");
        const CommandResult result = run(arguments);
        EXPECT_EQ(result.status, 0) << result.errors;
        return json::parse(result.output);
    }
    static std::filesystem::path file(const std::string& name) { return *directory_ / name; }

    static inline std::unique_ptr<TemporaryDirectory> directory_;
};

// A run with mistakes.
const char* const bad_run = "new head/1";

TEST_F(Evaluated, ScoresComeWithIntervalsAndBaselines) {
    const json scores = run_json({"scores", bad_run});
    EXPECT_EQ(scores["items"], 9);
    const json matrix = run_json({"confusion", bad_run});
    std::int64_t right = 0;
    for (std::size_t c = 0; c < 3; ++c) right += matrix["counts"][c][c].get<std::int64_t>();
    EXPECT_EQ(scores["right"], right);
    EXPECT_EQ(scores["scores"]["accuracy"]["value"], static_cast<double>(right) / 9);
    EXPECT_EQ(scores["scores"].size(), 19U);
    for (const auto& [name, entry] : scores["scores"].items()) {
        ASSERT_TRUE(entry["interval"].is_array()) << name;
        EXPECT_LE(entry["interval"][0], entry["interval"][1]) << name;
    }
    EXPECT_DOUBLE_EQ(scores["scores"]["cross_entropy"]["random"], std::log(3.0));
    EXPECT_DOUBLE_EQ(scores["scores"]["accuracy"]["majority"], 1.0 / 3);
    EXPECT_EQ(scores["bootstrap"]["seed"], 1);
    EXPECT_EQ(run_json({"scores", bad_run, "--top-k", "3"})["scores"]["top_k"]["value"], 1.0);
    const CommandResult text = run({"scores", bad_run, "--figure", "reliability.svg"});
    EXPECT_THAT(text.output,
                AllOf(HasSubstr("9 items say little"), HasSubstr("Cohen's kappa"),
                      HasSubstr("top-2 accuracy"), HasSubstr("next: jevrin classes 'new head/1'")));
    EXPECT_TRUE(is_picture(file("reliability.svg")));
}

TEST_F(Evaluated, ScoresOfOtherPartsAndKeptEpochsAreComputed) {
    const json training = run_json({"scores", "last stage/1", "--part", "training"});
    EXPECT_EQ(training["items"], 18);
    const json matrix = run_json({"confusion", "last stage/1", "--epoch", "1"});
    const json first = run_json({"scores", "last stage/1", "--epoch", "1"});
    EXPECT_EQ(first["epoch"], 1);
    std::int64_t right = 0;
    for (std::size_t c = 0; c < 3; ++c) right += matrix["counts"][c][c].get<std::int64_t>();
    EXPECT_EQ(first["right"], right);
    const CommandResult missing = run({"scores", "last stage/1", "--epoch", "9"});
    EXPECT_EQ(missing.status, 2);
    EXPECT_THAT(missing.errors, HasSubstr("--keep-epochs"));
}

TEST_F(Evaluated, PredictionsMadeElsewhereAreScoredWhenInStep) {
    ASSERT_EQ(run({"scores", bad_run, "--csv", "own.csv"}).status, 0);
    const json own = run_json({"scores", bad_run});
    EXPECT_EQ(run_json({"scores", bad_run, "--predictions", "own.csv"})["scores"], own["scores"]);
    const std::string text = read_text(file("own.csv"));
    const auto refusal = [&](const std::string& changed) {
        write_file(file("changed.csv"), changed);
        const CommandResult result = run({"scores", bad_run, "--predictions", "changed.csv"});
        EXPECT_EQ(result.status, 2);
        EXPECT_EQ(result.output, "");
        return result.errors;
    };
    const std::size_t first = text.find('\n') + 1;
    const std::size_t second = text.find('\n', first) + 1;
    const std::string row = text.substr(first, second - first);
    EXPECT_THAT(refusal(text.substr(0, first) + text.substr(second)),
                AllOf(HasSubstr("changed.csv"), HasSubstr("out of step with the 9 items: 1 missing")));
    EXPECT_THAT(refusal(text + row), HasSubstr("1 given more than once"));
    EXPECT_THAT(refusal(text + "nowhere.png,across,across,1,0,0\n"),
                HasSubstr("1 of unknown items ('nowhere.png')"));
    // Paths without the hash will do, in any order.
    std::string paths = "both,down,item,across\n";
    std::istringstream lines(text.substr(first));
    for (std::string line; std::getline(lines, line);)
        paths += "0.25,0.25," + line.substr(0, line.find('#')) + ",0.5\n";
    write_file(file("paths.csv"), paths);
    EXPECT_DOUBLE_EQ(
        run_json({"scores", bad_run, "--predictions", "paths.csv"})["scores"]["accuracy"]["value"], 1.0 / 3);
    std::string bad = paths;
    bad.replace(bad.find("0.25,"), 4, "nan");
    EXPECT_THAT(refusal(bad), HasSubstr("no probability"));
    bad = paths;
    bad.replace(bad.find("0.25,"), 4, "0.95");
    EXPECT_THAT(refusal(bad), HasSubstr("1 of 9 predictions do not sum to 1"));
    bad = paths;
    bad.replace(bad.find("0.25,"), 4, "much");
    EXPECT_THAT(refusal(bad), AllOf(HasSubstr("changed.csv:2"), HasSubstr("'much' is no number")));
    bad = paths;
    bad.replace(bad.find("both"), 4, "bath");
    EXPECT_THAT(refusal(bad), HasSubstr("'both'"));
}

TEST_F(Evaluated, ClassesAreSortedAndShownAsWanted) {
    const json classes = run_json({"classes", bad_run});
    double before = -1.0;
    std::int64_t wrong = 0;
    for (const json& entry : classes["classes"]) {
        EXPECT_GE(entry["recall"], before);
        before = entry["recall"];
        EXPECT_EQ(entry["support"], 3);
        EXPECT_EQ(entry["right"].get<int>() + entry["false_negatives"].get<int>(), 3);
        wrong += entry["false_positives"].get<std::int64_t>();
    }
    EXPECT_EQ(wrong, 9 - classes["right"].get<std::int64_t>());
    const CommandResult text = run({"classes", bad_run, "--columns", "f1,support", "--sort", "name", "--csv",
                                    "classes.csv", "--figure", "classes.png"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("strongest confusions:"), HasSubstr("weakest classes: "),
                                   HasSubstr("next: jevrin mistakes 'new head/1' --true")));
    EXPECT_TRUE(read_text(file("classes.csv")).starts_with("class,f1,support\nacross,"));
    EXPECT_TRUE(is_picture(file("classes.png")));
    const std::string last = run({"classes", bad_run, "--sort", "name", "--reverse", "--most", "1"}).output;
    EXPECT_THAT(last, AllOf(HasSubstr("\ndown "), HasSubstr("... and 2 more classes")));
    EXPECT_THAT(run({"classes", bad_run, "--columns", "recal"}).errors, HasSubstr("did you mean 'recall'"));
}

TEST_F(Evaluated, MatricesAreAddedUpSharedAndWritten) {
    const json first = run_json({"confusion", "new head/1"});
    const json second = run_json({"confusion", "new head/2"});
    const json both = run_json({"confusion", "new head", "--shares", "predicted"});
    EXPECT_EQ(both["runs"], (json::array({"new head/1", "new head/2"})));
    for (std::size_t i = 0; i < 3; ++i)
        for (std::size_t j = 0; j < 3; ++j)
            EXPECT_EQ(both["counts"][i][j],
                      first["counts"][i][j].get<int>() + second["counts"][i][j].get<int>());
    for (std::size_t j = 0; j < 3; ++j) {
        double column = 0.0;
        for (std::size_t i = 0; i < 3; ++i) column += both["shares"][i][j].get<double>();
        EXPECT_TRUE(std::abs(column - 1.0) < 1e-9 || column == 0.0);
    }
    const CommandResult text = run({"confusion", bad_run, "--shares", "true", "--csv", "m.csv", "--figure",
                                    "m.svg", "--strip", "strip.png"});
    EXPECT_EQ(text.status, 0) << text.errors;
    EXPECT_TRUE(read_text(file("m.csv")).starts_with("true,across,both,down\nacross,"));
    EXPECT_TRUE(is_picture(file("m.svg")));
    EXPECT_TRUE(is_picture(file("strip.png")));
    EXPECT_THAT(run({"confusion", "new head", "--strip", "x.png"}).errors, HasSubstr("name one run"));
}

TEST_F(Evaluated, MistakesAreThoseOfTheMatrix) {
    const json matrix = run_json({"confusion", bad_run});
    const json all = run_json({"mistakes", bad_run});
    const json right = run_json({"mistakes", bad_run, "--show", "right"});
    EXPECT_EQ(all["mistakes"].size() + right["mistakes"].size(), 9U);
    double before = 2.0;
    for (const json& mistake : all["mistakes"]) {
        EXPECT_NE(mistake["label"], mistake["predicted"]);
        EXPECT_LE(mistake["confidence"], before);
        before = mistake["confidence"];
    }
    for (const json& item : right["mistakes"]) EXPECT_EQ(item["label"], item["predicted"]);
    const std::vector<std::string> names = {"across", "both", "down"};
    for (std::size_t i = 0; i < 3; ++i)
        for (std::size_t j = 0; j < 3; ++j)
            EXPECT_EQ(run_json({"mistakes", bad_run, "--show", "all", "--true", names[i], "--called",
                                names[j]})["selected"],
                      matrix["counts"][i][j]);
    before = 1e9;
    const json by_loss = run_json({"mistakes", bad_run, "--by", "loss"});
    for (const json& mistake : by_loss["mistakes"]) {
        EXPECT_LE(mistake["loss"], before);
        before = mistake["loss"];
    }
    const auto random = [&](const std::string& seed) {
        return run_json({"mistakes", bad_run, "--show", "all", "--by", "random", "--seed", seed})["mistakes"];
    };
    EXPECT_EQ(random("1"), random("1"));
    EXPECT_NE(random("1"), random("2"));
    const CommandResult text =
        run({"mistakes", bad_run, "--most", "2", "--sheet", "sheet.png", "--csv", "mistakes.csv"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("and 4 more"), HasSubstr("next: jevrin item 'new head/1'")));
    EXPECT_TRUE(is_picture(file("sheet.png")));
    EXPECT_EQ(lines_of(read_text(file("mistakes.csv"))), 1 + all["mistakes"].size());
    EXPECT_THAT(run({"mistakes", bad_run, "--true", "accross"}).errors, HasSubstr("did you mean 'across'"));
}

TEST_F(Evaluated, OneItemIsShownInFull) {
    const json mistake = run_json({"mistakes", bad_run})["mistakes"][0];
    const json item = run_json({"item", bad_run, mistake["item"], "--neighbours", "4"});
    EXPECT_EQ(item["part"], "validation");
    EXPECT_EQ(item["predicted"], mistake["predicted"]);
    double sum = 0.0;
    double before = 1.0;
    for (const json& entry : item["probabilities"]) {
        EXPECT_LE(entry["probability"], before);
        before = entry["probability"];
        sum += before;
    }
    EXPECT_NEAR(sum, 1.0, 1e-5);
    EXPECT_EQ(item["probabilities"][0]["probability"], mistake["confidence"]);
    ASSERT_EQ(item["neighbours"].size(), 4U);
    EXPECT_GE(item["neighbours"][0]["likeness"], item["neighbours"][3]["likeness"]);
    EXPECT_LE(item["neighbours"][0]["likeness"], 1.000001);
    const CommandResult text = run({"item", bad_run, mistake["item"], "--sheet", "item.png"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("<- label"), HasSubstr("carry its label")));
    EXPECT_TRUE(is_picture(file("item.png")));
    EXPECT_THAT(run({"item", bad_run, "across/nothing.png"}).errors, HasSubstr("no item is called"));
    const Ledger ledger = Ledger::open(file("ledger"));
    const std::string sealed = ledger.items(ledger.run(1, bad_run).id, Part::test).front().id;
    EXPECT_THAT(run({"item", bad_run, sealed.substr(0, sealed.find('#'))}).errors, HasSubstr("sealed"));
}

TEST_F(Evaluated, SuspectsAreJudgedOutOfFoldAndCanBeMarked) {
    const json by_features = run_json({"suspects"});
    EXPECT_EQ(by_features["items"], 27);  // training and validation
    EXPECT_THAT(by_features["source"].get<std::string>(), HasSubstr("frozen features of new head"));
    const json recorded = run_json({"suspects", "last stage", "--recorded"});
    EXPECT_EQ(recorded["items"], 9);
    double before = 0.0;
    for (const json& suspect : recorded["suspects"]) {
        EXPECT_GE(suspect["label_probability"], before);
        before = suspect["label_probability"];
        EXPECT_NE(suspect["label"], suspect["proposed"]);
    }
    const CommandResult marked =
        run({"suspects", "new head/1", "--recorded", "--mark", "2", "--sheet", "suspects.png"});
    EXPECT_EQ(marked.status, 0) << marked.errors;
    EXPECT_TRUE(is_picture(file("suspects.png")));
    const json suspects = run_json({"suspects", "new head/1", "--recorded"})["suspects"];
    const json marks = run_json({"marks"});
    EXPECT_EQ(marks.size(), std::min<std::size_t>(2, suspects.size()));
    for (const json& mark : marks) {
        EXPECT_TRUE(mark["proposed"].is_null());
        EXPECT_EQ(run({"mark", mark["item"], "--remove"}).status, 0);
    }
    EXPECT_THAT(run({"suspects", "nobody"}).errors, HasSubstr("no finished run is called 'nobody'"));
}

TEST_F(Evaluated, ThresholdsMeetWhatIsWanted) {
    const json report =
        run_json({"thresholds", bad_run, "--precision", "0.6", "--recall", "0.5", "--accuracy", "0.3"});
    for (const json& one : report["classes"]) {
        if (!one["of_precision"].is_null()) {
            EXPECT_GE(one["of_precision"]["precision"], 0.6);
        }
        ASSERT_FALSE(one["of_recall"].is_null());
        EXPECT_GE(one["of_recall"]["recall"], 0.5);
    }
    EXPECT_EQ(report["coverage"].back()["answered"], 9);
    EXPECT_GE(report["of_accuracy"]["accuracy"], 0.3);
    const CommandResult text =
        run({"thresholds", bad_run, "--class", "both", "--csv", "points.csv", "--figure", "thresholds.png"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("recall of at least 0.9: take it for both from"),
                                   HasSubstr("answering only when the confidence is high enough")));
    EXPECT_TRUE(read_text(file("points.csv"))
                    .starts_with("class,threshold,precision,recall,false_positive_rate\nboth,"));
    EXPECT_TRUE(is_picture(file("thresholds.png")));
    EXPECT_EQ(run({"thresholds", bad_run, "--precision", "1.5"}).status, 2);
}

// Marks become corrections, and the next study sees them.
TEST(Marks, BecomeCorrectionsThatTheNextStudySees) {
    const TemporaryDirectory directory;
    std::string plan = small_plan(1, "", "[1]");
    plan.replace(plan.find("size = 16"), 9, "size = 16\ncorrections = \"corrections.csv\"");
    write_small_study(directory.path(), plan);
    write_file(directory / "corrections.csv", std::string("item,label,note\n"));
    const auto run = [&](const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory.path()});
    };
    ASSERT_EQ(run({"train", "plan.toml", "--only", "new head"}).status, 0);
    const Ledger before = Ledger::open(directory / "ledger");
    std::vector<std::string> across;
    std::vector<std::string> both;
    for (const ItemRecord& item : before.items(1))
        (item.label == 0 ? across : both).push_back(item.id.substr(0, item.id.find('#')));
    EXPECT_EQ(run({"mark", across[0], "--label", "down", "--note", "clearly, \"down\""}).status, 0);
    EXPECT_EQ(run({"mark", across[1], "--exclude"}).status, 0);
    EXPECT_EQ(run({"mark", both[0], across[2], "--note", "look again"}).status, 0);
    EXPECT_EQ(run({"mark", across[3], "--label", "dwon"}).status, 2);
    EXPECT_EQ(run({"mark", across[3], "--label", "down", "--exclude"}).status, 2);
    EXPECT_THAT(run({"mark", "across/tile"}).errors, HasSubstr("no item is called"));
    EXPECT_THAT(run({"marks"}).output, AllOf(HasSubstr("leave out"), HasSubstr("look again")));
    EXPECT_EQ(run({"mark", across[2], "--remove"}).status, 0);
    EXPECT_EQ(run({"mark", across[2], "--remove"}).status, 2);
    // What somebody wrote there for another item stays.
    write_file(directory / "corrections.csv", "item,label,note\n" + both[1] + ",across,by hand\n");
    const CommandResult exported = run({"marks", "--corrections", "corrections.csv"});
    EXPECT_THAT(exported.output, HasSubstr("3 corrections written"));
    EXPECT_THAT(read_text(directory / "corrections.csv"),
                AllOf(HasSubstr(across[0] + ",down,\"clearly, \"\"down\"\"\"\n"),
                      HasSubstr(across[1] + ",exclude,\n"), HasSubstr(both[1] + ",across,by hand\n"),
                      Not(HasSubstr(both[0]))));
    ASSERT_EQ(run({"train", "plan.toml", "--only", "new head"}).status, 0);
    const Ledger after = Ledger::open(directory / "ledger");
    const StudyRecord study = after.study();
    EXPECT_EQ(study.image_set_version, 2);
    EXPECT_EQ(after.item(study.id, across[0]).label, 2U);
    EXPECT_EQ(after.items(study.id).size(), 35U);
    EXPECT_THROW(after.item(study.id, across[1]), std::exception);
    EXPECT_EQ(after.marks(study.id).size(), 3U);  // they outlast the change
    // A file that is no list of corrections is left alone.
    write_file(directory / "other.csv", std::string("a,b\n1,2\n"));
    EXPECT_EQ(run({"marks", "--corrections", "other.csv"}).status, 2);
    EXPECT_EQ(read_text(directory / "other.csv"), "a,b\n1,2\n");
}

TEST(Records, OutOfStepWithTheItemsAreRefusedWithCounts) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(1, "", "[1]"));
    const auto run = [&](const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory.path()});
    };
    ASSERT_EQ(run({"train", "plan.toml", "--only", "new head"}).status, 0);
    const auto change = [&](const std::string& sql) {
        SQLite::Database(directory / "ledger" / "ledger.db", SQLite::OPEN_READWRITE).exec(sql);
        const CommandResult result = run({"scores", "new head/1"});
        EXPECT_EQ(result.status, 2);
        return result.errors;
    };
    // Two numbers that are no probabilities, a row that is cut short, and two rows that are gone.
    EXPECT_THAT(
        change(
            "UPDATE predictions SET probabilities = x'0000c07f0000c07f0000c07f' WHERE item IN (SELECT item "
            "FROM predictions LIMIT 2)"),
        HasSubstr("2 of 9 predictions hold a number that is no probability"));
    EXPECT_THAT(
        change("UPDATE predictions SET probabilities = x'0000803f' WHERE item = (SELECT MAX(item) FROM "
               "predictions)"),
        HasSubstr("has 1 probabilities for 3 classes"));
    EXPECT_THAT(change("DELETE FROM predictions WHERE item IN (SELECT item FROM predictions ORDER BY item "
                       "DESC LIMIT 2)"),
                HasSubstr("out of step with the 9 items: 2 missing"));
}

TEST(Seal, EveryLaterOutputSaysHowOftenTheTestPartWasLookedAt) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(1, "", "[1]"));
    const auto run = [&](const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory.path()});
    };
    ASSERT_EQ(run({"train", "plan.toml"}).status, 0);
    const std::vector<std::vector<std::string>> readers = {{"runs"},
                                                           {"curves"},
                                                           {"confusion", "new head/1"},
                                                           {"scores", "new head/1"},
                                                           {"classes", "new head/1"},
                                                           {"mistakes", "new head/1"},
                                                           {"thresholds", "new head/1"},
                                                           {"suspects"},
                                                           {"show", "new head/1"},
                                                           {"choose"},
                                                           {"export", "new head/1", "m.onnx", "--replace"}};
    for (const auto& reader : readers) {
        const CommandResult result = run(reader);
        EXPECT_EQ(result.status, 0) << reader[0] << result.errors;
        EXPECT_THAT(result.output, HasSubstr("not been looked at")) << reader[0];
    }
    EXPECT_THAT(run({"scores", "new head/1", "--part", "test"}).output,
                HasSubstr("looked at 1 time, last on 20"));
    EXPECT_EQ(run({"mistakes", "last stage/1", "--part", "test"}).status, 0);
    for (const auto& reader : readers)
        EXPECT_THAT(run(reader).output, AllOf(HasSubstr("looked at 2 times"))) << reader[0];
    const json runs = json::parse(run({"runs", "--json"}).output);
    EXPECT_EQ(runs[0]["test_looks"], 0);
    EXPECT_EQ(runs[1]["test_looks"], 1);
    EXPECT_EQ(json::parse(run({"classes", "new head/1", "--json"}).output)["test_looks"], 2);
    const std::vector<TestLook> looks = Ledger::open(directory / "ledger").test_looks(1);
    ASSERT_EQ(looks.size(), 2U);
    EXPECT_EQ(looks[1].run, "last stage/1");
}

TEST(HostileNames, AreShownSafelyByEveryCommandAndNeverRun) {
    const TemporaryDirectory directory;
    const std::vector<std::string> names = {
        "\"; system('touch pwned'); \"", "`touch pwned`$(touch pwned)$HOME <script>&'quotes'",
        "new\nline \xD7\xA9\xD7\x9C\xD7\x95\xD7\x9D \xF0\x9F\x99\x82 \xE4\xB8\xAD" + std::string(170, 'x')};
    test::write_small_set(directory / "images", names, 12);
    test::write_small_backbone(directory / "backbone.onnx");
    write_file(directory / "plan.toml", small_plan(2, "", "[1]"));
    const auto run = [&](const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory.path()});
    };
    ASSERT_EQ(run({"train", "plan.toml"}).status, 0);
    const std::string item =
        json::parse(run({"mistakes", "new head/1", "--show", "all", "--json"}).output)["mistakes"][0]["item"];
    const std::vector<std::vector<std::string>> commands = {
        {"scores", "new head/1", "--figure", "a.png"},
        {"classes", "new head/1", "--figure", "b.png"},
        {"confusion", "new head/1", "--figure", "c.png", "--strip", "d.png", "--csv", "c.csv"},
        {"confusion", "new head/1", "--figure", "c.svg"},
        {"mistakes", "new head/1", "--show", "all", "--sheet", "e.png"},
        {"item", "new head/1", item, "--sheet", "f.png"},
        {"suspects", "--sheet", "g.png"},
        {"thresholds", "new head/1", "--figure", "h.png"},
        {"mark", item, "--label", names[1], "--note", "`touch pwned`"},
        {"marks", "--corrections", "k.csv"},
        {"export", "new head/1", "m.onnx"},
        {"classify", "m.onnx", "images", "--csv", "l.csv"}};
    for (const auto& command : commands) {
        const CommandResult result = run(command);
        EXPECT_EQ(result.status, 0) << command[0] << result.errors;
        EXPECT_THAT(result.output, Not(HasSubstr("new\nline"))) << command[0];
    }
    for (const char* figure :
         {"a.png", "b.png", "c.png", "d.png", "c.svg", "e.png", "f.png", "g.png", "h.png"})
        EXPECT_TRUE(is_picture(directory / figure)) << figure;
    EXPECT_FALSE(std::filesystem::exists(directory / "pwned"));
    const json answers = json::parse(run({"classify", "m.onnx", "images", "--top", "0", "--json"}).output);
    EXPECT_EQ(answers.size(), 36U);
    std::set<std::string> seen;
    for (const json& entry : answers[0]["top"]) seen.insert(entry["class"].get<std::string>());
    EXPECT_EQ(seen, std::set<std::string>(names.begin(), names.end()));
}

TEST(Suspects, OfFoldsCoverEveryItemOutsideTheTestPart) {
    const TemporaryDirectory directory;
    std::string plan = small_plan(2, "", "[1]");
    plan.replace(plan.find("parts = "), plan.find('\n', plan.find("parts = ")) - plan.find("parts = "),
                 "parts = { folds = 3, fold = \"each\", test = 0.25 }");
    write_small_study(directory.path(), plan);
    const auto run = [&](const std::vector<std::string>& arguments) {
        return run_jevrin(arguments, {.directory = directory.path()});
    };
    ASSERT_EQ(run({"train", "plan.toml", "--only", "last stage"}).status, 0);
    const json report = json::parse(run({"suspects", "--json"}).output);
    EXPECT_EQ(report["items"], 27);
    EXPECT_THAT(report["source"].get<std::string>(), HasSubstr("3 runs predicted"));
    const json added = json::parse(run({"confusion", "last stage", "--json"}).output);
    std::int64_t total = 0;
    for (const json& row : added["counts"])
        for (const json& cell : row) total += cell.get<std::int64_t>();
    EXPECT_EQ(total, 27);  // each item once
}

class Classifying : public Evaluated {
  protected:
    static void SetUpTestSuite() {
        Evaluated::SetUpTestSuite();
        EXPECT_EQ(run({"export", "from scratch/2", "m.onnx"}).status, 0);
    }
};

TEST_F(Classifying, TablesHoldTheClassesInTheModelsOrder) {
    const json answers = run_json({"classify", "m.onnx", "images", "--top", "0"});
    ASSERT_EQ(run({"classify", "m.onnx", "images/*/*", "--csv", "answers.csv"}).status, 0);
    std::istringstream lines(read_text(file("answers.csv")));
    std::string line;
    std::getline(lines, line);
    EXPECT_EQ(line, "image,class,probability,sure,unknown,distance,across,both,down");
    std::size_t rows = 0;
    for (; std::getline(lines, line); ++rows) {
        std::vector<std::string> cells;
        std::istringstream row(line);
        for (std::string cell; std::getline(row, cell, ',');) cells.push_back(cell);
        ASSERT_EQ(cells.size(), 9U);
        const json& answer = answers[rows];
        EXPECT_EQ(answer["image"], cells[0]);
        EXPECT_EQ(answer["top"][0]["class"], cells[1]);
        const std::vector<std::string> names = {"across", "both", "down"};
        for (const json& entry : answer["top"]) {
            const auto place = std::find(names.begin(), names.end(), entry["class"]) - names.begin();
            EXPECT_NEAR(std::stod(cells[static_cast<std::size_t>(6 + place)]),
                        entry["probability"].get<double>(), 1e-6);
        }
    }
    EXPECT_EQ(rows, 36U);
    EXPECT_THAT(run({"classify", "m.onnx", "images/*/*.gif"}).errors,
                HasSubstr("no file has a name like this"));
    EXPECT_THAT(run({"classify", "m.onnx"}).errors, HasSubstr("there is no image to classify"));
}

TEST_F(Classifying, SaysWhenItIsUnsureAndWhenItKnowsNothingAlike) {
    const json answers = run_json({"classify", "m.onnx", "images", "--sure-from", "0.6"});
    std::size_t unknown = 0;
    for (const json& answer : answers) {
        EXPECT_EQ(answer["sure"], answer["top"][0]["probability"] >= 0.6);
        unknown += answer["unknown"].get<bool>() ? 1 : 0;
    }
    EXPECT_LE(unknown, 6U);
    // Noise far beyond the stripes of the small pictures.
    Image strange(16, 16);
    for (std::size_t i = 0; i < strange.pixels.size(); ++i)
        strange.pixels[i] = static_cast<std::uint8_t>((i * 2654435761U >> 7U) % 2 * 255);
    write_file(file("strange.png"), encode_png(strange));
    const json answer = run_json({"classify", "m.onnx", "strange.png"});
    EXPECT_TRUE(answer[0]["unknown"].get<bool>());
    EXPECT_GT(answer[0]["distance"], 1.0);
    EXPECT_THAT(run({"classify", "m.onnx", "strange.png"}).output,
                HasSubstr("resembles nothing in training"));
}

TEST_F(Classifying, FollowsFramesThatArrive) {
    std::filesystem::create_directory(file("frames"));
    const std::vector<std::filesystem::path> pictures = [&] {
        std::vector<std::filesystem::path> found;
        for (const auto& entry : std::filesystem::directory_iterator(file("images/across")))
            found.push_back(entry.path());
        return found;
    }();
    std::thread camera([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(400));
        write_file(file("frames/broken.png"), std::string("not a picture"));
        for (int i = 0; i < 3; ++i) {
            // Written elsewhere and moved in whole, as a camera program should.
            const auto part = file(fmt::format("frame.part{}", pictures[0].extension().string()));
            std::filesystem::copy_file(pictures[static_cast<std::size_t>(i)], part,
                                       std::filesystem::copy_options::overwrite_existing);
            std::filesystem::rename(
                part, file("frames") /
                          fmt::format("{}{}", i, pictures[static_cast<std::size_t>(i)].extension().string()));
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
        }
    });
    const CommandResult result =
        run({"classify", "m.onnx", "--follow", "frames", "--idle", "1", "--json", "--csv", "frames.csv"});
    camera.join();
    EXPECT_EQ(result.status, 2);  // one could not be read
    EXPECT_THAT(result.errors, HasSubstr("broken.png"));
    ASSERT_EQ(lines_of(result.output), 3U) << result.output;
    std::istringstream lines(result.output);
    int number = 0;
    for (std::string line; std::getline(lines, line); ++number)
        EXPECT_THAT(json::parse(line)["image"].get<std::string>(),
                    HasSubstr(fmt::format("frames/{}.", number)));
    EXPECT_EQ(lines_of(read_text(file("frames.csv"))), 4U);
    EXPECT_THAT(run({"classify", "m.onnx", "--follow", "nowhere"}).errors,
                HasSubstr("no such folder to follow"));
    EXPECT_EQ(run({"classify", "m.onnx", "strange.png", "--idle", "1"}).status, 2);
}

}  // namespace
}  // namespace jevrin
