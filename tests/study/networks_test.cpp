// Own networks, foreign backbones and what is checked of them before anything is paid.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/study/check.hpp"
#include "jevrin/study/features.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <cstring>

namespace jevrin {

using namespace operators;

namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::HasSubstr;

// A small study whose candidates are the text.
class NetworkStudy : public testing::Test {
  protected:
    NetworkStudy() {
        test::write_small_set(directory_ / "images", {"across", "both", "down"}, 12);
        test::write_small_backbone(directory_ / "backbone.onnx");
    }
    Plan plan(const std::string& candidates, const std::string& backbones = own_backbone) const {
        write_file(directory_ / "plan.toml", R"(name = "small"
seeds = [1]
metric = "accuracy"
[images]
from = "images"
size = 16
[training]
epochs = 2
batch = 8
)" + backbones + candidates);
        return read_plan(directory_ / "plan.toml");
    }
    std::string refusal(const Plan& plan) const {
        return message_of<InputError>([&] { gather_materials(plan); });
    }
    static constexpr const char* own_backbone = "[backbone]\nfile = \"backbone.onnx\"\n";
    TemporaryDirectory directory_;
};

std::string layers(const std::string& list) {
    return "[[candidate]]\nname = \"own\"\nregime = \"scratch\"\n[candidate.network]\nlayers = [\n" + list +
           "]\n";
}

TEST_F(NetworkStudy, ClassesAndChannelsComeFromTheDataUnlessWritten) {
    const Plan open =
        plan(layers("{ kind = \"convolution\", width = 4, stride = 2 },\n{ kind = \"activation\" },\n"
                    "{ kind = \"global average\" },\n{ kind = \"dense\" },\n"));
    const auto materials = gather_materials(open);
    const CandidateNetwork built =
        build_network(materials->plan, materials->plan.candidates[0], materials->backbones, 3, 1);
    EXPECT_EQ(infer_shapes(built.network).back(), (Shape{3}));
    EXPECT_EQ(built.network.nodes.back().name, "layer4.dense");
    // Written ones are never changed: both sides of the clash are named, with the line.
    EXPECT_THAT(refusal(plan(layers("{ kind = \"flatten\" },\n{ kind = \"dense\", width = 10 },\n"))),
                AllOf(HasSubstr("plan.toml:18:1: layer 'layer2' (dense) gives 10 values"),
                      HasSubstr("have 3 classes")));
    EXPECT_THAT(
        refusal(plan(layers("{ kind = \"convolution\", width = 4, inputs = 1 },\n{ kind = \"flatten\" },\n"
                            "{ kind = \"dense\" },\n"))),
        AllOf(HasSubstr("plan.toml:17:1: "), HasSubstr("written for 1 input; the image has 16x16x3")));
    EXPECT_THAT(refusal(plan(layers(
                    "{ kind = \"convolution\", width = 4, name = \"first\" },\n{ kind = \"dense\" },\n"))),
                AllOf(HasSubstr("plan.toml:18:1: layer 'layer2' (dense) needs a vector"),
                      HasSubstr("layer first (convolution) gives 16x16x4")));
    EXPECT_THAT(refusal(plan(layers(
                    "{ kind = \"convolution\", width = 4 },\n{ kind = \"max pooling\", kernel = 32 },\n"
                    "{ kind = \"flatten\" },\n{ kind = \"dense\" },\n"))),
                AllOf(HasSubstr("plan.toml:18:1: "),
                      HasSubstr("32x32 window is larger than the padded image 16x16")));
    EXPECT_THAT(refusal(plan(layers("{ kind = \"convolution\", width = 4 },\n"))),
                AllOf(HasSubstr("gives 16x16x4"), HasSubstr("the head needs a vector")));
    EXPECT_THAT(
        refusal(plan("[[candidate]]\nname = \"t\"\nregime = \"scratch\"\nnetwork = { family = \"vision "
                     "transformer\", patch = 5 }\n")),
        HasSubstr("images of 16x16 are not divisible into patches of 5"));
}

TEST_F(NetworkStudy, EveryFamilyTrainsFromAPlan) {
    std::string text;
    int number = 0;
    for (const char* network :
         {"{ family = \"residual\", widths = [4], block = \"bottleneck\" }",
          "{ family = \"plain\", widths = [4] }", "{ family = \"perceptron\", hidden = [8], dropout = 0.1 }",
          "{ family = \"densely connected\", stem_width = 4, growth = 2, depths = [1, 1] }",
          "{ family = \"inverted residual\", stem_width = 4, last_width = 8, stages = [{ width = 4 }] }",
          "{ family = \"vision transformer\", patch = 4, width = 8, depth = 1, heads = 2 }"})
        text += fmt::format("[[candidate]]\nname = \"n{}\"\nregime = \"scratch\"\nnetwork = {}\n", ++number,
                            network);
    text +=
        "[[candidate]]\nname = \"own\"\nregime = \"scratch\"\n[candidate.network]\nlayers = [{ kind = "
        "\"residual block\", width = 4 }, { kind = \"group normalisation\", groups = 2 }, { kind = \"average "
        "pooling\" }, { kind = \"flatten\" }, { kind = \"layer normalisation\" }, { kind = \"dropout\", rate "
        "= "
        "0.1 }, { kind = \"dense\" }]\n";
    const StudySummary summary = train_study(plan(text, ""), directory_ / "ledger");
    EXPECT_EQ(summary.trained, 7);
    EXPECT_EQ(summary.failed, 0);
    // Each model file is read again and classifies.
    const Ledger ledger = Ledger::open(directory_ / "ledger");
    for (const RunRecord& run : ledger.runs(summary.study)) {
        const Classifier classifier = load_classifier(ledger.model_file(run.id));
        const auto fitted =
            load_fitted(directory_ / "images" / "both" / "00.png", classifier.preparation.fitting);
        const auto probabilities = classify(classifier, {&fitted, 1});
        EXPECT_NEAR(probabilities[0] + probabilities[1] + probabilities[2], 1.0, 1e-5) << run.name();
    }
}

// A model as it comes from elsewhere: no preparation, its own names, made for another image size.
void write_foreign_model(const std::filesystem::path& file) {
    Network network{{24, 24, 3}, {}};
    std::size_t x = network.add("pixels", Input{}, {});
    x = network.add("/body/conv/Conv", Convolution{{3, 3, 2, 2, 1, 1, 1, 1}}, {x}, {Tensor({3, 3, 3, 6})});
    x = network.add("/body/act/Relu", relu(), {x});
    x = network.add("/GlobalAveragePool", GlobalAveragePooling{}, {x});
    x = network.add("/Flatten", Flatten{}, {x});
    x = network.add("/classifier/hidden/Gemm", Dense{}, {x}, {Tensor({6, 5}), Tensor({5})});
    x = network.add("/classifier/act/Relu", relu(), {x});
    network.add("/classifier/out/Gemm", Dense{}, {x}, {Tensor({5, 9}), Tensor({9})});
    initialise(network, 0, 4);
    write_model(file, {network, {}});
}

TEST_F(NetworkStudy, AForeignModelServesAsBackboneAtTheSizeOfThePlan) {
    write_foreign_model(directory_ / "foreign.onnx");
    const std::string frozen = "[[candidate]]\nname = \"f\"\nregime = \"frozen\"\n";
    const auto backbone = [](const std::string& more) {
        return "[backbone]\nfile = \"foreign.onnx\"\n" + more;
    };
    EXPECT_THAT(refusal(plan(frozen, backbone(""))),
                AllOf(HasSubstr("plan.toml:10:1: "), HasSubstr("stores no input normalisation")));
    const std::string unit = "scaling = \"unit\"\n";
    const auto features_behind = [&](const std::string& more) {
        const Plan p = plan(frozen, backbone(unit + more));
        const auto materials = gather_materials(p);
        EXPECT_EQ(materials->scaling_for(p.candidates[0]).deviation[0], 1.0);
        return materials->backbones.at("backbone").network;
    };
    EXPECT_EQ(features_behind("").input, (Shape{16, 16, 3}));
    EXPECT_EQ(features_behind("").nodes.back().name, "/classifier/act/Relu");
    EXPECT_EQ(infer_shapes(features_behind("features = \"/body/act/Relu\"\n")).back(), (Shape{6}));
    EXPECT_THAT(refusal(plan(frozen, backbone(unit + "features = \"/body/act/Rely\"\n"))),
                AllOf(HasSubstr("foreign.onnx: "), HasSubstr("did you mean '/body/act/Relu'")));
    // And a part of it trains, by the name of a stage.
    const StudySummary summary =
        train_study(plan("[[candidate]]\nname = \"p\"\nregime = \"partial\"\ntrain_from = \"classifier\"\n",
                         backbone(unit)),
                    directory_ / "ledger");
    EXPECT_EQ(summary.trained, 1);
}

TEST_F(NetworkStudy, OtherFeaturesOfTheSameWeightsAreAnotherRun) {
    const std::string frozen = "[[candidate]]\nname = \"f\"\nregime = \"frozen\"\n";
    const auto train = [&](const std::string& features) {
        return train_study(plan(frozen, std::string(own_backbone) + "features = \"" + features + "\"\n"),
                           directory_ / "ledger");
    };
    EXPECT_EQ(train("stage1.block1.relu1").trained, 1);
    const StudySummary other = train("stage1.block1.normalisation1");
    EXPECT_EQ(other.trained, 1);
    EXPECT_EQ(other.superseded, 1);
}

TEST_F(NetworkStudy, SeveralBackbonesAreCheckedSideBySide) {
    test::write_small_backbone(directory_ / "second.onnx");
    const std::string two =
        "[[backbone]]\nname = \"a\"\nfile = \"backbone.onnx\"\n[[backbone]]\nname = \"b\"\nfile = "
        "\"second.onnx\"\nfeatures = \"stage1.block1.relu2\"\n";
    const Plan p = plan(
        "[[candidate]]\nname = \"on a\"\nregime = \"frozen\"\nbackbone = \"a\"\n"
        "[[candidate]]\nname = \"on b\"\nregime = \"frozen\"\nbackbone = \"b\"\n",
        two);
    const auto materials = gather_materials(p);
    const PlanCheck check = check_plan(*materials);
    ASSERT_EQ(check.candidates.size(), 2U);
    EXPECT_GT(check.candidates[0].parameters, check.candidates[1].parameters);
    EXPECT_GT(check.candidates[0].multiplications, check.candidates[1].multiplications);
    EXPECT_EQ(check.candidates[0].backbone_bytes,
              static_cast<std::int64_t>(std::filesystem::file_size(directory_ / "backbone.onnx")));
    EXPECT_EQ(check.candidates[1].trainable_parameters, 4 * 3 + 3);
    EXPECT_EQ(train_study(p, directory_ / "ledger").trained, 2);
}

TEST_F(NetworkStudy, TheCheckListsEveryLayerAndItsTotals) {
    const Plan p = plan(
        "[[candidate]]\nname = \"p\"\nregime = \"partial\"\ntrain_last = 2\n"
        "learning_rate_factors = { stage2 = 0.1 }\n");
    const auto materials = gather_materials(p);
    const CandidateCheck check = check_plan(*materials).candidates.at(0);
    std::int64_t parameters = 0;
    std::int64_t trainable = 0;
    std::int64_t multiplications = 0;
    for (const LayerRow& layer : check.layers) {
        parameters += layer.parameters;
        multiplications += layer.multiplications;
        if (layer.trains) trainable += layer.parameters;
    }
    EXPECT_EQ(parameters, check.parameters);
    EXPECT_EQ(multiplications, check.multiplications);
    EXPECT_EQ(trainable, check.trainable_parameters);
    EXPECT_EQ(check.layers.front().operators, "convolution 3x3, batch normalisation, relu");
    EXPECT_EQ(check.layers.front().shape, (Shape{16, 16, 4}));
    EXPECT_GT(check.largest_batch, 8);
}

TEST_F(NetworkStudy, LogisticRegressionIsARunOfOneEpoch) {
    const Plan p = plan(
        "[[candidate]]\nname = \"yardstick\"\nregime = \"frozen\"\nlast_layer = \"logistic regression\"\n");
    const StudySummary summary = train_study(p, directory_ / "ledger");
    const Ledger ledger = Ledger::open(directory_ / "ledger");
    const RunRecord run = ledger.runs(summary.study).at(0);
    EXPECT_EQ(run.state, RunState::finished);
    EXPECT_EQ(run.epochs, 1);
    EXPECT_GT(run.best->training_scores[Metric::accuracy], 0.6);
    EXPECT_EQ(train_study(p, directory_ / "ledger").already_finished, 1);
}

TEST_F(NetworkStudy, FeaturesAreWhatTheFrozenPartGives) {
    const Plan p = plan("[[candidate]]\nname = \"f\"\nregime = \"frozen\"\n");
    const auto materials = gather_materials(p);
    const FeatureExport all =
        export_features(*materials, p.candidates[0].name, TestItems::included, directory_ / "out");
    EXPECT_EQ(all.items, 36);
    EXPECT_EQ(all.width, 8);
    const std::string array = read_text(directory_ / "out" / "features.npy");
    ASSERT_EQ(array.size(), 128U + 36U * 8U * sizeof(float));
    EXPECT_THAT(array.substr(0, 128), HasSubstr("'shape': (36, 8), }"));
    // The third item, computed alone.
    Inference inference(materials->backbones.at("backbone").network, 1);
    std::vector<float> image(static_cast<std::size_t>(materials->images->values_per_image()));
    const std::int64_t third = 2;
    materials->images->fill({&third, 1}, ScalingTable(materials->scaling_for(p.candidates[0]), 3), {}, {},
                            image);
    const auto row = inference.run(1, image);
    EXPECT_EQ(std::memcmp(array.data() + 128 + 2 * 8 * sizeof(float), row.data(), 8 * sizeof(float)), 0);
    const std::string table = read_text(directory_ / "out" / "features.csv");
    EXPECT_THAT(table, AllOf(HasSubstr("item,label,part,f1,f2"), HasSubstr(materials->set.items[2].id)));
    const FeatureExport some =
        export_features(*materials, p.candidates[0].name, TestItems::left_out, directory_ / "out");
    EXPECT_EQ(some.items, 36 - std::ssize(materials->parts.test));
    const Plan scratch = plan("[[candidate]]\nname = \"s\"\nregime = \"scratch\"\n");
    EXPECT_THAT(message_of<InputError>([&] {
                    export_features(*gather_materials(scratch), "s", TestItems::left_out, directory_ / "o2");
                }),
                HasSubstr("has no frozen layers"));
    EXPECT_THAT(message_of<InputError>([&] {
                    export_features(*gather_materials(scratch), "", TestItems::left_out, directory_ / "o2");
                }),
                HasSubstr("no candidate of this plan has frozen layers"));
}

}  // namespace
}  // namespace jevrin
