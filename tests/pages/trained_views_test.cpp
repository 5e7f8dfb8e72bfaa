// What the views of the page say of a study that was really trained: layers, networks, thresholds, images.
#include "support/trained_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/pages/data_uri.hpp"
#include "jevrin/pages/loaded_models.hpp"
#include "jevrin/pages/picture.hpp"
#include "jevrin/pages/report.hpp"
#include "jevrin/pages/view.hpp"

#include <fmt/format.h>

#include <set>

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;
using testing::StartsWith;

// One candidate of each regime with one seed, three epochs, images turned and mirrored in training.
class TrainedViews : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<test::TemporaryDirectory>();
        train_study(read_plan(test::write_small_study(directory_->path(),
                                                      test::small_plan(3, "augment = \"medium\"", "[1]"))),
                    *directory_ / "ledger");
        ledger_ = std::make_unique<Ledger>(Ledger::open(*directory_ / "ledger"));
    }
    static void TearDownTestSuite() {
        ledger_.reset();
        directory_.reset();
    }
    static Json data(const std::string& view, const std::map<std::string, std::string>& parameters) {
        return view_data(*ledger_, ledger_->study(), {view, parameters});
    }
    static std::string refusal(const std::string& view,
                               const std::map<std::string, std::string>& parameters) {
        return message_of<InputError>([&] { data(view, parameters); });
    }
    static RunRecord run(const std::string& name) { return ledger_->run(ledger_->study().id, name); }
    static std::vector<ItemRecord> items(Part part) { return ledger_->items(run("new head/1").id, part); }
    static std::string item() { return items(Part::validation).at(2).id; }

    static inline std::unique_ptr<test::TemporaryDirectory> directory_;
    static inline std::unique_ptr<Ledger> ledger_;
};

TEST_F(TrainedViews, LayersAreThoseOfTheLedgerEpochByEpoch) {
    const Json layers = data("layers", {{"run", "from scratch/1"}});
    ASSERT_EQ(layers.at("epochs").size(), 3U);
    int dead = 0;
    int without = 0;
    for (std::int64_t epoch = 1; epoch <= 3; ++epoch) {
        const Json& row = layers.at("epochs").at(static_cast<std::size_t>(epoch - 1));
        EXPECT_EQ(row.at("epoch"), epoch);
        const std::vector<LayerSummary> kept = ledger_->layers(run("from scratch/1").id, epoch);
        ASSERT_EQ(layers.at("layers").size(), kept.size());
        for (std::size_t k = 0; k < kept.size(); ++k) {
            EXPECT_EQ(layers.at("layers").at(k), kept[k].layer);
            EXPECT_NEAR(row.at("weight_norm").at(k).get<double>(), kept[k].weight_norm, 1e-4);
            EXPECT_NEAR(row.at("gradient_norm").at(k).get<double>(), kept[k].gradient_norm, 1e-4);
            EXPECT_NEAR(row.at("update_ratio").at(k).get<double>(), kept[k].update_ratio, 1e-4);
            const Json& fraction = row.at("dead_fraction").at(k);
            EXPECT_EQ(fraction.is_null(), kept[k].dead_fraction < 0);
            if (!fraction.is_null()) {
                EXPECT_NEAR(fraction.get<double>(), kept[k].dead_fraction, 1e-4);
            }
            (fraction.is_null() ? without : dead) += 1;
        }
    }
    EXPECT_GT(dead, 0);
    EXPECT_GT(without, 0);
    const Json some = data("layers", {{"run", "from scratch/1"}, {"from", "2"}, {"to", "2"}});
    ASSERT_EQ(some.at("epochs").size(), 1U);
    EXPECT_EQ(some.at("epochs").at(0), layers.at("epochs").at(1));
}

TEST_F(TrainedViews, ItemsOfAnyEpochThatIsRecorded) {
    for (const char* epoch : {"1", "2", "3"}) {
        const Json list = data("items", {{"run", "last stage/1"}, {"epoch", epoch}});
        EXPECT_EQ(list.at("items").size(), items(Part::validation).size());
        EXPECT_EQ(std::to_string(list.at("epoch").get<int>()), epoch);
    }
    EXPECT_THAT(refusal("items", {{"run", "last stage/1"}, {"epoch", "4"}}),
                HasSubstr("at epoch 4 is not recorded"));
}

TEST_F(TrainedViews, TheNetworkSaysWhichLayersTrain) {
    for (const auto& [name, all] : {std::pair("from scratch/1", true), std::pair("last stage/1", false)}) {
        const Json network = data("network", {{"run", name}});
        EXPECT_EQ(network.at("input"), Json::array({16, 16, 3}));
        std::int64_t parameters = 0;
        std::int64_t trained = 0;
        for (const Json& layer : network.at("layers")) {
            parameters += layer.at("parameters").get<std::int64_t>();
            if (layer.at("trains").get<bool>()) trained += layer.at("parameters").get<std::int64_t>();
            EXPECT_TRUE(layer.at("parameters") > 0 || !layer.at("trains").get<bool>()) << layer.at("layer");
        }
        EXPECT_EQ(network.at("parameters"), parameters);
        EXPECT_EQ(network.at("trainable_parameters"), trained);
        EXPECT_EQ(parameters == trained, all);
    }
}

TEST_F(TrainedViews, ActivationsOfStagesOrOfOneLayer) {
    const Json stages = data("activations", {{"run", "from scratch/1"}, {"item", item()}}).at("stages");
    ASSERT_GE(stages.size(), 3U);
    std::set<std::string> layers;
    for (const Json& stage : stages) {
        layers.insert(stage.at("layer").get<std::string>());
        const auto channels = stage.at("shape").back().get<std::size_t>();
        if (stage.at("shape").size() == 3) {
            EXPECT_EQ(stage.at("maps").size(), std::min<std::size_t>(channels, 12));
        }
        for (const Json& map : stage.at("maps"))
            EXPECT_THAT(map.get<std::string>(), StartsWith("data:image/png;base64,"));
        EXPECT_GE(stage.at("zeros"), 0.0);
        EXPECT_LE(stage.at("zeros"), 1.0);
    }
    EXPECT_EQ(layers.size(), stages.size());
    // A block's sum has its ReLU with it, where its stage ends.
    const Json one =
        data("activations", {{"run", "from scratch/1"}, {"item", item()}, {"layer", "stage1.block1.sum"}})
            .at("stages");
    ASSERT_EQ(one.size(), 1U);
    const auto stage = std::find_if(stages.begin(), stages.end(),
                                    [](const Json& other) { return other.at("stage") == "stage1"; });
    ASSERT_NE(stage, stages.end());
    EXPECT_EQ(one.at(0).at("mean"), stage->at("mean"));
    EXPECT_EQ(one.at(0).at("maps"), stage->at("maps"));
    EXPECT_THAT(
        refusal("activations", {{"run", "from scratch/1"}, {"item", item()}, {"layer", "stage1.block1.sun"}}),
        HasSubstr("did you mean 'stage1.block1.sum'?"));
}

TEST_F(TrainedViews, ThresholdsAreThoseOfTheClass) {
    const PartPredictions predicted =
        predict_part(*ledger_, ledger_->study(), run("new head/1"), Part::validation);
    for (std::size_t c = 0; c < 3; ++c) {
        const Json view = data("thresholds", {{"run", "new head/1"}, {"class", ledger_->study().classes[c]}});
        std::int64_t positives = 0;
        for (const std::size_t label : predicted.table.labels) positives += label == c ? 1 : 0;
        EXPECT_EQ(view.at("positives"), positives);
        EXPECT_EQ(view.at("negatives"), std::ssize(predicted.table.labels) - positives);
        // The last point of both takes every item.
        EXPECT_EQ(view.at("points").back().at(1), positives);
        EXPECT_EQ(view.at("points").back().at(2), view.at("negatives"));
        EXPECT_EQ(view.at("coverage").back().at(1), predicted.table.items());
    }
    EXPECT_THAT(refusal("thresholds", {{"run", "new head/1"}, {"class", "bothh"}}),
                HasSubstr("did you mean 'both'?"));
}

TEST_F(TrainedViews, SamplesHoldAsManyOfEachClassAsAskedFor) {
    const auto sizes = [](const Json& sample) {
        std::vector<std::size_t> all;
        for (const Json& one : sample.at("classes")) all.push_back(one.at("items").size());
        return all;
    };
    EXPECT_THAT(sizes(data("sample", {})), testing::Each(8U));
    EXPECT_THAT(sizes(data("sample", {{"per_class", "0"}})), testing::Each(0U));
    EXPECT_THAT(sizes(data("sample", {{"per_class", "2"}})), testing::Each(2U));
    EXPECT_THAT(sizes(data("sample", {{"per_class", "60"}})), testing::Each(9U));  // without the test part
    EXPECT_THAT(refusal("sample", {{"per_class", "61"}}), HasSubstr("a number from 0 to 60"));
    EXPECT_THAT(refusal("sample", {{"per_class", "-1"}}), HasSubstr("a number from 0 to 60"));
    EXPECT_THAT(refusal("sample", {{"per_class", "3x"}}), HasSubstr("a number from 0 to 60"));
    EXPECT_EQ(data("sample", {}), data("sample", {{"seed", "1"}}));
    EXPECT_NE(data("sample", {}), data("sample", {{"seed", "2"}}));
}

TEST_F(TrainedViews, AnItemIsShownAsItIsPreparedAndAugmented) {
    const auto prepared = [](const std::map<std::string, std::string>& more) {
        std::map<std::string, std::string> parameters = {{"run", "from scratch/1"}, {"item", item()}};
        parameters.insert(more.begin(), more.end());
        return data("prepared", parameters);
    };
    const Json whole = prepared({});
    EXPECT_EQ(whole.at("size"), "16x16");
    EXPECT_EQ(whole.at("augments"), true);
    ASSERT_EQ(whole.at("versions").size(), 6U);
    const auto versions = whole.at("versions").get<std::vector<std::string>>();
    EXPECT_EQ(std::set<std::string>(versions.begin(), versions.end()).size(), 6U);
    EXPECT_EQ(prepared({{"versions", "2"}}).at("versions").size(), 2U);
    EXPECT_EQ(prepared({{"versions", "2"}}).at("versions").at(1), whole.at("versions").at(1));
    EXPECT_EQ(prepared({{"versions", "0"}}).at("versions").size(), 0U);
}

TEST_F(TrainedViews, NeighboursAreOthersTheNearestFirst) {
    const Json neighbours = data("neighbours", {{"run", "new head/1"}, {"item", item()}}).at("neighbours");
    ASSERT_GT(neighbours.size(), 1U);
    for (std::size_t k = 0; k < neighbours.size(); ++k) {
        EXPECT_NE(neighbours.at(k).at("item"), item());
        if (k > 0) {
            EXPECT_LE(neighbours.at(k).at("similarity"), neighbours.at(k - 1).at("similarity"));
        }
    }
}

TEST_F(TrainedViews, PicturesOfAReportAreThoseOfTheirItems) {
    const std::filesystem::path file = *directory_ / "report.html";
    const ReportSummary summary = write_report(*ledger_, ledger_->study(), file);
    EXPECT_EQ(summary.images_gone, 0);
    const std::vector<std::byte> bytes = read_file(file);
    const std::string html(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    std::int64_t found = 0;
    for (const Part part : {Part::training, Part::validation})
        for (const ItemRecord& item : items(part)) {
            const Image image = shown_image(*ledger_, ledger_->study(), item.id, 128);
            const bool stands = html.find(fmt::format("\"{}\":\"data:image/jpeg;base64,{}\"", item.id,
                                                      base64(encode_jpeg(image, 88)))) != std::string::npos;
            EXPECT_TRUE(stands || part == Part::training) << item.id;  // of those a sample
            found += stands ? 1 : 0;
        }
    EXPECT_EQ(found, summary.pictures);
}

TEST_F(TrainedViews, ModelsThatWereAskedAreKeptReady) {
    LoadedModels models;
    const ItemRecord one = items(Part::validation).at(2);
    const std::vector<std::byte> image = read_file(*directory_ / "images" / path_of_item(one.id));
    const std::vector<std::string> runs = {"new head/1", "last stage/1"};
    const Json first = models.classify(*ledger_, ledger_->study(), runs, image);
    ASSERT_EQ(first.at("answers").size(), 2U);
    EXPECT_EQ(first.at("test_image"), false);
    for (std::size_t r = 0; r < runs.size(); ++r) {
        const Json& answer = first.at("answers").at(r);
        EXPECT_EQ(answer.at("run"), runs[r]);
        const PartPredictions recorded =
            predict_part(*ledger_, ledger_->study(), run(runs[r]), Part::validation);
        for (std::size_t c = 0; c < 3; ++c)
            EXPECT_NEAR(answer.at("probabilities").at(c).get<double>(), recorded.table.row(2)[c], 1e-4);
        EXPECT_FALSE(answer.at("distance").is_null());
        EXPECT_EQ(answer.at("unknown"), false);
    }
    const std::filesystem::path file = ledger_->model_file(run("new head/1").id);
    std::filesystem::rename(file, *directory_ / "away.onnx");
    EXPECT_EQ(models.classify(*ledger_, ledger_->study(), runs, image), first);
    LoadedModels others;
    EXPECT_THAT(message_of<InputError>([&] { others.classify(*ledger_, ledger_->study(), runs, image); }),
                HasSubstr("the model of this run is missing"));
    std::filesystem::rename(*directory_ / "away.onnx", file);

    const auto refused = [&](const std::vector<std::string>& asked) {
        return message_of<InputError>([&] { models.classify(*ledger_, ledger_->study(), asked, image); });
    };
    EXPECT_THAT(refused({}), HasSubstr("name the runs"));
    EXPECT_THAT(refused(std::vector<std::string>(13, "new head/1")), HasSubstr("at most 12 runs"));
    EXPECT_EQ(models.classify(*ledger_, ledger_->study(), std::vector<std::string>(12, "new head/1"), image)
                  .at("answers")
                  .size(),
              12U);
}

TEST_F(TrainedViews, TheSurveyCountsWhatMayBeSeen) {
    const Json survey = data("survey", {});
    EXPECT_EQ(survey.at("counts"), Json::array({9, 9, 9}));
    EXPECT_EQ(survey.at("copies").size(), 0U);
}

}  // namespace
}  // namespace jevrin
