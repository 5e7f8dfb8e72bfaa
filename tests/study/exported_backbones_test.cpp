// Files as exporters write them, as backbones: trained in three regimes, their models read back and used.
#include "support/exported_model.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/results/check_result.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

using test::ExportedEnd;
using test::ExportedFamily;
using test::NamingStyle;
using testing::AllOf;
using testing::Contains;
using testing::HasSubstr;
using testing::StartsWith;

Plan exported_plan(const std::filesystem::path& directory, const std::string& candidates,
                   const std::string& backbone = "", const std::string& size = "32") {
    write_file(directory / "plan.toml", fmt::format(R"(name = "exported"
seeds = [1]
metric = "accuracy"
[images]
from = "images"
size = {}
[training]
epochs = 2
batch = 8
[backbone]
file = "exported.onnx"
scaling = "unit"
{}
{})",
                                                    size, backbone, candidates));
    return read_plan(directory / "plan.toml");
}

constexpr const char* three_regimes = R"(
[[candidate]]
name = "scratch"
regime = "scratch"
[[candidate]]
name = "frozen"
regime = "frozen"
[[candidate]]
name = "partial"
regime = "partial"
train_last = 1
)";

struct Exported {
    ExportedFamily family;
    NamingStyle style;
    int opset;
};

class ExportedBackbones : public testing::TestWithParam<Exported> {};

TEST_P(ExportedBackbones, TrainInEveryRegimeAndTheirModelsAnswerAlike) {
    const test::TemporaryDirectory directory;
    test::write_small_set(directory / "images", {"across", "both", "down"}, 12);
    const auto [family, style, opset] = GetParam();
    test::write_exported_model(directory / "exported.onnx",
                               {.family = family, .style = style, .opset = opset});
    const Plan plan = exported_plan(directory.path(), three_regimes);
    const auto materials = gather_materials(plan);
    const CheckResult checked = report_check(*materials);
    EXPECT_THAT(to_text(checked),
                HasSubstr(fmt::format("features of exported.onnx: {} values, the input of the last",
                                      test::feature_width(family))));
    EXPECT_EQ(train_study(plan, directory / "ledger").trained, 3);
    const Ledger ledger = Ledger::open(directory / "ledger");
    for (const RunRecord& run : ledger.runs(ledger.study().id)) {
        SCOPED_TRACE(run.name());
        ASSERT_EQ(run.state, RunState::finished);
        const Classifier classifier = load_model(ledger, run);
        std::vector<std::vector<std::uint8_t>> images;
        for (const char* name : {"across/00.png", "both/02.png", "down/04.png"})
            images.push_back(load_fitted(directory / "images" / name, classifier.preparation.fitting));
        const std::vector<float> own = classify(classifier, images);
        save_classifier(directory / "exported_run.onnx", classifier);
        const Classifier again = load_classifier(directory / "exported_run.onnx");
        const std::vector<float> read = classify(again, images);
        for (std::size_t i = 0; i < own.size(); ++i) EXPECT_NEAR(read[i], own[i], 1e-5F);
        // What is out of distribution is found at the same features.
        ASSERT_TRUE(again.out_of_distribution.has_value());
        EXPECT_EQ(Recogniser(again).recognise(images).distances.size(), images.size());
    }
}

std::vector<Exported> every_export() {
    std::vector<Exported> all;
    for (const ExportedFamily family : test::all_exported_families)
        for (const NamingStyle style : {NamingStyle::modules, NamingStyle::anonymous})
            for (const int opset : {11, 17, 20}) all.push_back({family, style, opset});
    return all;
}

INSTANTIATE_TEST_SUITE_P(All, ExportedBackbones, testing::ValuesIn(every_export()), [](const auto& one) {
    return fmt::format("{}_{}_{}", test::name_of(one.param.family), test::name_of(one.param.style),
                       one.param.opset);
});

class ExportedStudy : public testing::Test {
  protected:
    ExportedStudy() { test::write_small_set(directory_ / "images", {"across", "both", "down"}, 12); }
    void write(const test::ExportSettings& settings) {
        test::write_exported_model(directory_ / "exported.onnx", settings);
    }
    CandidateNetwork built(const std::string& candidates, const std::string& backbone = "",
                           const std::string& size = "32") {
        const auto materials = gather_materials(exported_plan(directory_.path(), candidates, backbone, size));
        return build_network(materials->plan, materials->plan.candidates[0], materials->backbones, 3, 1);
    }
    std::string refusal(const std::string& candidates, const std::string& backbone = "",
                        const std::string& size = "32") {
        return test::message_of<InputError>([&] { built(candidates, backbone, size); });
    }
    static std::string partial(const std::string& from) {
        return fmt::format("[[candidate]]\nname = \"p\"\nregime = \"partial\"\ntrain_from = \"{}\"\n", from);
    }
    static constexpr const char* frozen = "[[candidate]]\nname = \"f\"\nregime = \"frozen\"\n";

    test::TemporaryDirectory directory_;
};

TEST_F(ExportedStudy, AModuleIsTheWholeStageInEverySpellingAndStyle) {
    write({.family = ExportedFamily::residual, .style = NamingStyle::modules});
    const std::int64_t expected = [&] {
        const CandidateNetwork network = built(partial("layer2.1"));
        return trainable_parameter_count(network.network);
    }();
    for (const char* name : {"layer2/layer2.1", "/layer2/layer2.1"})
        EXPECT_EQ(trainable_parameter_count(built(partial(name)).network), expected) << name;
    write({.family = ExportedFamily::residual, .style = NamingStyle::numbered});
    EXPECT_EQ(trainable_parameter_count(built(partial("layer2.1")).network), expected);
    write({.family = ExportedFamily::residual, .style = NamingStyle::flat});
    EXPECT_EQ(trainable_parameter_count(built(partial("layer2_1")).network), expected);
    // Two convolutions of 16 channels with their normalisation, and the head.
    EXPECT_EQ(expected, 2 * (16 * 16 * 9 + 2 * 16) + 16 * 3 + 3);
    // Without any names, blocks by structure: the one before the pooling is the last block.
    write({.family = ExportedFamily::residual, .style = NamingStyle::anonymous});
    EXPECT_EQ(trainable_parameter_count(built(partial("block4")).network), expected);
}

TEST_F(ExportedStudy, LayerScalesBelongToTheirBlock) {
    for (const NamingStyle style : {NamingStyle::modules, NamingStyle::numbered}) {
        write({.family = ExportedFamily::large_kernel, .style = style});
        const CandidateNetwork network = built(partial("stages.1"));
        // Downsampling, the block with its scale, and the last normalisation and head.
        EXPECT_EQ(trainable_parameter_count(network.network),
                  (2 * 16 + 16 * 16 * 4 + 16) + (16 * 49 + 16 + 2 * 16 + 2 * 16 * 32 + 32 + 16 + 16) +
                      2 * 16 + 16 * 3 + 3);
    }
}

TEST_F(ExportedStudy, FeaturesThatAreUnusualAreSaid) {
    Network network{{32, 32, 3}, {}};
    const std::size_t image = network.add("image", operators::Input{}, {});
    const std::size_t means =
        network.add("means", operators::Reduction{ReductionKind::mean, {0, 1}}, {image});
    network.add("shares", operators::Softmax{0}, {means});
    write_model(directory_ / "exported.onnx", {.network = network});
    const CheckResult checked = report_check(*gather_materials(exported_plan(directory_.path(), frozen)));
    EXPECT_THAT(checked.notes,
                Contains(AllOf(StartsWith("exported.onnx: its features are the output 'shares'"),
                               HasSubstr("that is unusual: it ends in a softmax"),
                               HasSubstr("Name the layer with 'features'"))));
}

TEST_F(ExportedStudy, PositionTablesTrainAsOneTable) {
    write({.family = ExportedFamily::windowed_transformer});
    const CandidateNetwork network = built("[[candidate]]\nname = \"s\"\nregime = \"scratch\"\n");
    std::int64_t tables = 0;
    for (const Node& node : network.network.nodes)
        if (const auto* constant = std::get_if<operators::Constant>(&node.op);
            constant != nullptr && constant->trained)
            tables += node.parameters[0].shape() == Shape{49, 2} ? 1 : 0;
    EXPECT_EQ(tables, 2);
}

TEST_F(ExportedStudy, WeightsOfTwoLayersStayOneParameter) {
    write({.family = ExportedFamily::residual});
    Model model = read_model(directory_ / "exported.onnx");
    std::map<Shape, std::vector<Node*>> alike;
    for (Node& node : model.network.nodes)
        if (std::holds_alternative<operators::Convolution>(node.op))
            alike[node.parameters[0].shape()].push_back(&node);
    Node& first = *alike.at({3, 3, 16, 16}).front();
    Node& last = *alike.at({3, 3, 16, 16}).back();
    const std::int64_t separate = parameter_count(model.network);
    for (Node* node : {&first, &last}) {
        node->parameters[0] = first.parameters[0];
        node->shared = {"one kernel"};
    }
    write_model(directory_ / "exported.onnx", model);
    const std::string names[] = {first.name, last.name};
    EXPECT_EQ(parameter_count(read_model(directory_ / "exported.onnx").network), separate - 9 * 16 * 16);
    // One epoch of the last layer alone, then one of all that reads the kernel.
    const Plan plan = exported_plan(directory_.path(), std::string(three_regimes) + R"(
[[candidate]]
name = "unfrozen"
regime = "partial"
unfreeze = [{ epoch = 1, from = "layer2.1" }, { epoch = 2, from = "layer1" }]
)");
    ASSERT_EQ(train_study(plan, directory_ / "ledger").trained, 4);
    const Ledger ledger = Ledger::open(directory_ / "ledger");
    for (const RunRecord& run : ledger.runs(ledger.study().id)) {
        const Classifier classifier = load_model(ledger, run);
        const auto kernel = [&](const std::string& name) {
            return std::ranges::find(classifier.network.nodes, name, &Node::name)->parameters[0].values();
        };
        EXPECT_EQ(std::ranges::equal(kernel(names[0]), kernel(names[1])),
                  run.candidate == "scratch" || run.candidate == "frozen")
            << run.candidate;
    }
}

TEST_F(ExportedStudy, FilesWithoutAHeadEndInTheirFeatures) {
    for (const ExportedFamily family : test::all_exported_families)
        for (const ExportedEnd end : {ExportedEnd::features, ExportedEnd::values}) {
            write({.family = family, .end = end});
            SCOPED_TRACE(test::name_of(family));
            const auto materials = gather_materials(exported_plan(directory_.path(), frozen));
            EXPECT_THAT(materials->backbones.at("backbone").feature_place,
                        HasSubstr("because no classifier stands at its end"));
            EXPECT_EQ(train_study(materials->plan, directory_ / fmt::format("{}{}", test::name_of(family),
                                                                            static_cast<int>(end)))
                          .trained,
                      1);
        }
}

TEST_F(ExportedStudy, AStageIsAFeature) {
    write({.family = ExportedFamily::residual, .style = NamingStyle::numbered});
    const auto materials =
        gather_materials(exported_plan(directory_.path(), frozen, "features = \"layer1\"\n"));
    EXPECT_EQ(materials->backbones.at("backbone").feature_shape, (Shape{16, 16, 8}));
    EXPECT_THAT(refusal(frozen, "features = \"layer7\"\n"),
                HasSubstr("no node, module or stage called 'layer7'"));
}

TEST_F(ExportedStudy, AWrongSizeNamesTheRightOne) {
    write({.family = ExportedFamily::plain});
    EXPECT_THAT(refusal(frozen, "", "48"),
                AllOf(HasSubstr("does not work on images of 48x48: it was made for 32x32"),
                      testing::Not(HasSubstr("256 features"))));
    write({.family = ExportedFamily::transformer});
    EXPECT_THAT(refusal(frozen, "", "[48, 32]"), AllOf(HasSubstr("images of 48x32: it was made for 32x32"),
                                                       HasSubstr("'resample_positions'")));
}

TEST_F(ExportedStudy, PositionsAreResampledWhenAsked) {
    for (const NamingStyle style : {NamingStyle::modules, NamingStyle::anonymous}) {
        write({.family = ExportedFamily::transformer, .style = style});
        const CandidateNetwork network = built(frozen, "resample_positions = true\n", "[64, 40]");
        EXPECT_EQ(network.network.input, (Shape{64, 40, 3}));
        const bool has_positions = std::ranges::any_of(network.network.nodes, [](const Node& node) {
            return std::holds_alternative<operators::Constant>(node.op) &&
                   node.parameters[0].shape() == Shape{8 * 5 + 1, 16};
        });
        EXPECT_TRUE(has_positions);
        EXPECT_EQ(
            train_study(exported_plan(directory_.path(), frozen, "resample_positions = true\n", "[64, 40]"),
                        directory_ / test::name_of(style))
                .trained,
            1);
    }
}

TEST_F(ExportedStudy, ImagesNeedNotBeSquare) {
    write({.family = ExportedFamily::residual});
    const auto materials = gather_materials(exported_plan(directory_.path(), frozen, "", "[24, 40]"));
    EXPECT_EQ(materials->backbones.at("backbone").network.input, (Shape{24, 40, 3}));
    EXPECT_THAT(to_text(report_check(*materials)), HasSubstr("24x40 by pad"));
    EXPECT_EQ(train_study(materials->plan, directory_ / "ledger").trained, 1);
    const Ledger ledger = Ledger::open(directory_ / "ledger");
    EXPECT_EQ(load_model(ledger, ledger.runs(ledger.study().id)[0]).preparation.fitting.size,
              ImageSize(24, 40));
}

}  // namespace
}  // namespace jevrin
