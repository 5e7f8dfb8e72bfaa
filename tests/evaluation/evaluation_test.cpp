// Which runs a name means, matrices of several runs, the run that judges labels.
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/evaluation/corrections.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/evaluation/run_features.hpp"
#include "jevrin/evaluation/run_matrices.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/evaluation/suspects.hpp"

#include <cmath>
#include <set>

namespace jevrin {
namespace {

using test::MadeUpRun;
using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::ElementsAre;
using testing::HasSubstr;

class Evaluation : public testing::Test {
  protected:
    Evaluation() : study_(directory_ / "ledger", 2, 8) {
        study_.add_run({.candidate = "head: rate 1", .regime = Regime::frozen, .seed = 1, .origin = "head"});
        study_.add_run({.candidate = "head: rate 2", .regime = Regime::frozen, .seed = 1, .origin = "head"});
        study_.add_run({.candidate = "scratch", .seed = 1});
        study_.add_run({.candidate = "scratch", .seed = 2, .finished = false});
    }
    std::vector<std::string> named(const std::vector<std::string>& names,
                                   RunScope scope = RunScope::standing) const {
        std::vector<std::string> result;
        for (const RunRecord& run : runs_called(study_.ledger(), study_.study(), names, scope))
            result.push_back(run.name());
        return result;
    }

    TemporaryDirectory directory_;
    MadeUpStudy study_;
};

TEST_F(Evaluation, ANameMeansARunACandidateOrAllItsVariants) {
    EXPECT_THAT(named({"scratch/2"}), ElementsAre("scratch/2"));
    EXPECT_THAT(named({"head"}), ElementsAre("head: rate 1/1", "head: rate 2/1"));
    EXPECT_THAT(named({"scratch", "head: rate 2", "scratch/1"}),
                ElementsAre("scratch/1", "scratch/2", "head: rate 2/1"));
    EXPECT_EQ(named({}).size(), 4U);
    EXPECT_THAT(message_of<InputError>([&] { named({"scrtch"}); }), HasSubstr("did you mean 'scratch'?"));
}

TEST_F(Evaluation, ArchivedRunsAreMeantOnlyWhereTheyMayBe) {
    study_.writer().put_archived(study_.ledger().run(study_.study().id, "scratch/1").id, true);
    EXPECT_THAT(named({"scratch"}), ElementsAre("scratch/2"));
    EXPECT_THAT(named({"scratch"}, RunScope::archived_too), ElementsAre("scratch/2", "scratch/1"));
}

TEST_F(Evaluation, UnfinishedRunsDoNotJudge) {
    EXPECT_EQ(finished_runs_called(study_.ledger(), study_.study(), {"scratch"}).size(), 1U);
    EXPECT_THAT(
        message_of<InputError>([&] { finished_runs_called(study_.ledger(), study_.study(), {"scratch/2"}); }),
        HasSubstr("'scratch/2' is not finished"));
}

TEST_F(Evaluation, MatricesOfSeveralRunsAddUp) {
    const auto runs = runs_with_matrices(study_.ledger(), study_.study(), {"head"});
    const RunMatrix one = matrix_of(study_.ledger(), study_.study(), runs[0], Part::validation);
    const RunMatrix sum = sum_of_matrices(study_.ledger(), study_.study(), runs, Part::validation);
    EXPECT_EQ(one.epoch, 1);
    EXPECT_EQ(one.matrix.total(), static_cast<std::int64_t>(study_.validation_items()));
    EXPECT_EQ(sum.matrix.total(), 2 * one.matrix.total());
    EXPECT_EQ(sum.matrix.at(1, 1), 2 * one.matrix.at(1, 1));
    // One that is always right, and one that always says the first class.
    study_.add_run({.candidate = "other"});
    study_.add_run({.candidate = "other", .seed = 2, .predicted = [](std::size_t, std::size_t) {
                        return std::size_t{0};
                    }});
    const auto differing = runs_with_matrices(study_.ledger(), study_.study(), {"other"});
    const RunMatrix both = sum_of_matrices(study_.ledger(), study_.study(), differing, Part::validation);
    EXPECT_EQ(both.matrix.at(0, 0), 12);
    EXPECT_EQ(both.matrix.at(1, 0), 6);
    EXPECT_EQ(both.matrix.at(1, 1), 6);
    EXPECT_THAT(message_of<InputError>(
                    [&] { matrix_of(study_.ledger(), study_.study(), runs[0], Part::validation, 7); }),
                HasSubstr("has the epochs 1 to 1, not 7"));
}

TEST_F(Evaluation, RecordedPredictionsJudgeWhenNoFrozenRunIsNamed) {
    const SuspectReport report = find_suspects(study_.ledger(), study_.study(), {"scratch"});
    EXPECT_THAT(report.source, HasSubstr("validation part"));
    EXPECT_TRUE(report.suspects.empty());  // every item is called what it is
    // One item of each class is called the other.
    study_.add_run({.candidate = "doubting", .predicted = [](std::size_t label, std::size_t place) {
                        return place % 6 == 0 ? 1 - label : label;
                    }});
    const SuspectReport doubts = find_suspects(study_.ledger(), study_.study(), {"doubting"});
    ASSERT_EQ(doubts.suspects.size(), 2U);
    for (const SuspectLabel& suspect : doubts.suspects)
        EXPECT_EQ(suspect.proposed, 1 - doubts.predictions.table.labels[suspect.item]);
}

TEST_F(Evaluation, RecordedPredictionsThatAreNoProbabilitiesAreRefused) {
    const MadeUpRun made{.candidate = "odd"};
    const RunId id = study_.begin_run(made);
    study_.record_epoch(id, 1, made);
    std::vector<PredictionRecord> predictions;
    for (const std::size_t i : study_.parts().validation) {
        const Item& item = study_.set().items[i];
        predictions.push_back({item.id, item.label, item.label, {2.0F, -1.0F}});
    }
    study_.writer().finish_run(id, predictions);
    const RunRecord run = study_.ledger().run(study_.study().id, "odd/1");
    EXPECT_THAT(message_of<InputError>([&] {
                    static_cast<void>(predict_part(study_.ledger(), study_.study(), run, Part::validation));
                }),
                HasSubstr("12 of 12 predictions contain a number outside 0 to 1"));
}

TEST(Corrections, JoinAFileWhateverItsColumns) {
    const TemporaryDirectory directory;
    const std::filesystem::path file = directory / "corrections.csv";
    write_file(file, std::string("note,label,item\nsure,down,b.png\n,up,c.png\n"));
    const std::vector<MarkRecord> marks = {{.item = "a.png#1", .label = "up", .note = "seen"},
                                           {.item = "c.png#2", .excluded = true},
                                           {.item = "d.png#3", .note = "a note alone proposes nothing"}};
    EXPECT_EQ(write_corrections(marks, file), 3);
    EXPECT_EQ(read_text(file), "item,label,note\na.png,up,seen\nb.png,down,sure\nc.png,exclude,\n");
}

TEST(ReadPredictions, NameItemsByTheirIdsOrTheirPathsAlone) {
    const TemporaryDirectory directory;
    const std::vector<ItemRecord> items = {{"a/1.png#1f", 0}, {"a/2.png#2f", 1}, {"b/1.png#3f", 1}};
    const auto read = [&](const std::string& rows) {
        write_file(directory / "p.csv", "item,up,down\n" + rows);
        return read_predictions(directory / "p.csv", items, {"up", "down"});
    };
    const PartPredictions mixed = read("b/1.png,0.25,0.75\na/1.png#1f,1,0\na/2.png,0.5,0.5\n");
    EXPECT_THAT(mixed.items, ElementsAre("a/1.png#1f", "a/2.png#2f", "b/1.png#3f"));
    EXPECT_THAT(mixed.table.labels, ElementsAre(0, 1, 1));
    EXPECT_THAT(mixed.table.probabilities, ElementsAre(1, 0, 0.5F, 0.5F, 0.25F, 0.75F));
    // What is written is read again.
    const std::string written = to_csv(mixed, {"up", "down"});
    EXPECT_THAT(written, testing::StartsWith("item,label,predicted,up,down\na/1.png#1f,up,up,1,0\n"));
    write_file(directory / "written.csv", written);
    const PartPredictions again = read_predictions(directory / "written.csv", items, {"up", "down"});
    EXPECT_EQ(again.items, mixed.items);
    EXPECT_EQ(again.table.probabilities, mixed.table.probabilities);
    for (const char* unknown : {"a/1.pn", "a/1.png#2f", "c.png"})
        EXPECT_THAT(message_of<InputError>(
                        [&] { read(std::string(unknown) + ",1,0\na/2.png,0.5,0.5\nb/1.png,0.25,0.75\n"); }),
                    HasSubstr(unknown));
    for (const std::string number : {"0.5x", "x", "", "1e999"})
        EXPECT_THAT(message_of<InputError>([&] { read("a/1.png,1,0\na/2.png,0.5," + number + "\n"); }),
                    testing::EndsWith(fmt::format(
                        "p.csv:3: '{}' is not a number; expected a probability from 0 to 1", number)));
}

TEST(Neighbours, AreNearByTheAngleOfTheirFeatures) {
    RunFeatures features{
        .items = std::vector<ItemRecord>(5), .width = 2, .values = {1, 0, 0, 0, 3, 3, -1, 0, 5, 0}};
    const std::vector<Neighbour> all = nearest_items(features, 0, 9);
    std::vector<std::size_t> order;
    std::vector<double> similarities;
    for (const Neighbour& one : all) {
        order.push_back(one.item);
        similarities.push_back(one.similarity);
    }
    EXPECT_THAT(order, ElementsAre(4, 2, 1, 3));
    EXPECT_THAT(similarities, ElementsAre(1.0, testing::DoubleNear(std::sqrt(0.5), 1e-12), 0.0, -1.0));
    EXPECT_EQ(nearest_items(features, 0, 2).size(), 2U);
}

TEST(OutOfFoldPredictions, EachFeatureCounts) {
    RunFeatures features{.items = {}, .width = 2, .values = {}};
    constexpr std::size_t items = 40;
    for (std::size_t i = 0; i < items; ++i) {
        ItemRecord item;
        item.id = static_cast<std::int64_t>(i) + 1;
        item.label = i % 4;
        features.items.push_back(item);
        features.values.push_back(i % 2 == 0 ? 3.0F : -3.0F);
        features.values.push_back(i % 4 < 2 ? 3.0F : -3.0F);
    }
    const PartPredictions predictions = out_of_fold_predictions(features, 4);
    ASSERT_EQ(predictions.items.size(), items);
    for (std::size_t i = 0; i < items; ++i) {
        EXPECT_EQ(predictions.items[i], features.items[i].id);
        EXPECT_GT(predictions.table.probabilities[4 * i + i % 4], 0.8F) << i;
    }
}

}  // namespace
}  // namespace jevrin
