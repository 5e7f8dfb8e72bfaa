#include "jevrin/study/study.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/results/check_result.hpp"
#include "jevrin/study/check.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <map>

namespace jevrin {
namespace {

using test::message_of;
using test::small_plan;
using test::story;
using test::TemporaryDirectory;
using test::write_small_study;
using testing::HasSubstr;

TEST(Study, StoresChangeNoNumberAndMayBeDeletedOrDamaged) {
    const TemporaryDirectory directory;
    const auto file = write_small_study(directory.path(), small_plan(2, "augment = \"light\"", "[1]"));
    train_study(read_plan(file), directory / "first");
    EXPECT_GT(std::distance(std::filesystem::directory_iterator(directory / "first/stores"), {}), 1);
    const std::string told = story(directory / "first");
    // A second ledger with the first one's stores, one of them damaged.
    make_directory(directory / "second");
    std::filesystem::copy(directory / "first/stores", directory / "second/stores",
                          std::filesystem::copy_options::recursive);
    for (const auto& entry : std::filesystem::directory_iterator(directory / "second/stores"))
        if (entry.path().extension() == ".rows") {
            std::string bytes = read_text(entry.path());
            bytes[100] ^= 1;
            write_file(entry.path(), bytes);
        }
    train_study(read_plan(file), directory / "second");
    EXPECT_EQ(story(directory / "second"), told);
    // No directory for stores can be made at all.
    make_directory(directory / "third");
    write_file(directory / "third/stores", std::string("in the way"));
    std::vector<std::string> warnings;
    StudyCallbacks callbacks;
    callbacks.warning = [&](const std::string& message) { warnings.push_back(message); };
    train_study(read_plan(file), directory / "third", callbacks);
    EXPECT_EQ(story(directory / "third"), told);
    EXPECT_THAT(warnings, testing::Contains(HasSubstr("prepared images cannot be stored")));
}

TEST(Study, AddedImagesKeepOldPlacesAndMakeANewVersion) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(1, "", "[1]")));
    train_study(plan, directory / "ledger");
    const auto parts_of_run = [&](const std::string& name) {
        const Ledger ledger = Ledger::open(directory / "ledger");
        const RunRecord run = ledger.run(ledger.study().id, name);
        std::map<std::string, Part> places;
        for (const Part part : all_parts)
            for (const ItemRecord& item : ledger.items(run.id, part)) places[item.id] = part;
        return places;
    };
    const auto before = parts_of_run("new head/1");
    for (int i = 0; i < 12; ++i)
        for (const char* label : {"across", "both", "down"})
            write_file(directory.path() / "images" / label / ("added" + std::to_string(i) + ".png"),
                       encode_png(test::small_picture(static_cast<std::size_t>(label[0] % 3),
                                                      500U + static_cast<unsigned>(i))));
    const StudySummary summary = train_study(plan, directory / "ledger");
    EXPECT_EQ(summary.superseded, 3);
    const auto after = parts_of_run("new head/1");
    EXPECT_GT(after.size(), before.size());
    for (const auto& [item, part] : before) EXPECT_EQ(after.at(item), part) << item;
    const Ledger ledger = Ledger::open(directory / "ledger");
    EXPECT_EQ(ledger.run(ledger.study().id, "new head/1").image_set_version, 2);
}

TEST(Study, GreyArraysAreTrainedClassifiedAndTested) {
    const TemporaryDirectory directory;
    std::string pixels("\0\0\x08\x03\0\0\0\x3C\0\0\0\x10\0\0\0\x10", 16);
    std::string labels("\0\0\x08\x01\0\0\0\x3C", 8);
    for (std::uint64_t i = 0; i < 60; ++i) {
        const Image image = test::small_picture(i % 3, i);
        for (std::size_t p = 0; p < 256; ++p) pixels += static_cast<char>(image.pixels[p * 3]);
        labels += static_cast<char>(i % 3);
    }
    write_file(directory / "images.idx", pixels);
    write_file(directory / "labels.idx", labels);
    const Plan plan = parse_plan(R"(name = "arrays"
seeds = [1]
[images]
from = "images.idx"
labels = "labels.idx"
classes = ["across", "both", "down"]
size = 16
parts = { validation = 4, test = 4 }
[training]
epochs = 3
batch = 8
[[candidate]]
name = "own"
regime = "scratch"
network = { family = "residual", widths = [4, 8], stem_stride = 1 }
)",
                                 directory / "plan.toml");
    train_study(plan, directory / "ledger");
    const Ledger ledger = Ledger::open(directory / "ledger");
    const RunRecord run = ledger.run(ledger.study().id, "own/1");
    const auto settings = parse_json(ledger.settings(run.id));
    EXPECT_EQ(settings["images"]["channels"], 1);  // found from the images
    EXPECT_EQ(settings["images"]["parts"]["validation"], 4);
    const Classifier classifier = load_classifier(ledger.model_file(run.id));
    EXPECT_EQ(classifier.network.input, (Shape{16, 16, 1}));
    EXPECT_EQ(predict_part(directory / "ledger", "", "own/1", Part::test).matrix().total(), 12);
    labels[8] = 1;  // the first label changed: not the images
    pixels[20] = static_cast<char>(pixels[20] + 100);
    for (std::size_t i = 16; i < pixels.size(); i += 256) pixels[i] = static_cast<char>(pixels[i] + 1);
    write_file(directory / "images.idx", pixels);
    EXPECT_THAT(message_of<InputError>([&] { predict_part(directory / "ledger", "", "own/1", Part::test); }),
                HasSubstr("it changed since"));
}

// An index over the images of a small study, with a plan over it.
Plan index_plan(const std::filesystem::path& directory, const std::string& parts) {
    std::string text = small_plan(1, "", "[1]");
    text.replace(text.find("from = \"images\""), 15, "from = \"index.csv\"");
    text.replace(text.find("parts = "), text.find('\n', text.find("parts = ")) - text.find("parts = "),
                 parts);
    return read_plan(write_small_study(directory, text));
}

TEST(Study, AnIndexBringsItsPartsAndWeights) {
    const TemporaryDirectory directory;
    std::string index = "path,label,part,weight\n";
    for (const char* label : {"across", "both", "down"})
        for (int i = 0; i < 12; ++i) {
            const char* part = i < 7 ? "training" : i < 10 ? "validation" : "test";
            index += fmt::format("images/{0}/{1:02}.{2},{0},{3},{4}\n", label, i, i % 2 == 0 ? "png" : "jpg",
                                 part, label[0] == 'd' ? 2.5 : 1.0);
        }
    write_file(directory / "index.csv", index);
    const auto materials = gather_materials(index_plan(directory.path(), ""));
    EXPECT_EQ(materials->parts.training.size(), 21U);
    EXPECT_EQ(materials->parts.validation.size(), 9U);
    ASSERT_EQ(materials->data.weights.size(), 36U);
    EXPECT_EQ(materials->data.weights[0], 1.0);
    EXPECT_EQ(materials->data.weights[35], 2.5);
    EXPECT_EQ(materials->plan.images.parts->by, PartsBy::given);
    // What the plan states stands, whatever the index says.
    const auto stated =
        gather_materials(index_plan(directory.path(), "parts = { validation = 2, test = 1 }"));
    EXPECT_EQ(stated->parts.training.size(), 27U);
    EXPECT_EQ(stated->parts.test.size(), 3U);
}

// Two images of one object each: six groups of a class, which go into parts as a whole.
TEST(Study, GroupsOfImagesAreUnitsOfEvidence) {
    const TemporaryDirectory directory;
    test::write_small_set(directory / "images", {"across", "both", "down"}, 12);
    std::string index = "path,label,group\n";
    for (const char* label : {"across", "both", "down"})
        for (int k = 0; k < 12; ++k)
            index += fmt::format("images/{0}/{1:02}.{2},{0},{0}{3}\n", label, k, k % 2 == 0 ? "png" : "jpg",
                                 k / 2);
    write_file(directory / "index.csv", index);
    write_file(
        directory / "plan.toml",
        "name = \"groups\"\nseeds = [1]\n[images]\nfrom = \"index.csv\"\nsize = 8\nparts = { training = "
        "0.5, validation = 0.5, test = 0 }\n[training]\nepochs = 1\n[[candidate]]\nname = \"a\"\n"
        "regime = \"scratch\"\nnetwork = { family = \"plain\", widths = [4] }\n");
    train_study(read_plan(directory / "plan.toml"), directory / "ledger");
    const Ledger ledger = Ledger::open(directory / "ledger");
    const StudyRecord study = ledger.study();
    const auto outcomes = ledger.outcomes(ledger.runs(study.id).front().id, Part::validation);
    ASSERT_EQ(outcomes.size(), 18U);
    std::map<std::int64_t, int> units;
    for (const OutcomeRecord& outcome : outcomes) ++units[outcome.unit.number];
    EXPECT_EQ(units.size(), 9U);
    for (const auto& [unit, items] : units) EXPECT_EQ(items, 2) << unit;
    const CandidateOutcomes evidence =
        outcomes_of(gather_evidence(ledger, study).candidates.front(), 3, Metric::accuracy);
    EXPECT_EQ(evidence.seeds().front().units.size(), 9U);
    EXPECT_EQ(evidence.seeds().front().items, 18);
    double sum = 0.0;
    for (const double influence : evidence.seeds().front().influences) sum += influence;
    EXPECT_NEAR(sum / 9.0, evidence.seeds().front().score, 1e-12);
    // They travel with a merge.
    LedgerWriter second = LedgerWriter::open(directory / "second");
    second.merge(ledger);
    const auto merged = second.ledger().outcomes(second.ledger().runs(second.ledger().study().id).front().id,
                                                 Part::validation);
    std::map<std::int64_t, int> merged_units;
    for (const OutcomeRecord& outcome : merged) ++merged_units[outcome.unit.number];
    EXPECT_EQ(merged_units.size(), 9U);
}

TEST(Study, TheScalingThatThePlanStatesIsUsedAndStored) {
    const TemporaryDirectory directory;
    std::string text = small_plan(1, "", "[1]");
    text.insert(text.find("size = 16"),
                "scaling = { mean = [0.1, 0.2, 0.3], deviation = [0.5, 0.6, 0.7] }\npadding = \"mean\"\n");
    train_study(read_plan(write_small_study(directory.path(), text)), directory / "ledger");
    const Ledger ledger = Ledger::open(directory / "ledger");
    for (const RunRecord& run : ledger.runs(ledger.study().id)) {
        const Preparation preparation = load_classifier(ledger.model_file(run.id)).preparation;
        EXPECT_EQ(preparation.scaling.mean, (std::array<double, 3>{0.1, 0.2, 0.3})) << run.name();
        EXPECT_EQ(preparation.fitting.padding, FitPadding::mean);
    }
}

TEST(Study, ChannelsThatTheBackboneDoesNotTakeAreRefused) {
    const TemporaryDirectory directory;
    std::string text = small_plan(1);
    text.insert(text.find("size = 16"), "channels = 1\n");
    const Plan plan = read_plan(write_small_study(directory.path(), text));
    EXPECT_THAT(message_of<InputError>([&] { gather_materials(plan); }),
                HasSubstr("takes 3 channels, and 'channels' of [images] sets 1"));
}

TEST(Study, UnreadableFilesAreCountedAndListedInFull) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(1, "", "[1]")));
    for (int i = 0; i < 20; ++i)
        write_file(directory.path() / "images" / "both" / ("bad," + std::to_string(i) + ".png"),
                   std::string("x"));
    std::vector<std::string> warnings;
    StudyCallbacks callbacks;
    callbacks.warning = [&](const std::string& message) { warnings.push_back(message); };
    train_study(plan, directory / "ledger", callbacks);
    ASSERT_FALSE(warnings.empty());
    EXPECT_THAT(warnings[0],
                testing::AllOf(HasSubstr("20 unreadable images left out (both/bad,0.png: it is not an image"),
                               HasSubstr("left-out.csv lists all")));
    const std::string list = read_text(directory / "ledger/left-out.csv");
    EXPECT_EQ(std::count(list.begin(), list.end(), '\n'), 21);
    EXPECT_THAT(list, HasSubstr("\"both/bad,19.png\",it is not an image of a known format\n"));
}

TEST(Study, ThreeRegimesAndTwoSeedsFinishOnEqualTerms) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(3)));
    std::vector<std::string> order;
    StudyCallbacks callbacks;
    callbacks.run_started = [&](const RunRecord& run, std::int64_t) { order.push_back(name_of(run.regime)); };
    const StudySummary summary = train_study(plan, directory / "ledger", callbacks);
    EXPECT_EQ(summary.trained, 6);
    EXPECT_THAT(order, testing::ElementsAre("frozen", "frozen", "partial", "partial", "scratch", "scratch"));
    const Ledger ledger = Ledger::open(directory / "ledger");
    const auto runs = ledger.runs(summary.study);
    ASSERT_EQ(runs.size(), 6U);
    std::vector<std::string> items;
    for (const RunRecord& run : runs) {
        EXPECT_EQ(run.state, RunState::finished);
        EXPECT_EQ(run.epochs, 3);
        for (const RecordedEpoch& e : ledger.epochs(run.id)) EXPECT_EQ(e.validation.total(), 9);
        std::vector<std::string> seen;
        for (const PredictionRecord& p : ledger.predictions(run.id, Part::validation)) seen.push_back(p.item);
        if (items.empty()) items = seen;
        EXPECT_EQ(seen, items);  // every run is judged on the same items
        EXPECT_TRUE(
            ledger.predictions(run.id, Part::test).empty());  // and nobody has looked at the test part
    }
    EXPECT_LT(runs[2].trainable_parameters, runs[2].parameters);
    EXPECT_EQ(ledger.study().test_looks, 0);
}

TEST(Study, NothingIsTrainedTwice) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(1)));
    train_study(plan, directory / "ledger");
    const std::string before = story(directory / "ledger");
    const StudySummary again = train_study(plan, directory / "ledger");
    EXPECT_EQ(again.trained, 0);
    EXPECT_EQ(again.already_finished, 6);
    EXPECT_EQ(story(directory / "ledger"), before);
}

TEST(Study, TwoLedgersOfOnePlanHoldTheSameBits) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(
        write_small_study(directory.path(), small_plan(2, "augment = { flip = true, shift = 0.1 }", "[4]")));
    train_study(plan, directory / "one");
    train_study(plan, directory / "two");
    EXPECT_EQ(story(directory / "one"), story(directory / "two"));
}

TEST(Study, ADamagedCheckpointCostsOnlyItsRun) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(3, "", "[5]")));
    train_study(plan, directory / "whole");
    int epochs = 0;
    StudyCallbacks stopping;
    stopping.epoch_finished = [&](const RunRecord&, const EpochRecord&, bool) { ++epochs; };
    stopping.stop_requested = [&] { return epochs >= 2; };
    EXPECT_THROW(train_study(plan, directory / "parts", stopping, {.at_once = 1}), Interrupted);
    for (const auto& entry : std::filesystem::directory_iterator(directory.path() / "parts" / "checkpoints"))
        write_file(entry.path(), read_text(entry.path()).substr(0, 200));
    std::vector<std::string> warnings;
    StudyCallbacks callbacks;
    callbacks.warning = [&](const std::string& message) { warnings.push_back(message); };
    train_study(plan, directory / "parts", callbacks);
    ASSERT_EQ(warnings.size(), 1U);
    EXPECT_THAT(warnings[0], HasSubstr("checkpoint is damaged"));
    EXPECT_EQ(story(directory / "parts"), story(directory / "whole"));
}

TEST(Study, AFailedRunIsRecordedAndTheOthersGoOn) {
    const TemporaryDirectory directory;
    const auto file = write_small_study(
        directory.path(), small_plan(8, "optimiser = { learning_rate = 1000.0, weight_decay = 9.0 }", "[1]"));
    const StudySummary summary = train_study(read_plan(file), directory / "ledger");
    EXPECT_GE(summary.failed, 1);
    EXPECT_EQ(summary.failed + summary.trained, 3);
    const Ledger ledger = Ledger::open(directory / "ledger");
    for (const RunRecord& run : ledger.runs(summary.study))
        if (run.state == RunState::failed) {
            EXPECT_THAT(run.reason, HasSubstr("learning rate"));
        }
}

TEST(Study, AnEditedPlanTrainsOnlyWhatChanged) {
    const TemporaryDirectory directory;
    const auto file = write_small_study(directory.path(), small_plan(1, "", "[1]"));
    train_study(read_plan(file), directory / "ledger");
    std::string text = read_text(file);
    text.replace(text.find("hidden = [8]"), 12, "hidden = [9]");
    write_file(file, text);
    const StudySummary summary = train_study(read_plan(file), directory / "ledger");
    EXPECT_EQ(summary.trained, 1);
    EXPECT_EQ(summary.already_finished, 2);
    EXPECT_EQ(summary.superseded, 1);
}

TEST(Study, PlansThatCannotWorkFailBeforeTraining) {
    const TemporaryDirectory directory;
    const auto file = write_small_study(directory.path(), small_plan(1));
    const std::string good = read_text(file);
    const auto refusal = [&](const std::string& from, const std::string& to) {
        std::string text = good;
        text.replace(text.find(from), from.size(), to);
        write_file(file, text);
        return message_of<InputError>([&] { train_study(read_plan(file), directory / "ledger"); });
    };
    EXPECT_THAT(refusal("\"stage2\"", "\"stage9\""),
                testing::AllOf(HasSubstr("plan.toml:"), HasSubstr("candidate 'last stage'"),
                               HasSubstr("the stages are stem")));
    EXPECT_THAT(refusal("train_from = \"stage2\"", "train_from = \"head\""),
                HasSubstr("'head' is the head, which trains anyway; name a stage of the backbone"));
    EXPECT_THAT(refusal("train_from = \"stage2\"",
                        "unfreeze = [{ epoch = 2, from = \"stage1\" }, { epoch = 3, from = \"stage2\" }]"),
                HasSubstr("'unfreeze' must go from the head towards the image"));
    Network four{{16, 16, 4}, {}};
    std::size_t x = four.add("image", operators::Input{}, {});
    x = four.add("convolution", operators::Convolution{{1, 1}}, {x}, {Tensor({1, 1, 4, 2})});
    four.add("pool", operators::GlobalAveragePooling{}, {x});
    write_model(directory / "four.onnx", {.network = four});
    EXPECT_THAT(refusal("backbone.onnx", "four.onnx"),
                testing::AllOf(HasSubstr("four.onnx: it cannot be a backbone for images of 16x16"),
                               HasSubstr("its input is neither grey nor colour")));
    EXPECT_THAT(refusal("backbone.onnx", "none.onnx"),
                testing::AllOf(HasSubstr("plan.toml: 'file' under [backbone] names"), HasSubstr("none.onnx"),
                               HasSubstr("jevrin demo")));
    write_file(directory / "text.onnx", std::string("hello"));
    EXPECT_THAT(refusal("backbone.onnx", "text.onnx"), HasSubstr("not an ONNX file"));
    EXPECT_THAT(refusal("\"images\"", "\"imagse\""),
                testing::AllOf(HasSubstr("plan.toml: 'from' under [images] names"), HasSubstr("imagse"),
                               HasSubstr("begin at the plan's folder")));
    EXPECT_FALSE(std::filesystem::exists(directory / "ledger"));
}

TEST(TestPart, IsScoredOnlyWhenAskedAndEachLookCounts) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(1, "", "[1]")));
    train_study(plan, directory / "ledger");
    const ConfusionMatrix matrix = predict_part(directory / "ledger", "", "new head/1", Part::test).matrix();
    EXPECT_EQ(matrix.total(), 9);
    EXPECT_EQ(matrix.support(0), 3);
    predict_part(directory / "ledger", "", "new head/1", Part::test);
    EXPECT_EQ(Ledger::open(directory / "ledger").study().test_looks, 2);
    const auto items = Ledger::open(directory / "ledger").items(RunId{1}, Part::test);
    write_file(directory.path() / "images" / items[0].id.substr(0, items[0].id.rfind('#')),
               encode_png(test::small_picture(2, 1234)));
    EXPECT_THAT(
        message_of<InputError>([&] { predict_part(directory / "ledger", "", "new head/1", Part::test); }),
        HasSubstr("changed since"));
}

TEST(Check, SaysWhatEachCandidateCosts) {
    const TemporaryDirectory directory;
    const Plan plan = read_plan(write_small_study(directory.path(), small_plan(4)));
    const auto materials = gather_materials(plan);
    const PlanCheck check = check_plan(*materials);
    EXPECT_EQ(check.runs, 6);
    EXPECT_EQ(check.part_sizes, (std::vector<std::int64_t>{18, 9, 9}));
    ASSERT_EQ(check.candidates.size(), 3U);
    EXPECT_EQ(check.candidates[0].trainable_parameters, check.candidates[0].parameters);
    EXPECT_EQ(check.candidates[1].trainable_parameters, 8 * 8 + 8 + 8 * 3 + 3);
    EXPECT_THAT(check.candidates[2].stages, testing::ElementsAre("[stem 16x16x4]", "[stage1 16x16x4]",
                                                                 "stage2 8x8x8", "pool 8", "head 3"));
    for (const CandidateCheck& c : check.candidates) {
        EXPECT_GT(c.epoch.products, 0.0) << c.candidate;
        EXPECT_GT(c.epoch.passes, 0.0) << c.candidate;
        EXPECT_GT(c.epoch.validation, 0.0) << c.candidate;
    }
    // Features of images that no augmentation changes are kept.
    EXPECT_GT(check.candidates[0].epoch.images, 0.0);
    EXPECT_EQ(check.candidates[1].epoch.images + check.candidates[1].epoch.frozen, 0.0);
    EXPECT_GT(check.candidates[1].seconds_once, 0.0);
    EXPECT_EQ(check.candidates[0].seconds_once, 0.0);
    EXPECT_GT(check.candidates[0].memory_bytes, check.candidates[1].memory_bytes / 2);
    const std::string text = to_text(report_check(*materials));
    EXPECT_THAT(text, HasSubstr("% convolutions, dense (arithmetic)"));
    EXPECT_THAT(text, HasSubstr("% others (memory)"));
    EXPECT_THAT(text, HasSubstr("faster with: "));
    const Json json = parse_json(to_json(report_check(*materials)));
    for (const Json& candidate : json.at("candidates")) {
        double sum = 0.0;
        for (const auto& [name, seconds] : candidate.at("epoch_seconds").items())
            sum += seconds.get<double>();
        EXPECT_NEAR(sum, candidate.at("seconds_per_epoch").get<double>(), 1e-6 * sum);
    }
}

TEST(Check, ShowsLongNetworksByStageUnlessAllLayersAreWanted) {
    const TemporaryDirectory directory;
    std::string text = small_plan(1);
    text.replace(text.find("regime = \"scratch\"\n"), 19,
                 "regime = \"scratch\"\nnetwork = { family = \"residual\", widths = [2, 4], blocks = 12 }\n");
    const auto materials = gather_materials(read_plan(write_small_study(directory.path(), text)));
    CheckResult result = report_check(*materials, "from scratch");
    const std::string stages = to_text(result, {.for_all = "'jevrin check --layers'"});
    // Twelve blocks of two convolutions of 9 * 2 * 2 weights with a scale and a shift for each channel, and a
    // sum.
    EXPECT_THAT(stages,
                testing::AllOf(HasSubstr("'jevrin check --layers' lists every layer"),
                               testing::ContainsRegex("\nstage1 +36  8x8x2 +960 +55,296 +43 kB  trains\n"),
                               testing::ContainsRegex("\npool +1  4 +0 kB\n"),
                               testing::ContainsRegex("\nhead +1  3 +15 +12 +0 kB  trains\n"),
                               testing::ContainsRegex("\ntotal, 4,625 trainable +76 +4,625 +113,036 ")));
    EXPECT_THAT(stages, testing::Not(HasSubstr("stage1.block12")));
    result.all_layers = true;
    EXPECT_THAT(to_text(result), HasSubstr("stage1.block12"));
    EXPECT_THAT(message_of<InputError>([&] { report_check(*materials, "from scrach"); }),
                HasSubstr("did you mean 'from scratch'?"));
}

TEST(Check, SaysWhichAugmentationIsOn) {
    const TemporaryDirectory directory;
    const auto text = [&](const std::string& extra) {
        const Plan plan = read_plan(write_small_study(directory.path(), small_plan(1, extra)));
        return to_text(report_check(*gather_materials(plan)));
    };
    EXPECT_THAT(text(""), HasSubstr("augment: none; head"));
    EXPECT_THAT(text("augment = { flip = true, shift = 0.1 }"), HasSubstr("augment: flip, shift 0.1; head"));
    EXPECT_THAT(text("augment = { flip = true, mixing = { form = \"mixup\", alpha = 0.4 } }"),
                HasSubstr("augment: flip, mixing mixup (alpha 0.4); head"));
}

}  // namespace
}  // namespace jevrin
