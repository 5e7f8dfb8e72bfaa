// What results say that come from images, networks and training, with numbers stated here: texts that were
// read once.
#include "support/recorded_text.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/results/batch_script_result.hpp"
#include "jevrin/results/check_result.hpp"
#include "jevrin/results/external_result.hpp"
#include "jevrin/results/item_result.hpp"
#include "jevrin/results/kept_runs_result.hpp"
#include "jevrin/results/layers_result.hpp"
#include "jevrin/results/ledgers_result.hpp"
#include "jevrin/results/model_results.hpp"
#include "jevrin/results/received_result.hpp"
#include "jevrin/results/survey_result.hpp"
#include "jevrin/results/thresholds_result.hpp"
#include "jevrin/results/training_result.hpp"
#include "jevrin/results/written_results.hpp"

namespace jevrin {
namespace {

class Stated : public test::StudyWithEverything {
  protected:
    template <typename Result>
    static void expect(const std::string& name, const Result& result, std::size_t width = 120) {
        std::string text =
            to_text(result, {.width = width}) + "\n---\n" + json_text(parse_json(to_json(result)), 1) + "\n";
        if constexpr (requires { to_table(result).csv(); }) text += "---\n" + to_table(result).csv();
        test::expect_recorded("results/stated " + name, std::move(text), directory_->path());
    }
};

// A plan of three candidates, with settings that differ from their defaults.
Plan stated_plan() {
    return parse_plan(R"(
name = "glaze faults"
seeds = [1, 2]
[images]
from = "glaze"
size = 48
fit = "crop"
[backbone]
file = "backbone.onnx"
[training]
epochs = 12
batch = 16
optimiser = { kind = "adam", learning_rate = 0.002, weight_decay = 1e-3 }
schedule = { kind = "cosine", warm_up = 2 }
loss = { class_weights = "balanced", label_smoothing = 0.1 }
augment = { flip = true, shift = 0.1, mixing = { form = "mixup", alpha = 0.4 } }
[[candidate]]
name = "from scratch"
regime = "scratch"
network = { family = "residual" }
training = { loss = {}, augment = {} }
[[candidate]]
name = "new head"
regime = "frozen"
last_layer = "logistic regression"
l2_regularisation = 0.5
[[candidate]]
name = "last stage"
regime = "partial"
train_from = "stage3"
head = { hidden = [64, 32], dropout = 0.2 }
)",
                      "plan.toml");
}

LayerRow layer(const std::string& name, const std::string& stage, std::int64_t parameters, bool trains) {
    return {.name = name,
            .stage = stage,
            .operators = "convolution 3x3 /2, batch normalisation, relu",
            .shape = {24, 24, 1 + parameters % 100},
            .parameters = parameters,
            .multiplications = 300 * parameters,
            .bytes = 2304 * (1 + parameters % 100),
            .trains = trains};
}

CheckResult stated_check() {
    CheckResult result{.plan = stated_plan(), .classes = 5, .check = {}, .notes = {}};
    PlanCheck& check = result.check;
    check.runs = 6;
    check.seconds = 754.0;
    check.part_sizes = {1200, 400, 399};
    check.backbones = {{"", "backbone.onnx", 192, {6, 6, 192}, "'blocks.9', the last before the head"},
                       {"small", "small.onnx", 64, {64}, "'pool', as the plan says"}};
    CandidateCheck scratch{
        .candidate = "from scratch",
        .regime = Regime::scratch,
        .stages = {"stem 24x24x17", "stage1 24x24x1", "head 5"},
        .layers = {layer("stem.convolution", "stem", 1216, true), layer("stage1.pool", "stage1", 0, true),
                   layer("head.classes", "head", 965, true)},
        .parameters = 2181,
        .trainable_parameters = 2150,
        .multiplications = 654'300,
        .memory_bytes = 34'500'000,
        .largest_batch = 1199,
        .runs = 2,
        .epochs = 12,
        .epoch = {0.4, 0.0, 3.0, 1.0, 0.02}};
    CandidateCheck frozen{.candidate = "new head",
                          .regime = Regime::frozen,
                          .stages = {"[stem 24x24x17]", "head 5"},
                          .layers = scratch.layers,
                          .parameters = 1'234'567,
                          .trainable_parameters = 965,
                          .multiplications = 98'765'432,
                          .backbone_bytes = 5'100'000,
                          .memory_bytes = 800'000,
                          .largest_batch = 1200,
                          .runs = 2,
                          .epochs = 1,
                          .epoch = {0.0, 0.0, 0.01, 0.0, 0.0},
                          .seconds_once = 20.0};
    CandidateCheck partial{.candidate = "last stage",
                           .regime = Regime::partial,
                           .stages = {"[stem 24x24x17]", "stage3 24x24x2", "head 5"},
                           .parameters = 1'240'000,
                           .trainable_parameters = 700'000,
                           .fixed_numbers = 12'000,
                           .fixed_constants = {"positions", "other positions"},
                           .head_only = true,
                           .multiplications = 99'000'000,
                           .backbone_bytes = 5'100'000,
                           .memory_bytes = 3'450'000'000,
                           .largest_batch = 300,
                           .runs = 2,
                           .epochs = 12,
                           .epoch = {1.0, 5.0, 4.0, 2.0, 3.0},
                           .seconds_once = 7.0};
    for (int i = 0; i < 30; ++i) partial.layers.push_back(layer(fmt::format("a{}", i), "stem", 100, false));
    for (int i = 0; i < 30; ++i) partial.layers.push_back(layer(fmt::format("b{}", i), "stage3", 101, i > 7));
    check.candidates = {scratch, frozen, partial};
    return result;
}

TEST_F(Stated, Check) {
    CheckResult result = stated_check();
    expect("check", result, 160);
    // One more layer than are shown one by one.
    result.check.candidates[2].layers.push_back(layer("c", "head", 965, true));
    result.candidate = "last stage";
    test::expect_recorded(
        "results/stated check by stage",
        to_text(result, {.width = 80, .for_all = "'jevrin check --layers'"}) + result.figure_title() + "\n",
        directory_->path());
    result.all_layers = true;
    result.check.candidates[2].fixed_constants.pop_back();
    test::expect_recorded("results/stated check of all layers", to_text(result, {.width = 100}),
                          directory_->path());
}

TEST_F(Stated, Training) {
    PlannedRunsResult planned;
    planned.runs = {{"from scratch/1", Regime::scratch, "new", 0, 12, 0.5},
                    {"new head/1", Regime::frozen, "finished", 12, 12, 0.004},
                    {"last stage/1", Regime::partial, "interrupted", 3, 12, 0.496}};
    expect("planned runs", planned);
    std::string text;
    for (const StudyOutlook& outlook :
         {StudyOutlook{.to_train = 6}, StudyOutlook{.to_train = 1, .resumed = 1, .finished = 1, .failed = 1},
          StudyOutlook{.to_train = 5, .resumed = 2, .finished = 3, .superseded = 1, .at_once = 2, .ranks = 4},
          StudyOutlook{.finished = 6, .failed = 2}})
        text += to_text(outlook);
    for (const StudySummary& summary :
         {StudySummary{.study = {}, .trained = 6},
          StudySummary{.study = {}, .already_finished = 4, .trained = 1, .failed = 1},
          StudySummary{.study = {}, .already_finished = 1, .failed_before = 2, .elsewhere = 1},
          StudySummary{.study = {}, .failed = 3, .superseded = 2}})
        text += to_text(summary);
    test::expect_recorded("results/stated outlooks and summaries", text, directory_->path());
}

TEST_F(Stated, Models) {
    const ClassifyResult classified{
        .classes = {"crazing", "pinholes", "sound"},
        .top = 2,
        .answers = {{"a.png", {}, {0.1F, 0.7F, 0.2F}, {1, 2, 0}, 0.5, true},
                    {"a folder/b with a long name that goes on and on.png",
                     {},
                     {0.4F, 0.35F, 0.25F},
                     {0, 1, 2},
                     1.25,
                     false},
                    {"c.png", {}, {0.34F, 0.33F, 0.33F}, {0, 1, 2}, std::nullopt, false}},
        .refused = 1};
    expect("classified", classified, 80);
    std::string lines;
    for (const ImageAnswer& answer : classified.answers)
        lines += to_json_line(classified, answer) + to_text_line(classified, answer);
    test::expect_recorded("results/stated answers", lines, directory_->path());
    const RunRecord run = ledger().run(study().id, "last stage/1");
    expect("export", ExportResult{.context = {study(), {}},
                                  .run = run,
                                  .epoch = 2,
                                  .file = "out/model.onnx",
                                  .bytes = 5'123'456,
                                  .classes = study().classes,
                                  .temperature = 1.25,
                                  .fitting = {.size = 48, .fit = Fit::crop},
                                  .with_preparation = true});
    const LayersResult layers{.query = {.model = "model.onnx", .image = "glaze/a.png"},
                              .network = {},
                              .preparation = {.fitting = {.size = 48}, .scaling = {}},
                              .fitted = {},
                              .stages = {{"stem", "stem.relu", Tensor({2, 2, 3}), 0.25, 0.5, 0.125, 1.0 / 3},
                                         {"head", "classes", Tensor({5}), -0.5, 2.0, 0.0, 0.0}}};
    expect("layers", layers);
}

TEST_F(Stated, Images) {
    ImageSet set = study_->set();
    const ImageFormat formats[] = {ImageFormat::png, ImageFormat::jpeg, ImageFormat::png, ImageFormat::tiff};
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        Item& item = set.items[i];
        const auto n = static_cast<std::int64_t>(i);
        item.facts = {formats[i % 4], 100 + 3 * n, 300 - 2 * n, static_cast<int>(1 + i % 4)};
        item.content = hash_of(test::bytes_of(std::to_string(i / 2 == 11 ? 22 : i)));
        item.perceptual_hash = {i * 0x123456789ABCDEFU, i * 0xFEDCBA987654321U};
        item.brightest = static_cast<std::uint8_t>(100 + i);
        if (i % 3 == 0) item.label = 0;
    }
    set.items[95].perceptual_hash = set.items[50].perceptual_hash;
    set.problems = {{"class 001/broken.png", "the file ends early"}};
    set.notes = {"one note"};
    const SurveyResult result{.set = set, .survey = survey_images(set)};
    expect("survey", result);
}

TEST_F(Stated, WhatIsWrittenMergedAndSpread) {
    expect("merge", MergeResult{"there", "here", {.studies = 1, .runs = 3, .known = 2, .differing = 1}});
    expect("merge of nothing", MergeResult{"there", "here", {.known = 1}});
    expect(
        "contrast",
        ContrastResult{{{.study = "a",
                         .run = "one/1",
                         .in_first = true,
                         .in_second = true,
                         .differing = {},
                         .first = 0.5,
                         .second = 0.75},
                        {.study = "a",
                         .run = "two/1",
                         .in_first = true,
                         .in_second = true,
                         .differing = {"training.batch", "training.epochs"},
                         .first = 0.5,
                         .second = 0.5},
                        {.study = "b", .run = "three/1", .in_first = true, .differing = {}, .first = 0.625},
                        {.study = "b", .run = "four/1", .in_second = true, .differing = {}}}});
    expect("composition", CompositionResult{"out", {.written = 1200, .relabelled = 1}});
    expect("features", FeaturesResult{"out", {.items = 1, .width = 192, .boundary = "stage3.block2.relu"}});
    BatchScriptResult script{
        .script =
            {.text = "#!/bin/sh\n", .processes = 6, .bytes = 1'500'000'000, .seconds = 4000.0, .limit = 134},
        .settings = {.directory = "/study", .command = {"jevrin", "train", "plan.toml"}, .ranks = 6},
        .runs = 6,
        .file = "study.sh"};
    expect("batch script", script);
    script.settings = {
        .directory = "/study", .command = {"jevrin", "train", "plan.toml"}, .array = 1, .threads = 2};
    script.script.processes = script.runs = 1;
    expect("batch script of an array", script);
}

TEST_F(Stated, ImagesThatCameBack) {
    ReceivedResult result{
        .images = {{.number = 1,
                    .name = "a.png",
                    .label = "crazing",
                    .model = "faults",
                    .version = 2,
                    .predicted = "sound",
                    .probability = 0.875,
                    .sender = "shop",
                    .received = "2026-01-02T03:04:05Z"},
                   {.number = 12,
                    .name = "b.png",
                    .label = "",
                    .note = "none of them, I would say, and I have seen a great many of such tiles",
                    .model = "faults",
                    .version = 2,
                    .predicted = "pinholes",
                    .probability = 0.51,
                    .sender = "shop",
                    .received = "2026-01-02T03:04:05Z",
                    .review = Review::accepted},
                   {.number = 13,
                    .name = "c.png",
                    .label = "sound",
                    .model = "faults",
                    .version = 2,
                    .predicted = "pinholes",
                    .probability = 1.0,
                    .sender = "shop",
                    .received = "2026-01-02T03:04:05Z",
                    .review = Review::accepted,
                    .written = "set/sound/c.png"}},
        .written = std::nullopt};
    expect("received", result);
    result.written = ReceivedImages::Written{.labelled = 1, .unlabelled = 2, .left = 3};
    expect("received and written", result);
    expect("nothing received", ReceivedResult());
}

TEST_F(Stated, RunsAndItems) {
    const RunRecord run = ledger().run(study().id, "last stage/1");
    const std::vector<ItemRecord> training = ledger().items(run.id, Part::training);
    expect("item", ItemResult{.study = study(),
                              .run = run,
                              .item = ledger().items(run.id, Part::validation).at(3),
                              .part = Part::validation,
                              .probabilities = {0.2F, 0.5F, 0.25F, 0.05F},
                              .neighbours = {{training.at(0), 0.9876}, {training.at(20), 0.5}},
                              .mark = MarkRecord{.item = "x", .label = study().classes[2], .note = "look"}});
    expect("kept runs", KeptRunsResult{.runs = {run, ledger().run(study().id, "new head/1")}, .done = ""});
    expect("archived runs", KeptRunsResult{.runs = {run}, .done = "archived"});
    expect("thresholds",
           report_thresholds(ledger(), open_predictions(ledger(), study(), {.run = "large network/1"}),
                             {.precision = 0.8, .recall = 0.7, .accuracy = 0.9}));
    expect("taken runs",
           IntakeResult{{{"runs/a", "large network/1", RunState::finished, 3, true, {}},
                         {"runs/b", "large network/2", RunState::unverified, 1, false, {"no predictions"}}}});
}

}  // namespace
}  // namespace jevrin
