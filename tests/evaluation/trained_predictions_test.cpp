// Predictions of models that were really trained: computed again, refused when something is another one.
#include "support/trained_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/evaluation/run_features.hpp"
#include "jevrin/images/image.hpp"

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;

class TrainedPredictions : public test::TrainedStudy {
  protected:
    static RunRecord run(const std::string& name) { return ledger().run(ledger().study().id, name); }
    static std::vector<ItemRecord> records(Part part) { return ledger().items(run("new head/1").id, part); }
    static void expect_near(const PredictionTable& a, const PredictionTable& b) {
        ASSERT_EQ(a.probabilities.size(), b.probabilities.size());
        for (std::size_t i = 0; i < a.probabilities.size(); ++i)
            EXPECT_NEAR(a.probabilities[i], b.probabilities[i], 1e-4) << i;
    }
    // Does something to a file, and puts it back.
    template <typename Content>
    static void with_changed(const std::filesystem::path& file, const Content& content,
                             const std::function<void()>& work) {
        const std::string old = read_text(file);
        write_file(file, content);
        work();
        write_file(file, old);
    }
};

TEST_F(TrainedPredictions, WhatIsComputedAgainIsWhatWasRecorded) {
    for (const char* name : {"from scratch/1", "new head/2", "last stage/1"}) {
        const PartPredictions recorded =
            predict_part(ledger(), ledger().study(), run(name), Part::validation);
        const PartPredictions computed =
            predict_items(ledger_directory(), "small", name, records(Part::validation));
        EXPECT_EQ(recorded.items, items(Part::validation));
        EXPECT_EQ(computed.items, recorded.items);
        EXPECT_EQ(computed.table.labels, recorded.table.labels);
        EXPECT_EQ(computed.epoch, recorded.epoch);
        expect_near(computed.table, recorded.table);
    }
}

TEST_F(TrainedPredictions, ALookAtTheTestPartIsRecordedAndItsPredictionsAreKept) {
    const RunRecord head = run("new head/1");
    const std::size_t before = ledger().test_looks(ledger().study().id).size();
    const PartPredictions first = predict_part(ledger(), ledger().study(), head, Part::test);
    EXPECT_EQ(first.items, items(Part::test));
    EXPECT_EQ(ledger().test_looks(ledger().study().id).size(), before + 1);
    EXPECT_EQ(ledger().predictions(head.id, Part::test).size(), first.items.size());
    expect_near(predict_part(ledger(), ledger().study(), head, Part::test).table, first.table);
}

TEST_F(TrainedPredictions, TheModelOfAnotherRunIsRefused) {
    const Ledger open = ledger();
    const std::filesystem::path own = model_of(open, run("new head/1"));
    const std::filesystem::path other = model_of(open, run("new head/2"));
    EXPECT_NE(own, other);
    with_changed(own, read_text(other), [&] {
        EXPECT_THAT(message_of<InputError>([&] { load_model(open, run("new head/1")); }),
                    AllOf(HasSubstr(own.string()), HasSubstr("not the model that was recorded")));
    });
    std::string damaged = read_text(own);
    damaged[damaged.size() / 2] = static_cast<char>(damaged[damaged.size() / 2] ^ 1);
    with_changed(own, damaged, [&] {
        EXPECT_THAT(message_of<InputError>([&] { load_model(open, run("new head/1")); }),
                    HasSubstr("it is damaged"));
    });
    EXPECT_NO_THROW(load_model(open, run("new head/1")));
    EXPECT_THAT(message_of<InputError>([&] { model_of(open, run("new head/1"), 99); }), HasSubstr("99"));
}

TEST_F(TrainedPredictions, AnImageThatChangedIsNamed) {
    const std::vector<ItemRecord> some = records(Part::validation);
    const std::string path = some[3].id.substr(0, some[3].id.rfind('#'));
    const Image another = test::small_picture(1, 77);
    with_changed(*directory_ / "images" / path, encode_png(another), [&] {
        EXPECT_THAT(
            message_of<InputError>([&] { predict_items(ledger_directory(), "small", "new head/1", some); }),
            AllOf(HasSubstr(path), HasSubstr("changed")));
    });
}

TEST_F(TrainedPredictions, ItemsAreWhereAndWhatTheStudyFound) {
    const std::vector<ItemRecord> some = records(Part::validation);
    const ImageSet set = items_of(ledger().study(), some);
    ASSERT_EQ(set.items.size(), some.size());
    for (std::size_t i = 0; i < some.size(); ++i) {
        EXPECT_EQ(set.items[i].id, some[i].id);
        EXPECT_EQ(set.items[i].label, some[i].label);
        EXPECT_EQ(set.items[i].path + "#" + set.items[i].content.text(), some[i].id);
        EXPECT_TRUE(std::filesystem::exists(set.root / set.items[i].path));
    }
}

TEST_F(TrainedPredictions, FeaturesOfAFrozenRunAreThoseOfItsBackbone) {
    const std::vector<ItemRecord> some = records(Part::training);
    std::int64_t done = 0;
    const RunFeatures one = features_of_run(ledger(), ledger().study(), run("new head/1"), some,
                                            [&](std::int64_t now, std::int64_t total) {
                                                EXPECT_EQ(total, std::ssize(some));
                                                done = now;
                                            });
    EXPECT_EQ(done, std::ssize(some));
    EXPECT_EQ(one.width, 8);
    EXPECT_EQ(one.values.size(), 8 * some.size());
    // Two heads on one frozen backbone see the same; a network from scratch does not.
    EXPECT_EQ(features_of_run(ledger(), ledger().study(), run("new head/2"), some).values, one.values);
    EXPECT_NE(features_of_run(ledger(), ledger().study(), run("from scratch/1"), some).values, one.values);
    // An item's nearest neighbour among copies of it is its copy, whichever comes first.
    std::vector<ItemRecord> twice = {some[4]};
    twice.insert(twice.end(), some.begin(), some.end());
    const RunFeatures doubled = features_of_run(ledger(), ledger().study(), run("new head/1"), twice);
    EXPECT_EQ(nearest_items(doubled, 5, 1)[0].item, 0U);
    EXPECT_NEAR(nearest_items(doubled, 5, 1)[0].similarity, 1.0, 1e-6);
    // Those of many images as of few, and in their order.
    std::vector<ItemRecord> many;
    while (many.size() <= 200) many.insert(many.end(), some.begin(), some.end());
    const RunFeatures repeated = features_of_run(ledger(), ledger().study(), run("new head/1"), many);
    ASSERT_EQ(repeated.values.size(), 8 * many.size());
    for (std::size_t i = 0; i < repeated.values.size(); ++i)
        ASSERT_FLOAT_EQ(repeated.values[i], one.values[i % one.values.size()]) << i;
    // Five folds by the first seed, unless others are asked for.
    const auto judged = [&](std::int64_t folds, std::uint64_t seed) {
        return out_of_fold_predictions(one, 3, folds, seed).table.probabilities;
    };
    EXPECT_EQ(out_of_fold_predictions(one, 3).table.probabilities, judged(5, 1));
    EXPECT_NE(judged(6, 1), judged(5, 1));
    EXPECT_NE(judged(5, 2), judged(5, 1));
}

}  // namespace
}  // namespace jevrin
