// Results of ledgers, models and batch scripts: what their forms say.
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/results/batch_script_result.hpp"
#include "jevrin/results/item_result.hpp"
#include "jevrin/results/layers_result.hpp"
#include "jevrin/results/ledgers_result.hpp"

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

TEST(BatchScriptForms, SayWhatEachProcessTakes) {
    BatchScriptResult result{.script = {.processes = 4, .bytes = 1'500'000'000, .seconds = 600, .limit = 20},
                             .settings = {.threads = 2, .lead = 120},
                             .runs = 7,
                             .file = "job.sh"};
    EXPECT_EQ(
        to_text(result),
        "7 runs on 4 ranks with 2 threads and 1.50 GB of memory each: about 10 min 0 s if its processors "
        "are like this one;\ntime limit 20 min 0 s, saved and queued again 2 min 0 s before it\n");
    const Json json = parse_json(to_json(result));
    EXPECT_EQ(json.at("kind"), "mpi");
    EXPECT_EQ(json.at("processes"), 4);
    EXPECT_EQ(json.at("memory_bytes"), 1'500'000'000);
    EXPECT_EQ(json.at("limit_minutes"), 20);
    result.settings.array = 4;
    EXPECT_THAT(to_text(result), HasSubstr("on 4 tasks of an array with"));
    EXPECT_EQ(parse_json(to_json(result)).at("kind"), "array");
}

TEST(LedgerForms, CountWhatWasCopiedAndNameWhatDiffers) {
    const TemporaryDirectory directory;
    {
        MadeUpStudy first(directory / "first", 3, 8);
        first.add_run({.candidate = "same"});
        first.add_run({.candidate = "luckier"});
        first.add_run({.candidate = "ours"});
        first.add_run({.candidate = "tuned", .settings = R"({"training": {"batch": 8}})"});
        MadeUpStudy second(directory / "second", 3, 8);
        second.add_run({.candidate = "same"});
        second.add_run(
            {.candidate = "luckier", .predicted = [](std::size_t, std::size_t) { return std::size_t{1}; }});
        second.add_run({.candidate = "theirs"});
        second.add_run({.candidate = "tuned", .settings = R"({"training": {"batch": 16}})"});
    }
    const ContrastResult contrast = report_contrast(directory / "first", directory / "second");
    const std::string text = to_text(contrast);
    EXPECT_THAT(text, AllOf(HasSubstr("1 run with the same settings and score in both"),
                            HasSubstr("the score, with the same settings"), HasSubstr("training.batch"),
                            HasSubstr("only in the first"), HasSubstr("only in the second"),
                            Not(HasSubstr("same/1"))));
    const auto line_of = [&](const std::string& run) {
        const std::size_t at = text.find(run);
        return text.substr(at, text.find('\n', at) - at);
    };
    EXPECT_THAT(line_of("luckier/1"), AllOf(HasSubstr("1.000"), HasSubstr("0.333")));
    EXPECT_THAT(line_of("ours/1"),
                AllOf(HasSubstr("1.000"), HasSubstr(" - "), HasSubstr("only in the first")));
    EXPECT_EQ(line_of("theirs/1"), "theirs/1       -   1.000  only in the second");
    for (const Json& pair : parse_json(to_json(contrast))) {
        EXPECT_EQ(pair.at("in_first"), pair.at("run") != "theirs/1");
        EXPECT_EQ(pair.at("in_second"), pair.at("run") != "ours/1");
        EXPECT_EQ(pair.at("first").is_null(), pair.at("run") == "theirs/1");
    }

    const MergeResult merged = merge_ledgers(directory / "second", directory / "first");
    EXPECT_EQ(merged.summary.known, 2);
    EXPECT_THAT(to_text(merged),
                AllOf(HasSubstr("0 studies and 2 runs copied from "), HasSubstr("; 2 there already")));
    const Json json = parse_json(to_json(merged));
    EXPECT_EQ(json.at("studies"), 0);
    EXPECT_EQ(json.at("runs"), 2);
    EXPECT_EQ(json.at("known"), 2);
    EXPECT_EQ(json.at("differing"), 1);
}

TEST(ItemForms, ShowProbabilitiesNeighboursAndWhatIsMarked) {
    ItemResult result{.study = {.image_root = "/tiles", .classes = {"crazing", "sound"}},
                      .run = {.candidate = "new head", .seed = 2},
                      .item = {"sound/7.png#1", 1},
                      .part = Part::validation,
                      .probabilities = {0.75F, 0.25F},
                      .neighbours = {{{"sound/1.png#2", 1}, 0.9},
                                     {{"crazing/2.png#3", 0}, 0.8},
                                     {{"crazing/3.png#4", 0}, 0.7}},
                      .mark = MarkRecord{.label = "crazing", .note = "fine lines"}};
    const std::string text = to_text(result);
    EXPECT_THAT(text, AllOf(HasSubstr("/tiles/sound/7.png\nvalidation part of new head/2; label sound, "
                                      "predicted crazing\n"),
                            HasSubstr("1 of 3 have the same label\n"), HasSubstr("<- label"),
                            HasSubstr("\nmarked: crazing fine lines\n")));
    EXPECT_LT(text.find("crazing        0.750"), text.find("sound          0.250"));
    const Json json = parse_json(to_json(result));
    EXPECT_EQ(json.at("predicted"), "crazing");
    EXPECT_EQ(json.at("neighbours")[1].at("item"), "crazing/2.png");
    EXPECT_EQ(json.at("neighbours")[1].at("label"), "crazing");
    result.mark->label.clear();
    result.mark->excluded = true;
    result.part = Part::training;
    EXPECT_THAT(to_text(result), AllOf(HasSubstr("marked: to be excluded fine lines"),
                                       HasSubstr("predicted crazing (in the training part)")));
}

TEST(LayersForms, ShowTheStagesOfAModelWithAndWithoutItsPreparation) {
    const TemporaryDirectory directory;
    test::write_small_backbone(directory / "net.onnx");
    write_file(directory / "tile.png", encode_png(test::small_picture(1, 5, 40)));
    const LayersResult result =
        report_layers({.model = directory / "net.onnx", .image = directory / "tile.png"});
    EXPECT_EQ(result.fitted.size(), 16U * 16 * 3);
    EXPECT_THAT(result.title(), AllOf(HasSubstr("net.onnx: "), HasSubstr("tile.png")));
    const std::string text = to_text(result);
    EXPECT_THAT(text,
                AllOf(HasSubstr("stage2"), HasSubstr("8x8x8"), HasSubstr("silent: channels that are 0")));
    const Json stages = parse_json(to_json(result));
    ASSERT_EQ(stages.size(), result.stages.size());
    for (std::size_t i = 0; i < stages.size(); ++i) {
        EXPECT_EQ(stages[i].at("stage"), result.stages[i].stage);
        EXPECT_EQ(stages[i].at("zeros"), result.stages[i].zeros);
    }
}

}  // namespace
}  // namespace jevrin
