// The tool before anything is trained, and on new images: survey, compose, check, classify.
#include "support/encoded_images.hpp"
#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/images/image.hpp"

#include <fmt/format.h>

#include <filesystem>

namespace jevrin {
namespace {

using test::CommandResult;
using test::run_jevrin;
using test::small_plan;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::AllOf;
using testing::HasSubstr;

TEST(ImageCommands, SurveyReadsPlansAndIndexesAndShowsWhatTheNetworkSees) {
    const TemporaryDirectory directory;
    write_small_study(directory.path(), small_plan(1, "augment = \"strong\""));
    write_file(directory.path() / "images" / "both" / "bad.png", std::string("x"));
    write_file(directory / "corrections.csv",
               std::string("item,label,note\nacross/00.png,down,\nboth/02.png,exclude,\n"));
    std::string plan = read_text(directory / "plan.toml");
    plan.insert(plan.find("size = 16"), "corrections = \"corrections.csv\"\n");
    write_file(directory / "plan.toml", plan);
    const test::CommandOptions here{.directory = directory.path()};
    const CommandResult text = run_jevrin({"survey", "plan.toml", "--problems", "bad.csv", "--sheet",
                                           "seen.png", "--after", "plan.toml", "--candidate", "new head"},
                                          here);
    EXPECT_EQ(text.status, 0) << text.errors;
    EXPECT_THAT(text.output, AllOf(HasSubstr("35 images in 3 classes, 1 unreadable"),
                                   HasSubstr("corrections gave 1 another label and excluded 1"),
                                   HasSubstr("sizes            smallest 16x16"), HasSubstr("35 in colour"),
                                   HasSubstr("classes are balanced"), HasSubstr("has only")));
    EXPECT_THAT(read_text(directory / "bad.csv"), HasSubstr("both/bad.png,it is not an image"));
    EXPECT_TRUE(std::filesystem::exists(directory / "seen.png"));
    EXPECT_THAT(run_jevrin({"survey", "images", "--after", "plan.toml"}, here).errors, HasSubstr("--sheet"));
    EXPECT_THAT(
        run_jevrin(
            {"survey", "images", "--sheet", "x.png", "--after", "plan.toml", "--candidate", "new haed"}, here)
            .errors,
        HasSubstr("did you mean 'new head'?"));
    write_file(directory / "index.csv",
               std::string("path,label\nimages/both/00.png,x\nimages/down/00.png,y\n"));
    const Json counted = parse_json(run_jevrin({"survey", "index.csv", "--json"}, here).output);
    EXPECT_EQ(counted["items"], 2);
    EXPECT_EQ(counted["formats"]["PNG"], 2);
    EXPECT_EQ(counted["width"]["median"], 16.0);
    EXPECT_EQ(counted["imbalance"], 1.0);
}

TEST(ImageCommands, ComposeWritesASetThatATrainingCanUse) {
    const TemporaryDirectory directory;
    test::write_small_set(directory / "images", {"sound", "spotted"}, 5);
    Image spot(4, 4);
    write_file(directory / "spot.png", encode_png(spot));
    const std::string recipe = R"([images]
from = "images"
[compose]
copies = 2
augment = "light"
[[overlay]]
file = "spot.png"
share = 1.0
at = [[0.5, 0.5]]
label = "spotted"
onto = ["sound"]
)";
    write_file(directory / "recipe.toml", recipe);
    const test::CommandOptions here{.directory = directory.path()};
    const CommandResult made = run_jevrin({"compose", "recipe.toml", "new", "--json"}, here);
    EXPECT_EQ(made.status, 0) << made.errors;
    EXPECT_EQ(parse_json(made.output)["written"], 20);
    EXPECT_EQ(parse_json(made.output)["relabelled"], 10);
    // Every sound image became a spotted one, so nothing else is left: that is an error of the set.
    EXPECT_THAT(run_jevrin({"survey", "new/index.csv"}, here).errors, HasSubstr("holds 1 class"));
    EXPECT_EQ(run_jevrin({"compose", "recipe.toml", "new"}, here).status, 2);
    std::string original = recipe;
    original.insert(original.find("augment"), "originals = true\n");
    write_file(directory / "recipe.toml", original);
    EXPECT_THAT(run_jevrin({"compose", "recipe.toml", "more"}, here).output,
                HasSubstr("30 images written to more, 10"));
    EXPECT_EQ(parse_json(run_jevrin({"survey", "more/index.csv", "--json"}, here).output)["items"], 30);
    write_file(directory / "recipe.toml", recipe + "lable = \"x\"\n");
    EXPECT_THAT(run_jevrin({"compose", "recipe.toml", "other"}, here).errors,
                AllOf(HasSubstr("recipe.toml:12:1"), HasSubstr("did you mean 'label'?")));
}

TEST(ImageCommands, ClassifyTakesFoldersAndTheUnlabelledImagesOfAPlan) {
    const TemporaryDirectory directory;
    std::string plan = small_plan(1, "", "[1]");
    plan.insert(plan.find("size = 16"), "unlabelled = \"new\"\n");
    write_small_study(directory.path(), plan);
    test::write_small_set(directory / "new", {"deeper"}, 3);
    const test::CommandOptions here{.directory = directory.path()};
    ASSERT_EQ(run_jevrin({"train", "plan.toml"}, here).status, 0);
    run_jevrin({"export", "new head/1", "model.onnx"}, here);
    const Json folder = parse_json(run_jevrin({"classify", "model.onnx", "new", "--json"}, here).output);
    EXPECT_EQ(folder.size(), 3U);
    const Json unlabelled =
        parse_json(run_jevrin({"classify", "model.onnx", "plan.toml", "--json"}, here).output);
    EXPECT_EQ(unlabelled.size(), 3U);
    EXPECT_EQ(unlabelled[0]["top"], folder[0]["top"]);
    make_directory(directory / "empty");
    EXPECT_THAT(run_jevrin({"classify", "model.onnx", "empty"}, here).errors,
                HasSubstr("no image to classify"));
    EXPECT_THAT(run_jevrin({"survey", "plan.toml"}, here).output, HasSubstr("3 unlabelled"));
    EXPECT_THAT(run_jevrin({"check", "plan.toml"}, here).output, HasSubstr("is valid"));
}

TEST(ImageCommands, SurveyCountsAndNamesProblems) {
    const TemporaryDirectory directory;
    test::write_small_set(directory / "set", {"many", "rare"}, 9);
    for (int i = 3; i < 9; ++i)
        std::filesystem::remove(directory.path() / "set" / "rare" /
                                fmt::format("{:02}.{}", i, i % 2 ? "jpg" : "png"));
    write_file(directory.path() / "set" / "many" / "bad.png", std::string("x"));
    std::filesystem::copy_file(directory.path() / "set" / "many" / "00.png",
                               directory.path() / "set" / "rare" / "same.png");
    const CommandResult text =
        run_jevrin({"survey", "set", "--sheet", "sheet.png"}, {.directory = directory.path()});
    EXPECT_EQ(text.status, 0) << text.errors;
    EXPECT_THAT(
        text.output,
        AllOf(HasSubstr("13 images in 2 classes, 1 unreadable"), HasSubstr("2.2 times as many"),
              HasSubstr("1 pair of one image with two labels: correct one of them\n                 "
                        "many/00.png and rare/same.png"),
              HasSubstr(
                  "left out         1 unreadable file\n                 many/bad.png: it is not an image")));
    EXPECT_TRUE(std::filesystem::exists(directory / "sheet.png"));
    const Json counted =
        parse_json(run_jevrin({"survey", "set", "--json"}, {.directory = directory.path()}).output);
    EXPECT_EQ(counted["items"], 13);
    EXPECT_EQ(counted["classes"][1], (Json{{"name", "rare"}, {"count", 4}}));
    EXPECT_EQ(counted["problems"][0]["file"], "many/bad.png");
}

TEST(ImageCommands, TwelveBitsStoredAsSixteenAreSaidToBeNearlyBlack) {
    const TemporaryDirectory directory;
    RandomStream random({1, Purpose::sample, 0, 0});
    for (const char* label : {"cracks", "sound"}) {
        std::filesystem::create_directories(directory / "set" / label);
        for (int i = 0; i < 8; ++i) {
            std::vector<int> values;
            for (int k = 0; k < 16 * 16; ++k) values.push_back(static_cast<int>(random.below(4096)));
            write_file(directory / fmt::format("set/{}/{}.tif", label, i),
                       test::tiff_of({.bits = 16, .samples = 1}, 16, 16, values));
        }
    }
    const test::CommandOptions here{.directory = directory.path()};
    EXPECT_THAT(run_jevrin({"survey", "set"}, here).output,
                AllOf(HasSubstr("nearly black: no value is above 1"), HasSubstr("value_range = [0, 4095]")));
    const auto check = [&](const std::string& range) {
        write_file(directory / "plan.toml",
                   "name = \"dark\"\nseeds = [1]\n[images]\nfrom = \"set\"\nsize = 16\n" + range +
                       "[training]\nepochs = 1\n[[candidate]]\nname = \"p\"\nregime = \"scratch\"\n"
                       "network = { family = \"perceptron\", hidden = [4] }\n");
        return run_jevrin({"check", "plan.toml"}, here);
    };
    EXPECT_THAT(check("").errors, HasSubstr("the images are nearly black"));
    const CommandResult good = check("value_range = [0, 4095]\n");
    EXPECT_EQ(good.status, 0) << good.errors;
    EXPECT_THAT(good.errors, testing::Not(HasSubstr("black")));
}

TEST(ImageCommands, AFolderThatMayNotBeReadIsNamed) {
    const TemporaryDirectory directory;
    test::write_small_set(directory / "set", {"a", "b"}, 3);
    std::filesystem::permissions(directory.path() / "set" / "b", std::filesystem::perms(0));
    const CommandResult result =
        run_jevrin({"survey", "set"}, {.directory = directory.path(), .as_nobody = true});
    std::filesystem::permissions(directory.path() / "set" / "b", std::filesystem::perms(0755));
    EXPECT_EQ(result.status, 2);
    EXPECT_THAT(result.errors, AllOf(HasSubstr("set/b: cannot read this folder"), HasSubstr("who may read")));
}

TEST(ImageCommands, CheckShowsCandidatesAndRefusesMistakes) {
    const TemporaryDirectory directory;
    const auto plan = write_small_study(directory.path(), small_plan(2));
    const CommandResult good = run_jevrin({"check", "plan.toml"}, {.directory = directory.path()});
    EXPECT_EQ(good.status, 0) << good.errors;
    EXPECT_THAT(good.output, AllOf(HasSubstr("plan 'small' is valid: 6 runs"), HasSubstr("[stem 16x16x4]"),
                                   HasSubstr("sgd, learning_rate 0.05")));
    EXPECT_EQ(
        parse_json(
            run_jevrin({"check", "plan.toml", "--json"}, {.directory = directory.path()}).output)["runs"],
        6);
    std::string text = read_text(plan);
    text.replace(text.find("epochs"), 6, "epoch");
    write_file(plan, text);
    const CommandResult bad = run_jevrin({"check", "plan.toml"}, {.directory = directory.path()});
    EXPECT_EQ(bad.status, 2);
    EXPECT_THAT(bad.errors, AllOf(HasSubstr("plan.toml:9:1: "), HasSubstr("did you mean 'epochs'")));
    EXPECT_EQ(bad.output, "");
}

}  // namespace
}  // namespace jevrin
