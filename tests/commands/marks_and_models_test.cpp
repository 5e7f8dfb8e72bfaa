// Marks, the seal, records and names that mean harm, and classifying new images with a run's model.
#include "commands/evaluated.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/images/image.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <chrono>
#include <set>
#include <sstream>
#include <thread>

namespace jevrin {
namespace {

using test::CommandResult;
using test::Evaluated;
using test::is_picture;
using test::lines_of;
using test::read_text;
using test::run_jevrin;
using test::small_plan;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::ContainsRegex;
using testing::HasSubstr;
using testing::Not;

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
    for (const char* candidate : {"new head", "last stage"})
        ASSERT_EQ(run({"train", "plan.toml", "--only", candidate}).status, 0);
    const Ledger before = Ledger::open(directory / "ledger");
    std::vector<std::string> across;
    std::vector<std::string> both;
    for (const ItemRecord& item : before.items(StudyId{1}))
        (item.label == 0 ? across : both).push_back(item.id.substr(0, item.id.find('#')));
    EXPECT_EQ(run({"marks", "add", across[0], "--label", "down", "--note", "clearly, \"down\""}).status, 0);
    EXPECT_EQ(run({"marks", "add", across[1], "--exclude"}).status, 0);
    EXPECT_EQ(run({"marks", "add", both[0], across[2], "--note", "look again"}).status, 0);
    EXPECT_EQ(run({"marks", "add", across[3], "--label", "dwon"}).status, 2);
    EXPECT_EQ(run({"marks", "add", across[3], "--label", "down", "--exclude"}).status, 2);
    EXPECT_THAT(run({"marks", "add", "across/tile"}).errors, HasSubstr("no item is called"));
    EXPECT_THAT(run({"marks", "list"}).output, AllOf(HasSubstr("exclude"), HasSubstr("look again")));
    EXPECT_EQ(run({"marks", "remove", across[2]}).status, 0);
    EXPECT_EQ(run({"marks", "remove", across[2]}).status, 2);
    // What somebody wrote there for another item stays.
    write_file(directory / "corrections.csv", "item,label,note\n" + both[1] + ",across,by hand\n");
    const CommandResult exported = run({"marks", "list", "--corrections", "corrections.csv"});
    EXPECT_THAT(exported.output, HasSubstr("set in [images] of the plan: corrections = \"corrections.csv\""));
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
    // What was trained before it is another comparison, and the highest score is not one of those.
    EXPECT_THAT(run({"runs"}).output,
                AllOf(ContainsRegex("2 of 2 runs finished; .*, in new head/1"),
                      HasSubstr("1 run used another version of the image set and is not compared with those "
                                "of version 2 (set)")));
    EXPECT_THAT(run({"runs", "--where", "regime=frozen"}).output, Not(HasSubstr("another version")));
    // A file that is no list of corrections is left alone.
    write_file(directory / "other.csv", std::string("a,b\n1,2\n"));
    EXPECT_EQ(run({"marks", "list", "--corrections", "other.csv"}).status, 2);
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
    for (const char* sql :
         {"UPDATE predictions SET probabilities = x'0000c07f0000c07f0000c07f' WHERE item IN (SELECT item "
          "FROM "
          "predictions LIMIT 2)",
          "UPDATE predictions SET probabilities = x'0000803f' WHERE item = (SELECT MAX(item) FROM "
          "predictions)",
          "DELETE FROM predictions WHERE item IN (SELECT item FROM predictions ORDER BY item DESC LIMIT 2)"})
        EXPECT_THAT(change(sql), HasSubstr("a run's probabilities: not what was written"));
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
                HasSubstr("looked at 1 time, with 1 run; last on 20"));
    EXPECT_EQ(run({"mistakes", "last stage/1", "--part", "test"}).status, 0);
    for (const auto& reader : readers)
        EXPECT_THAT(run(reader).output, AllOf(HasSubstr("looked at 2 times"))) << reader[0];
    const Json runs = parse_json(run({"runs", "--json"}).output);
    EXPECT_EQ(runs[0]["test_looks"], 0);
    EXPECT_EQ(runs[1]["test_looks"], 1);
    EXPECT_EQ(parse_json(run({"classes", "new head/1", "--json"}).output)["test_looks"], 2);
    const std::vector<TestLook> looks = Ledger::open(directory / "ledger").test_looks(StudyId{1});
    ASSERT_EQ(looks.size(), 2U);
    EXPECT_EQ(looks[1].run, "last stage/1");
    EXPECT_THAT(run({"scores", "new head/1", "--part", "test"}).output,
                HasSubstr("looked at 3 times, with 2 runs; last on 20"));
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
        parse_json(run({"mistakes", "new head/1", "--show", "all", "--json"}).output)["mistakes"][0]["item"]
            .get<std::string>();
    const std::vector<std::vector<std::string>> commands = {
        {"scores", "new head/1", "--figure", "a.png"},
        {"classes", "new head/1", "--figure", "b.png"},
        {"confusion", "new head/1", "--figure", "c.png", "--strip", "d.png", "--csv", "c.csv"},
        {"confusion", "new head/1", "--figure", "c.svg"},
        {"mistakes", "new head/1", "--show", "all", "--sheet", "e.png"},
        {"show", "new head/1", item, "--sheet", "f.png"},
        {"suspects", "--sheet", "g.png"},
        {"thresholds", "new head/1", "--figure", "h.png"},
        {"marks", "add", item, "--label", names[1], "--note", "`touch pwned`"},
        {"marks", "list", "--corrections", "k.csv"},
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
    const Json answers = parse_json(run({"classify", "m.onnx", "images", "--top", "0", "--json"}).output);
    EXPECT_EQ(answers.size(), 36U);
    std::set<std::string> seen;
    for (const Json& entry : answers[0]["top"]) seen.insert(entry["class"].get<std::string>());
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
    const Json report = parse_json(run({"suspects", "--json"}).output);
    EXPECT_EQ(report["items"], 27);
    EXPECT_THAT(report["source"].get<std::string>(), HasSubstr("3 runs predicted"));
    const Json added = parse_json(run({"confusion", "last stage", "--json"}).output);
    std::int64_t total = 0;
    for (const Json& row : added["counts"])
        for (const Json& cell : row) total += cell.get<std::int64_t>();
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
    const Json answers = run_json({"classify", "m.onnx", "images", "--top", "0"});
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
        const Json& answer = answers[rows];
        EXPECT_EQ(answer["image"], cells[0]);
        EXPECT_EQ(answer["top"][0]["class"], cells[1]);
        const std::vector<std::string> names = {"across", "both", "down"};
        for (const Json& entry : answer["top"]) {
            const auto place = std::find(names.begin(), names.end(), entry["class"]) - names.begin();
            EXPECT_NEAR(std::stod(cells[static_cast<std::size_t>(6 + place)]),
                        entry["probability"].get<double>(), 1e-6);
        }
    }
    EXPECT_EQ(rows, 36U);
    EXPECT_THAT(run({"classify", "m.onnx", "images/*/*.gif"}).errors, HasSubstr("no file matches"));
    EXPECT_THAT(run({"classify", "m.onnx"}).errors, HasSubstr("there is no image to classify"));
}

TEST_F(Classifying, SaysWhenItIsUnsureAndWhenItKnowsNothingAlike) {
    const Json answers = run_json({"classify", "m.onnx", "images", "--sure-from", "0.6"});
    std::size_t unknown = 0;
    for (const Json& answer : answers) {
        EXPECT_EQ(answer["sure"], answer["top"][0]["probability"] >= 0.6);
        unknown += answer["unknown"].get<bool>() ? 1 : 0;
    }
    EXPECT_LE(unknown, 6U);
    // Noise far beyond the stripes of the small images.
    Image strange(16, 16);
    for (std::size_t i = 0; i < strange.pixels.size(); ++i)
        strange.pixels[i] = static_cast<std::uint8_t>((i * 2654435761U >> 7U) % 2 * 255);
    write_file(file("strange.png"), encode_png(strange));
    const Json answer = run_json({"classify", "m.onnx", "strange.png"});
    EXPECT_TRUE(answer[0]["unknown"].get<bool>());
    EXPECT_GT(answer[0]["distance"], 1.0);
    EXPECT_THAT(run({"classify", "m.onnx", "strange.png"}).output, HasSubstr("out of distribution"));
}

TEST_F(Classifying, FollowsFramesThatArrive) {
    test::ignore_messages();  // in any order
    std::filesystem::create_directory(file("frames"));
    const std::vector<std::filesystem::path> images = [&] {
        std::vector<std::filesystem::path> found;
        for (const auto& entry : std::filesystem::directory_iterator(file("images/across")))
            found.push_back(entry.path());
        return found;
    }();
    std::thread camera([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(400));
        write_file(file("frames/broken.png"), std::string("not an image"));
        for (int i = 0; i < 3; ++i) {
            // Written elsewhere and moved in whole, as a camera program should.
            const auto part = file(fmt::format("frame.part{}", images[0].extension().string()));
            std::filesystem::copy_file(images[static_cast<std::size_t>(i)], part,
                                       std::filesystem::copy_options::overwrite_existing);
            std::filesystem::rename(
                part, file("frames") /
                          fmt::format("{}{}", i, images[static_cast<std::size_t>(i)].extension().string()));
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
        EXPECT_THAT(parse_json(line)["image"].get<std::string>(),
                    HasSubstr(fmt::format("frames/{}.", number)));
    EXPECT_EQ(lines_of(read_text(file("frames.csv"))), 4U);
    EXPECT_THAT(run({"classify", "m.onnx", "--follow", "nowhere"}).errors,
                HasSubstr("there is no such folder"));
    EXPECT_EQ(run({"classify", "m.onnx", "strange.png", "--idle", "1"}).status, 2);
}

}  // namespace
}  // namespace jevrin
