// What the demo's wrong labels and strange images come to, measured on the set that ships.
#include "embedded.hpp"
#include "glaze.hpp"
#include "support/support.hpp"
#include "surfaces.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/evaluation/suspects.hpp"
#include "jevrin/metrics/calibration.hpp"
#include "jevrin/metrics/scores.hpp"
#include "jevrin/study/study.hpp"
#include "jevrin/training/classifier.hpp"

#include <algorithm>
#include <cmath>
#include <set>

namespace jevrin::demo {
namespace {

// A head on the frozen backbone, solved: a second of work.
class DemoHead : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<test::TemporaryDirectory>();
        write_file(*directory_ / "backbone.onnx", backbone_model());
        write_tiles(*directory_ / "glaze", plan_tiles(default_seed), default_seed);
        train_study(parse_plan(R"(name = "glaze"
[images]
from = "glaze"
parts = { training = 0.6, validation = 0.2, test = 0.2 }
size = 64
[backbone]
file = "backbone.onnx"
[[candidate]]
name = "head"
regime = "frozen"
last_layer = "logistic regression"
)",
                               *directory_ / "plan.toml"),
                    ledger());
    }
    static void TearDownTestSuite() { directory_.reset(); }
    static std::filesystem::path ledger() { return *directory_ / "ledger"; }

    static inline std::unique_ptr<test::TemporaryDirectory> directory_;
};

TEST_F(DemoHead, MostWrongLabelsStandAtTheTopOfTheSuspects) {
    const Ledger opened = Ledger::open(ledger());
    const StudyRecord study = opened.study();
    const RunRecord run = opened.run(study.id, "head/1");
    const SuspectReport report = suspects_by_features(opened, study, run);
    // Only to judge the result: tiles that show another fault than their folder says, outside the test part.
    std::set<std::string> wrong;
    for (const Tile& tile : plan_tiles(default_seed))
        if (tile.fault != tile.label) wrong.insert(tile.path);
    const auto path = [](const std::string& id) { return id.substr(0, id.find('#')); };
    for (const ItemRecord& item : opened.items(run.id, Part::test)) wrong.erase(path(item.id));
    EXPECT_EQ(report.predictions.items.size(), 561U);
    ASSERT_GE(wrong.size(), 10U);
    std::size_t found = 0;
    std::size_t at_the_top = 0;
    for (std::size_t k = 0; k < report.suspects.size(); ++k) {
        const bool is_wrong = wrong.contains(path(report.predictions.items[report.suspects[k].item]));
        found += is_wrong ? 1 : 0;
        at_the_top += is_wrong && k < wrong.size() ? 1 : 0;
    }
    EXPECT_GE(found * 4, wrong.size() * 3);       // three quarters are suspect
    EXPECT_GE(at_the_top * 2, wrong.size());      // more than half among as many as there are
    EXPECT_LT(report.suspects.size(), 561U / 8);  // and few others
}

TEST_F(DemoHead, TheTemperatureIsTheModelsAndNotTheRecords) {
    const Ledger opened = Ledger::open(ledger());
    const StudyRecord study = opened.study();
    const RunRecord run = opened.run(study.id, "head/1");
    const PartPredictions recorded = predict_part(ledger(), "", "head/1", Part::validation);
    const double temperature = temperature_of(opened, run, run.best->epoch).value();
    EXPECT_EQ(temperature, fit_temperature(recorded.table));
    EXPECT_GT(std::abs(temperature - 1.0), 0.01);
    // Computed again, predictions are those of training; what the model answers is cooled.
    const std::vector<ItemRecord> items = opened.items(run.id, Part::validation);
    const PartPredictions computed = predict_items(ledger(), "", "head/1", items);
    const PredictionTable cooled = with_temperature(recorded.table, temperature);
    Recogniser recogniser(load_classifier(opened.model_file(run.id)));
    const ImageSet set = items_of(study, items);
    for (std::size_t i = 0; i < 20; ++i) {
        const auto image = load_fitted(set, set.items[i], recogniser.classifier().preparation.fitting);
        const std::vector<float> answer = recogniser.recognise({&image, 1}).probabilities;
        for (std::size_t c = 0; c < study.classes.size(); ++c) {
            EXPECT_NEAR(computed.table.row(i)[c], recorded.table.row(i)[c], 1e-5);
            EXPECT_NEAR(answer[c], cooled.row(i)[c], 1e-5);
        }
    }
    // It does what it is for.
    EXPECT_LT(score_predictions(cooled)[Measure::cross_entropy],
              score_predictions(recorded.table)[Measure::cross_entropy]);
}

TEST_F(DemoHead, StrangePicturesResembleNothingInTraining) {
    const Ledger opened = Ledger::open(ledger());
    const RunRecord run = opened.run(opened.study().id, "head/1");
    Recogniser recogniser(load_classifier(opened.model_file(run.id)));
    const double limit = recogniser.classifier().out_of_distribution.value().limit;
    const Fitting fitting = recogniser.classifier().preparation.fitting;
    const auto unknown_share = [&](const std::vector<std::vector<std::uint8_t>>& images) {
        const Recognition seen = recogniser.recognise(images);
        return static_cast<double>(std::count_if(seen.distances.begin(), seen.distances.end(),
                                                 [&](double d) { return d > limit; })) /
               static_cast<double>(images.size());
    };
    // Tiles of another seed are as familiar as those of the validation part.
    std::vector<Tile> fresh = plan_tiles(77);
    fresh.resize(120);
    std::vector<std::vector<std::uint8_t>> tiles;
    for (const Tile& tile : fresh) tiles.push_back(fit_image(draw_tile(tile, 77), fitting));
    EXPECT_LT(unknown_share(tiles), 0.06);
    std::vector<std::vector<std::uint8_t>> noise;
    std::vector<std::vector<std::uint8_t>> checks;
    RandomStream random({.seed = 3, .purpose = Purpose::sample});
    for (std::int64_t n = 0; n < 20; ++n) {
        Image image(64, 64);
        for (std::uint8_t& value : image.pixels) value = static_cast<std::uint8_t>(random.below(256));
        noise.push_back(fit_image(image, fitting));
        const auto light = static_cast<std::uint8_t>(128 + random.below(128));
        for (std::int64_t y = 0; y < 64; ++y)
            for (std::int64_t x = 0; x < 64; ++x)
                std::fill_n(image.at(x, y), 3,
                            (x / (2 + n % 9) + y / (2 + n % 7)) % 2 == 0 ? light : std::uint8_t{0});
        checks.push_back(fit_image(image, fitting));
    }
    EXPECT_GE(unknown_share(noise), 0.9);
    EXPECT_GE(unknown_share(checks), 0.9);
    // Photographs of other surfaces are nearer; a good part is recognised.
    std::vector<std::vector<std::uint8_t>> surfaces;
    for (std::size_t kind = 0; kind < surface_names().size(); ++kind)
        for (std::uint64_t n = 1; n <= 4; ++n)
            surfaces.push_back(fit_image(draw_surface(kind, n, 99), fitting));
    EXPECT_GE(unknown_share(surfaces), 0.3);
}

}  // namespace
}  // namespace jevrin::demo
