// Curves, matrices, items, settings and training-set sizes across made-up runs.
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/comparison/agreement.hpp"
#include "jevrin/comparison/curves.hpp"
#include "jevrin/comparison/matrices.hpp"
#include "jevrin/comparison/run_table.hpp"
#include "jevrin/comparison/training_sizes.hpp"
#include "jevrin/evaluation/run_names.hpp"

#include <cmath>

namespace jevrin {
namespace {

using test::MadeUpRun;
using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::ElementsAre;
using testing::HasSubstr;

TEST(CurvePointsOf, EveryAxisAndQuantity) {
    RunCurves curves{.run = {.batch = 32}, .epochs = {}};
    for (int e = 1; e <= 3; ++e)
        curves.epochs.push_back({.epoch = e,
                                 .step = 10 * e,
                                 .training_loss = 1.0 / e,
                                 .validation_loss = 2.0 / e,
                                 .learning_rate = 0.1,
                                 .seconds = 5.0,
                                 .validation_scores = {0.1 * e, 0.2 * e, 0.3 * e}});
    const auto points = [&](CurveQuantity quantity, CurvePart part, CurveAxis axis) {
        return curve_points(curves, quantity, part, axis);
    };
    using Point = std::pair<double, double>;
    EXPECT_THAT(points(CurveQuantity::loss, CurvePart::validation, CurveAxis::epoch),
                ElementsAre(Point{1, 2.0}, Point{2, 1.0}, Point{3, 2.0 / 3}));
    EXPECT_EQ(points(CurveQuantity::loss, CurvePart::training, CurveAxis::step)[2], (Point{30, 1.0 / 3}));
    EXPECT_EQ(points(CurveQuantity::accuracy, CurvePart::validation, CurveAxis::seconds)[1],
              (Point{10, 0.2}));
    EXPECT_EQ(points(CurveQuantity::macro_f1, CurvePart::validation, CurveAxis::examples)[0],
              (Point{320, 0.3}));
    EXPECT_TRUE(points(CurveQuantity::learning_rate, CurvePart::validation, CurveAxis::epoch).empty());
    EXPECT_THAT(message_of<InputError>([] { value_named<CurveQuantity>("acuracy"); }),
                HasSubstr("did you mean 'accuracy'"));
    EXPECT_THAT(message_of<InputError>([] { value_named<CurveAxis>("hours"); }),
                HasSubstr("epoch, step, seconds or examples"));
}

TEST(Smoothing, WeighsWhatCameBeforeAndBeginsWithoutBias) {
    const CurvePoints raw = {{1, 4.0}, {2, 2.0}, {3, 6.0}};
    EXPECT_EQ(smoothed(raw, 0.0), raw);
    const CurvePoints half = smoothed(raw, 0.5);
    EXPECT_DOUBLE_EQ(half[0].second, 4.0);
    EXPECT_DOUBLE_EQ(half[1].second, (0.5 * 4 + 2) / 1.5);
    EXPECT_DOUBLE_EQ(half[2].second, (0.25 * 4 + 0.5 * 2 + 6) / 1.75);
}

TEST(Bands, ReachAsFarAsAllRunsDo) {
    const CurveBand band = band_of({{{1, 1.0}, {2, 2.0}, {3, 9.0}}, {{1, 3.0}, {2, 6.0}}});
    ASSERT_EQ(band.mean.size(), 2U);
    EXPECT_EQ(band.mean[1], (std::pair<double, double>{2, 4.0}));
    EXPECT_THAT(band.low, ElementsAre(1.0, 2.0));
    EXPECT_THAT(band.high, ElementsAre(3.0, 6.0));
    EXPECT_TRUE(band_of({}).mean.empty());
}

TEST(MatrixSpread, IsTheMeanShareAndItsDeviation) {
    ConfusionMatrix one(2);
    one.add(0, 0, 3);
    one.add(0, 1, 1);
    one.add(1, 1, 5);
    ConfusionMatrix other(2);
    other.add(0, 0, 1);
    other.add(0, 1, 3);
    other.add(1, 1, 5);
    const MatrixSpread spread = matrix_spread({one, other});
    EXPECT_EQ(spread.runs, 2);
    EXPECT_DOUBLE_EQ(spread.mean[0][0], 0.5);
    EXPECT_NEAR(spread.deviation[0][0], std::sqrt(2 * 0.25 * 0.25), 1e-12);
    EXPECT_DOUBLE_EQ(spread.mean[1][1], 1.0);
    EXPECT_DOUBLE_EQ(spread.deviation[1][1], 0.0);
}

// Three classes of 60 validation items each.
class AcrossRuns : public testing::Test {
  protected:
    AcrossRuns() : study_(directory_ / "ledger", 3, 80) {}
    StudyEvidence evidence() { return gather_evidence(study_.ledger(), study_.study()); }
    const CandidateEvidence& of(const StudyEvidence& evidence, const std::string& name) {
        for (const CandidateEvidence& candidate : evidence.candidates)
            if (candidate.candidate == name) return candidate;
        throw std::runtime_error(name);
    }

    TemporaryDirectory directory_;
    MadeUpStudy study_;
};

TEST_F(AcrossRuns, ADifferenceBeyondChanceIsMarkedAndChanceIsNot) {
    for (std::int64_t seed : {1, 2, 3}) {
        const auto draw = static_cast<std::uint64_t>(seed);
        const auto noise = study_.correct_with(0.9, 100 + draw);
        const auto other_noise = study_.correct_with(0.9, 200 + draw);
        study_.add_run({.candidate = "good", .seed = seed, .predicted = noise});
        // Calls half of class 2 class 0; otherwise as good.
        study_.add_run(
            {.candidate = "blind", .seed = seed, .predicted = [=](std::size_t label, std::size_t place) {
                 return label == 2 && place % 2 == 0 ? 0 : other_noise(label, place);
             }});
    }
    const StudyEvidence all = evidence();
    const MatrixDifference d = compare_matrices(of(all, "good"), of(all, "blind"), 3);
    EXPECT_EQ(d.seeds, 3);
    ASSERT_EQ(d.gains.size(), 3U);
    EXPECT_EQ(d.gains[0].true_class, 2U);
    EXPECT_TRUE(d.gains[0].beyond_chance);
    EXPECT_GT(d.gains[0].interval.low, 0.2);
    EXPECT_LT(d.gains[0].interval.high, 0.7);
    EXPECT_NEAR(d.gains[0].gain(), d.difference[2][2], 1e-12);
    EXPECT_FALSE(d.gains[1].beyond_chance);
    EXPECT_FALSE(d.gains[2].beyond_chance);
    for (const CellDifference& cell : d.cells)
        EXPECT_EQ(cell.beyond_chance, cell.true_class == 2 && cell.predicted != 1);
    // Each row of shares adds up to nothing.
    for (const auto& row : d.difference) EXPECT_NEAR(row[0] + row[1] + row[2], 0.0, 1e-12);
    // A candidate against itself.
    for (const ClassGain& gain : compare_matrices(of(all, "good"), of(all, "good"), 3).gains) {
        EXPECT_EQ(gain.gain(), 0.0);
        EXPECT_FALSE(gain.beyond_chance);
    }
}

TEST_F(AcrossRuns, ASingleSeedCallsNothingBeyondChance) {
    study_.add_run({.candidate = "good"});
    study_.add_run(
        {.candidate = "bad", .predicted = [](std::size_t, std::size_t) { return std::size_t{0}; }});
    const StudyEvidence all = evidence();
    const MatrixDifference d = compare_matrices(of(all, "good"), of(all, "bad"), 3);
    EXPECT_EQ(d.seeds, 1);
    EXPECT_DOUBLE_EQ(d.difference[1][1], 1.0);
    for (const CellDifference& cell : d.cells) EXPECT_FALSE(cell.beyond_chance);
}

TEST_F(AcrossRuns, RecallsStandByClassAndCandidate) {
    for (std::int64_t seed : {1, 2}) {
        study_.add_run({.candidate = "all", .seed = seed});
        study_.add_run(
            {.candidate = "none of 1", .seed = seed, .predicted = [](std::size_t label, std::size_t) {
                 return label == 1 ? std::size_t{0} : label;
             }});
    }
    const RecallTable table = recalls_of(evidence());
    EXPECT_THAT(table.candidates, ElementsAre("all", "none of 1"));
    EXPECT_THAT(table.items, ElementsAre(60, 60, 60));
    EXPECT_THAT(table.recalls[1], ElementsAre(1.0, 0.0));
    EXPECT_THAT(table.recalls[2], ElementsAre(1.0, 1.0));
}

TEST_F(AcrossRuns, AgreementFindsWhatAllMissAndWhatOneRegimeGets) {
    const auto add = [&](const std::string& candidate, Regime regime, std::size_t missed_from) {
        for (std::int64_t seed : {1, 2, 3})
            study_.add_run({.candidate = candidate,
                            .regime = regime,
                            .seed = seed,
                            .predicted = [=](std::size_t label, std::size_t place) {
                                return place >= missed_from && place < 10 ? (label + 1) % 3 : label;
                            }});
    };
    add("a", Regime::scratch, 0);  // misses the places 0 to 9,
    add("b", Regime::frozen, 4);   // 4 to 9,
    add("c", Regime::partial, 4);
    const Agreement agreement = agree(evidence());
    EXPECT_EQ(items_in(agreement, ItemGroup::missed).size(), 6U);
    EXPECT_EQ(items_in(agreement, ItemGroup::disputed).size(), 4U);
    EXPECT_EQ(items_in(agreement, ItemGroup::known).size(), 170U);
    EXPECT_EQ(items_in(agreement, ItemGroup::only_regime).size(), 0U);  // two regimes get the four
    EXPECT_EQ(agreement.items.front().correct, 0);
    EXPECT_EQ(agreement.items.front().most_predicted_runs, 9);
    EXPECT_NEAR(agreement.alike[0][1], 176.0 / 180, 1e-12);
    EXPECT_NEAR(agreement.kappa[1][2], 1.0, 1e-12);
    EXPECT_THAT(message_of<InputError>(
                    [&] { items_in(agree(StudyEvidence{}), ItemGroup::only_regime, Regime::frozen); }),
                HasSubstr("no run has the regime 'frozen'"));
    // One regime alone: now c misses them as well.
    study_.writer().put_archived(study_.ledger().run(study_.study().id, "c/1").id, true);
    study_.writer().put_archived(study_.ledger().run(study_.study().id, "c/2").id, true);
    study_.writer().put_archived(study_.ledger().run(study_.study().id, "c/3").id, true);
    const Agreement without = agree(evidence());
    EXPECT_EQ(items_in(without, ItemGroup::only_regime, Regime::frozen).size(), 4U);
    EXPECT_EQ(items_in(without, ItemGroup::only_regime, Regime::scratch).size(), 0U);
}

TEST_F(AcrossRuns, RunsAreFilteredSortedAndGroupedByAnySetting) {
    for (int k = 0; k < 4; ++k)
        study_.add_run(
            {.candidate = k < 2 ? "low" : "high",
             .regime = k % 2 == 0 ? Regime::scratch : Regime::frozen,
             .seed = k + 1,
             .settings = fmt::format(
                 R"({{"training": {{"batch": 16, "optimiser": {{"learning_rate": {}, "kind": "sgd"}}}}}})",
                 k < 2 ? 0.005 : 0.1),
             .predicted = study_.correct_with(0.5 + 0.1 * k, 7)});
    const std::vector<RunRecord> runs = study_.ledger().runs(study_.study().id);
    const auto names = [&](const std::vector<std::string>& conditions, const std::string& sort = "") {
        std::vector<RunRow> rows = run_rows(study_.ledger(), runs);
        keep_where(rows, conditions);
        if (!sort.empty()) sort_by(rows, sort);
        std::vector<std::string> found;
        for (const RunRow& row : rows) found.push_back(row.run.name());
        return found;
    };
    EXPECT_THAT(names({"learning_rate<0.01"}), ElementsAre("low/1", "low/2"));
    EXPECT_THAT(names({"training.optimiser.learning_rate >= 0.1", "regime=frozen"}), ElementsAre("high/4"));
    EXPECT_THAT(names({"candidate~ig"}), ElementsAre("high/3", "high/4"));
    EXPECT_THAT(names({"regime!=frozen"}), ElementsAre("low/1", "high/3"));
    EXPECT_THAT(names({"accuracy>0.55"}, "-accuracy"), ElementsAre("high/4", "high/3", "low/2"));
    EXPECT_THAT(names({}, "seed").front(), "low/1");
    EXPECT_EQ(names({"batch=16"}).size(), 4U);
    EXPECT_TRUE(names({"batch=16 images"}).empty());  // no number
    EXPECT_TRUE(names({"kind=adam"}).empty());
    EXPECT_THAT(message_of<InputError>([&] { names({"lerning_rate<1"}); }),
                HasSubstr("did you mean 'learning_rate'"));
    EXPECT_THAT(message_of<InputError>([&] { names({"learning_rate"}); }), HasSubstr("is not a condition"));
    EXPECT_THAT(message_of<InputError>([&] { names({"=3"}); }), HasSubstr("is not a condition"));
    const std::vector<RunRow> rows = run_rows(study_.ledger(), runs);
    EXPECT_THAT(differing_settings(rows), ElementsAre("training.optimiser.learning_rate"));
    const std::vector<RunGroup> groups = group_by(rows, "learning_rate", Metric::accuracy);
    ASSERT_EQ(groups.size(), 2U);
    EXPECT_EQ(groups[0].value, "0.005");
    EXPECT_EQ(groups[0].runs, 2);
    EXPECT_LT(*groups[0].mean, *groups[1].mean);
    EXPECT_LE(groups[0].lowest, groups[0].highest);
    // A run without settings differs in theirs, not in one without a name.
    study_.add_run({.candidate = "elsewhere", .settings = "{}"});
    EXPECT_THAT(differing_settings(run_rows(study_.ledger(), study_.ledger().runs(study_.study().id))),
                ElementsAre("training.batch", "training.optimiser.kind", "training.optimiser.learning_rate"));
}

TEST_F(AcrossRuns, RunsWithoutAValueComeLastEitherWayRound) {
    study_.add_run({.candidate = "good"});
    for (const std::int64_t seed : {1, 2})
        study_.writer().put_run(study_.study().id, {.candidate = "waiting",
                                                    .regime = Regime::scratch,
                                                    .seed = seed,
                                                    .settings = "{}",
                                                    .planned_epochs = 1});
    study_.add_run(
        {.candidate = "poor", .predicted = [](std::size_t, std::size_t) { return std::size_t{0}; }});
    for (const auto& [key, first] : {std::pair{"accuracy", "poor/1"}, std::pair{"-accuracy", "good/1"}}) {
        std::vector<RunRow> rows = run_rows(study_.ledger(), study_.ledger().runs(study_.study().id));
        sort_by(rows, key);
        EXPECT_EQ(rows.front().run.name(), first);
        // In the order in which they were.
        EXPECT_EQ(rows[2].run.name(), "waiting/1");
        EXPECT_EQ(rows[3].run.name(), "waiting/2");
    }
    std::vector<RunRow> rows = run_rows(study_.ledger(), study_.ledger().runs(study_.study().id));
    keep_where(rows, {"accuracy<=1"});
    EXPECT_EQ(rows.size(), 2U);
    rows = run_rows(study_.ledger(), study_.ledger().runs(study_.study().id));
    keep_where(rows, {"accuracy!=1"});
    EXPECT_EQ(rows.size(), 3U);
}

TEST_F(AcrossRuns, TagsFilterRuns) {
    const RunId run = study_.add_run({.candidate = "a"});
    study_.add_run({.candidate = "b"});
    EXPECT_TRUE(study_.writer().add_tag(run, "paper"));
    EXPECT_FALSE(study_.writer().add_tag(run, "paper"));
    std::vector<RunRow> rows = run_rows(study_.ledger(), study_.ledger().runs(study_.study().id));
    keep_where(rows, {"tags=paper"});
    ASSERT_EQ(rows.size(), 1U);
    EXPECT_EQ(rows[0].run.name(), "a/1");
    EXPECT_TRUE(study_.writer().remove_tag(run, "paper"));
    EXPECT_THAT(message_of<InputError>([&] { study_.writer().add_tag(run, "two words"); }),
                HasSubstr("one word"));
}

TEST_F(AcrossRuns, TrainingSizesSayWhereOneRegimeCatchesUp) {
    const auto add = [&](const std::string& family, Regime regime, double fraction, double correct,
                         std::uint64_t draw) {
        for (std::int64_t seed : {1, 2, 3})
            study_.add_run(
                {.candidate = fmt::format("{}: training_fraction {}", family, fraction),
                 .regime = regime,
                 .seed = seed,
                 .settings = fmt::format(R"({{"training": {{"training_fraction": {}}}}})", fraction),
                 .origin = family,
                 .varied = {{"training.training_fraction", fmt::format("{}", fraction)}},
                 .training_fraction = fraction,
                 .predicted = study_.correct_with(correct, draw + static_cast<std::uint64_t>(seed))});
    };
    add("scratch", Regime::scratch, 0.25, 0.4, 100);
    add("scratch", Regime::scratch, 0.5, 0.65, 200);
    add("scratch", Regime::scratch, 1.0, 0.9, 300);
    add("head", Regime::frozen, 0.25, 0.9, 400);
    add("head", Regime::frozen, 0.5, 0.9, 500);
    add("head", Regime::frozen, 1.0, 0.9, 600);
    const TrainingSizeReport report = learning_curves(study_.study(), evidence());
    ASSERT_EQ(report.curves.size(), 2U);
    EXPECT_EQ(report.curves[0].points.size(), 3U);
    EXPECT_EQ(report.curves[0].points[0].training_items, 15);  // a quarter of 60
    ASSERT_EQ(report.catch_ups.size(), 1U);
    EXPECT_EQ(report.catch_ups[0].behind, "scratch");
    EXPECT_EQ(report.catch_ups[0].fraction, 1.0);
    EXPECT_THAT(report.catch_ups[0].words, HasSubstr("catches up with 'head' at 100 %"));
}

// Two families whose gap is 0.4 on the whole training part and shrinks by so much with each doubling.
void add_curves_apart(MadeUpStudy& study, double shrinks) {
    for (const double fraction : {0.25, 0.5, 1.0})
        for (const char* family : {"scratch", "head"})
            for (std::int64_t seed : {1, 2, 3})
                study.add_run(
                    {.candidate = fmt::format("{} {}", family, fraction),
                     .regime = family == std::string("head") ? Regime::frozen : Regime::scratch,
                     .seed = seed,
                     .settings = fmt::format(R"({{"training": {{"training_fraction": {}}}}})", fraction),
                     .origin = family,
                     .varied = {{"training.training_fraction", fmt::format("{}", fraction)}},
                     .training_fraction = fraction,
                     .predicted = [=, n = study.validation_items()](std::size_t label, std::size_t place) {
                         const double share = static_cast<double>(place % 20) / 20.0;
                         const double gap = 0.4 - shrinks * std::log2(fraction);
                         const double correct = family == std::string("head") ? 0.95 : 0.95 - gap;
                         return share < correct - 1e-9 ? label : (label + 1) % 3;
                     }});
}

TEST_F(AcrossRuns, CurvesThatDoNotMeetSayHowManyTimesMore) {
    add_curves_apart(study_, 0.2);  // 0.8, 0.6, 0.4: in two more doublings it is closed
    const TrainingSizeReport report = learning_curves(study_.study(), evidence());
    ASSERT_EQ(report.catch_ups.size(), 1U);
    EXPECT_FALSE(report.catch_ups[0].fraction.has_value());
    ASSERT_TRUE(report.catch_ups[0].times_more.has_value());
    EXPECT_NEAR(*report.catch_ups[0].times_more, 4.0, 0.2);
    EXPECT_THAT(report.catch_ups[0].words, HasSubstr("extrapolated"));
}

TEST_F(AcrossRuns, AnExtrapolationGoesNoFartherThanTenTimes) {
    add_curves_apart(study_, 0.05);  // eight doublings
    const TrainingSizeReport report = learning_curves(study_.study(), evidence());
    ASSERT_EQ(report.catch_ups.size(), 1U);
    EXPECT_EQ(report.catch_ups[0].times_more, farthest_times_more);
    EXPECT_THAT(report.catch_ups[0].words, HasSubstr("more than 10 times as many"));
}

TEST_F(AcrossRuns, WithoutFractionsTrainingSizesSayWhatToDo) {
    study_.add_run({.candidate = "a"});
    EXPECT_THAT(message_of<InputError>([&] { learning_curves(study_.study(), evidence()); }),
                HasSubstr("vary.training.training_fraction"));
}

TEST_F(AcrossRuns, NamesMeanRunsCandidatesOrOrigins) {
    study_.add_run({.candidate = "wide: rate 1", .seed = 1, .origin = "wide"});
    study_.add_run({.candidate = "wide: rate 2", .seed = 1, .origin = "wide"});
    study_.add_run({.candidate = "b", .seed = 1});
    const auto count = [&](const std::vector<std::string>& names) {
        return runs_called(study_.ledger(), study_.study(), names).size();
    };
    EXPECT_EQ(count({}), 3U);
    EXPECT_EQ(count({"wide"}), 2U);
    EXPECT_EQ(count({"wide: rate 2/1", "b", "b/1"}), 2U);
    EXPECT_THAT(message_of<InputError>([&] { count({"wide: rat 2"}); }),
                HasSubstr("did you mean 'wide: rate 2'"));
    EXPECT_THAT(message_of<InputError>([&] { count({"wid"}); }), HasSubstr("did you mean 'wide'"));
}

}  // namespace
}  // namespace jevrin
