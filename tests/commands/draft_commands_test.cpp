// A first plan from a folder: an ordinary plan, with its reasons, that is checked and trained as any other.
#include "support/encoded_images.hpp"
#include "support/exported_model.hpp"
#include "support/support.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/plan/plan.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

using test::CommandResult;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::HasSubstr;

class Drafted : public testing::Test {
  protected:
    CommandResult run(const std::vector<std::string>& arguments) {
        return test::run_jevrin(arguments, {.directory = directory_.path()});
    }
    TemporaryDirectory directory_;
};

TEST_F(Drafted, ThreeRegimesWithinTheTimeFromOwnImagesAndABackbone) {
    test::write_small_set(directory_ / "tiles", {"across", "both", "down"}, 12);
    test::write_small_backbone(directory_ / "backbone.onnx");
    const CommandResult drafted = run({"draft", "tiles/", "--backbone", "backbone.onnx", "--hours", "0.002"});
    ASSERT_EQ(drafted.status, 0) << drafted.errors;
    EXPECT_THAT(drafted.output,
                AllOf(HasSubstr("images.size = 16"), HasSubstr("what backbone.onnx was made for"),
                      HasSubstr("metric = \"accuracy\""), HasSubstr("jevrin check tiles.toml")));
    const Plan plan = read_plan(directory_ / "tiles.toml");
    EXPECT_EQ(plan.candidates.size(), 6U);  // two learning rates of each regime
    EXPECT_EQ(plan.seeds.size(), 3U);
    EXPECT_THAT(read_text(directory_ / "tiles.toml"),
                HasSubstr("# the classes have about the same number of images"));
    const std::string checked = run({"check", "tiles.toml"}).output;
    std::size_t shared = 0;  // variants that differ in their learning rate alone
    for (std::size_t at = 0; (at = checked.find("layer by layer as '", at)) != std::string::npos; ++at)
        ++shared;
    EXPECT_EQ(shared, 3U);
    const CommandResult trained = run({"train", "tiles.toml", "--only", "new head"});
    EXPECT_EQ(trained.status, 0) << trained.errors;
    // Nothing is overwritten, and the plan that is there stays as it is.
    const std::string before = read_text(directory_ / "tiles.toml");
    const CommandResult again = run({"draft", "tiles", "--backbone", "backbone.onnx"});
    EXPECT_EQ(again.status, 2);
    EXPECT_THAT(again.errors, AllOf(HasSubstr("tiles.toml: this file exists"), HasSubstr("--plan")));
    EXPECT_EQ(read_text(directory_ / "tiles.toml"), before);
}

TEST_F(Drafted, FactsOfTheImagesDecide) {
    test::write_small_set(directory_ / "tiles", {"across", "both"}, 12);
    for (int i = 3; i < 12; ++i)
        for (const char* extension : {"png", "jpg"})
            std::filesystem::remove(directory_ / ("tiles/both/" + std::string(i < 10 ? "0" : "") +
                                                  std::to_string(i) + "." + extension));
    const CommandResult drafted = run({"draft", "tiles", "--plan", "own.toml", "--json", "--hours", "0.001"});
    ASSERT_EQ(drafted.status, 0) << drafted.errors;
    const Json json = parse_json(drafted.output);
    EXPECT_EQ(json["plan"], "own.toml");
    std::map<std::string, Json> decisions;
    for (const Json& one : json["decisions"]) decisions[one["key"].get<std::string>()] = one;
    EXPECT_EQ(decisions["metric"]["value"], "\"balanced_accuracy\"");
    EXPECT_THAT(decisions["metric"]["reason"].get<std::string>(),
                HasSubstr("'across' has 4.0 times the images of 'both'"));
    EXPECT_THAT(decisions["training.loss"]["value"].get<std::string>(), HasSubstr("balanced"));
    EXPECT_THAT(json["notes"][0].get<std::string>(), HasSubstr("pretrained backbone"));
    EXPECT_EQ(read_plan(directory_ / "own.toml").candidates.size(), 4U);
}

TEST_F(Drafted, ImagesOfOneObjectStayInOnePart) {
    const std::vector<std::string> classes = {"across", "both", "down"};
    test::write_small_set(directory_ / "tiles", classes, 12);
    int object = 0;
    for (const std::string& label : classes) {
        int image = 0;
        for (const std::filesystem::path& file : image_files(directory_ / "tiles" / label)) {
            const std::string name = fmt::format("tile{:02}-{}", object + image / 2, image % 2);
            std::filesystem::rename(file, file.parent_path() / (name + file.extension().string()));
            ++image;
        }
        object += image / 2;
    }
    EXPECT_THAT(run({"survey", "tiles"}).output, HasSubstr("36 images may show 18 objects"));
    ASSERT_EQ(run({"draft", "tiles", "--hours", "0.001"}).status, 0);
    const Plan plan = read_plan(directory_ / "tiles.toml");
    const Json named = parse_json(run({"survey", "tiles", "--json"}).output).at("name_groups");
    EXPECT_EQ(named.at("pattern"), plan.images.source.group_pattern);
    EXPECT_EQ(named.at("groups"), 18);
    EXPECT_EQ(named.at("items"), 36);
    EXPECT_EQ(run({"check", "tiles.toml"}).errors, "");
    std::string text = read_text(directory_ / "tiles.toml");
    const std::size_t at = text.find("group_pattern");
    text.erase(at, text.find('\n', at) - at);
    write_file(directory_ / "leaking.toml", text);
    EXPECT_THAT(run({"check", "leaking.toml"}).errors,
                AllOf(HasSubstr("set group_pattern = '" + plan.images.source.group_pattern + "'"),
                      HasSubstr("in training and in validation")));
}

TEST_F(Drafted, PublishedArraysKeepTheirTestPart) {
    RandomStream random({1, Purpose::sample, 0, 0});
    const auto images = [&](unsigned count) {
        std::string bytes;
        for (unsigned i = 0; i < count * 64; ++i) bytes += static_cast<char>(random.below(256));
        return test::idx_of({count, 8, 8}, bytes);
    };
    const auto labels = [](unsigned count) {
        std::string bytes;
        for (unsigned i = 0; i < count; ++i) bytes += static_cast<char>(i % 2);
        return test::idx_of({count}, bytes);
    };
    write_file(directory_ / "train.gz", test::gzip_of(images(40)));
    write_file(directory_ / "train-labels.gz", test::gzip_of(labels(40)));
    write_file(directory_ / "held.gz", test::gzip_of(images(12)));
    write_file(directory_ / "held-labels.gz", test::gzip_of(labels(12)));
    const CommandResult drafted =
        run({"draft", "train.gz", "--labels", "train-labels.gz", "--test-from", "held.gz", "--test-labels",
             "held-labels.gz", "--plan", "arrays.toml", "--hours", "0.001"});
    ASSERT_EQ(drafted.status, 0) << drafted.errors;
    const Plan plan = read_plan(directory_ / "arrays.toml");
    EXPECT_EQ(plan.images.source.test_from, directory_ / "held.gz");
    EXPECT_EQ(plan.images.source.test_labels, directory_ / "held-labels.gz");
    EXPECT_TRUE(plan.images.source.validation_from.empty());
    EXPECT_EQ(plan.images.fitting.size, ImageSize(8));  // no larger than the images
    EXPECT_EQ(plan.images.parts->by, PartsBy::given);
    EXPECT_EQ(plan.images.parts->validation, 0.2);
    EXPECT_EQ(run({"check", "arrays.toml"}).status, 0);
    // With a validation part as well, all three stand.
    const CommandResult three =
        run({"draft", "train.gz", "--labels", "train-labels.gz", "--test-from", "held.gz", "--test-labels",
             "held-labels.gz", "--validation-from", "held.gz", "--validation-labels", "held-labels.gz",
             "--plan", "three.toml", "--hours", "0.001"});
    ASSERT_EQ(three.status, 0) << three.errors;
    EXPECT_THAT(read_text(directory_ / "three.toml"), HasSubstr("parts = \"given\""));
    EXPECT_EQ(run({"draft", "train.gz", "--labels", "train-labels.gz", "--test-from", "held.gz", "--plan",
                   "none.toml"})
                  .status,
              2);
}

TEST_F(Drafted, AForeignBackboneAsksForItsScaling) {
    test::write_small_set(directory_ / "tiles", {"across", "both", "down"}, 12);
    test::write_exported_model(directory_ / "t.onnx", {.family = test::ExportedFamily::transformer,
                                                       .style = test::NamingStyle::numbered});
    const CommandResult drafted = run({"draft", "tiles", "--backbone", "t.onnx", "--hours", "0.01"});
    ASSERT_EQ(drafted.status, 0) << drafted.errors;
    EXPECT_THAT(drafted.errors, HasSubstr("t.onnx stores no input normalisation: set 'scaling'"));
    EXPECT_THAT(read_text(directory_ / "tiles.toml"), HasSubstr("train_from = \"blocks.1\""));
    EXPECT_EQ(run({"check", "tiles.toml"}).status, 0);
}

TEST_F(Drafted, ImagesMuchSmallerThanTheBackboneIsMadeForAreSaid) {
    test::write_small_set(directory_ / "tiles", {"across", "both", "down"}, 12);
    test::write_small_backbone(directory_ / "net.onnx", 96);
    const CommandResult drafted = run({"draft", "tiles", "--backbone", "net.onnx", "--hours", "0.01"});
    ASSERT_EQ(drafted.status, 0) << drafted.errors;
    EXPECT_THAT(drafted.errors, HasSubstr("and the backbone was made for 96x96: they are enlarged"));
}

TEST_F(Drafted, BackbonesOfOneNameAreNumbered) {
    test::write_small_set(directory_ / "tiles", {"across", "both", "down"}, 12);
    for (const char* folder : {"first", "second"}) {
        std::filesystem::create_directory(directory_ / folder);
        test::write_small_backbone(directory_ / folder / "net.onnx");
    }
    const CommandResult drafted = run({"draft", "tiles", "--backbone", "first/net.onnx", "--backbone",
                                       "second/net.onnx", "--hours", "0.01"});
    ASSERT_EQ(drafted.status, 0) << drafted.errors;
    const Plan plan = read_plan(directory_ / "tiles.toml");
    ASSERT_EQ(plan.backbones.size(), 2U);
    EXPECT_EQ(plan.backbones[0].name, "net 1");
    EXPECT_EQ(plan.backbones[1].name, "net 2");
}

TEST_F(Drafted, WhatCannotBeIsRefusedAndNothingIsWritten) {
    test::write_small_set(directory_ / "tiles", {"across", "both"}, 12);
    EXPECT_EQ(run({"draft", "nowhere"}).status, 2);
    EXPECT_THAT(run({"draft", "tiles", "--backbone", "none.onnx"}).errors, HasSubstr("none.onnx"));
    EXPECT_EQ(run({"draft", "tiles", "--hours", "0"}).status, 2);
    EXPECT_FALSE(std::filesystem::exists(directory_ / "tiles.toml"));
}

}  // namespace
}  // namespace jevrin
