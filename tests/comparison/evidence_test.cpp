// What comparisons start from.
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/metrics/cross_fitting.hpp"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <map>
#include <tuple>

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::ElementsAre;
using testing::HasSubstr;

TEST(LedgerReading, ShortFormsSayWhatTheLongOnesDo) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 3, 20);
    const RunId run = study.add_run({.candidate = "a", .epochs = 4, .predicted = study.correct_with(0.6, 3)});
    study.add_run({.candidate = "b"});
    const Ledger& ledger = study.ledger();
    const auto epochs = ledger.epochs(run);
    const auto curve = ledger.curve(run);
    ASSERT_EQ(curve.size(), 4U);
    for (std::size_t e = 0; e < 4; ++e) {
        EXPECT_EQ(curve[e].epoch, epochs[e].epoch);
        EXPECT_EQ(curve[e].training_loss, epochs[e].training_loss);
        for (const Metric metric : {Metric::accuracy, Metric::balanced_accuracy, Metric::macro_f1})
            EXPECT_DOUBLE_EQ(validation_score(curve[e], metric), score(epochs[e].validation, metric));
    }
    const auto predictions = ledger.predictions(run, Part::validation);
    const auto outcomes = ledger.outcomes(run, Part::validation);
    ASSERT_EQ(outcomes.size(), predictions.size());
    std::map<std::string, std::size_t> predicted;
    for (const PredictionRecord& p : predictions) predicted[p.item] = p.predicted;
    for (const OutcomeRecord& o : outcomes) EXPECT_EQ(predicted.at(ledger.item_id(o.item)), o.predicted);
    EXPECT_TRUE(
        std::is_sorted(outcomes.begin(), outcomes.end(),
                       [](const OutcomeRecord& a, const OutcomeRecord& b) { return a.item < b.item; }));
    const RunRecord record = ledger.run(study.study().id, "a/1");
    EXPECT_EQ(ledger.count_items(record.split, Part::validation), 45);
    EXPECT_EQ(ledger.count_items(record.split, Part::training), 15);
    EXPECT_EQ(ledger.count_items(record.split, Part::test), 0);
    EXPECT_THAT(ledger.candidates(study.study().id), ElementsAre("a", "b"));
}

TEST(Evidence, WithoutFinishedRunsIsAnError) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 8);
    EXPECT_THAT(message_of<InputError>([&] { gather_evidence(study.ledger(), study.study()); }),
                HasSubstr("has no finished run yet; train its plan first"));
    study.add_run({.finished = false});
    EXPECT_THAT(message_of<InputError>([&] { gather_evidence(study.ledger(), study.study()); }),
                HasSubstr("among these"));
}

TEST(Evidence, KeepsTheRunsOfACandidateTogetherInWhicheverOrder) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 8);
    for (std::int64_t seed : {1, 2})
        for (const char* candidate : {"a", "b"}) study.add_run({.candidate = candidate, .seed = seed});
    const StudyEvidence evidence =
        gather_evidence(study.ledger(), study.study(),
                        runs_called(study.ledger(), study.study(), {"b/2", "a/1", "b/1", "a/2"}));
    ASSERT_EQ(evidence.candidates.size(), 2U);
    EXPECT_EQ(evidence.candidates[0].candidate, "b");
    EXPECT_EQ(evidence.candidates[0].runs.size(), 2U);
    EXPECT_EQ(evidence.candidates[0].runs[0].run.seed, 2);
    EXPECT_EQ(evidence.candidates[0].runs[0].training_items, 4);
    EXPECT_EQ(evidence.candidates[1].seed_scores(2, Metric::accuracy).size(), 2U);
}

// Twenty epochs that are all as good, each wrong on other items.
std::size_t by_chance(std::size_t label, std::size_t place, std::uint64_t draw) {
    RandomStream random({draw, Purpose::sample, 0, static_cast<std::uint64_t>(place)});
    return random.uniform() < 0.7 ? label : 1 - label;
}

TEST(CrossFitting, ScoresEveryItemAtAnEpochThatItDidNotChoose) {
    // Four items, halves 0 0 1 1. Epoch 0 is right on the first half, epoch 1 on the second.
    const std::vector<std::size_t> labels = {0, 1, 0, 1};
    const std::vector<std::vector<std::size_t>> epochs = {{0, 1, 1, 0}, {1, 0, 0, 1}};
    const std::vector<std::uint8_t> halves = {0, 0, 1, 1};
    // Half 0 chooses epoch 0, which scores half 1, and the reverse: wrong everywhere.
    EXPECT_EQ(cross_fitted(epochs, labels, halves, 2, Metric::accuracy),
              (std::vector<std::size_t>{1, 0, 1, 0}));
    // Halves hold whole units, and as many of each class as can be.
    const std::vector<std::int64_t> units = {1, 1, 2, 2, 3, 4, 5, 6};
    const std::vector<std::size_t> classes = {0, 0, 0, 0, 0, 0, 1, 1};
    const std::vector<std::uint8_t> drawn = halves_of(units, classes, 7);
    EXPECT_EQ(drawn[0], drawn[1]);
    EXPECT_EQ(drawn[2], drawn[3]);
    EXPECT_NE(drawn[6], drawn[7]);
    EXPECT_EQ(drawn[0] + drawn[2] + drawn[4] + drawn[5], 2);
    EXPECT_EQ(drawn, halves_of(units, classes, 7));
}

TEST(CrossFitting, TheBestOfManyEpochsGainsNothingByChance) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 80);
    double best = 0.0;
    for (std::int64_t seed = 1; seed <= 6; ++seed) {
        const auto draw = static_cast<std::uint64_t>(1000 * seed);
        // The last epoch is taken for the best; the others are draws of the same kind.
        std::uint64_t luckiest = 0;
        double highest = 0.0;
        for (std::uint64_t e = 1; e <= 20; ++e) {
            double right = 0.0;
            for (std::size_t place = 0; place < study.validation_items(); ++place)
                right += by_chance(0, place, draw + e) == 0 ? 1.0 : 0.0;
            if (right > highest) luckiest = e;
            highest = std::max(highest, right);
        }
        best += highest / static_cast<double>(study.validation_items()) / 6;
        study.add_run(
            {.candidate = "twenty epochs",
             .seed = seed,
             .epochs = 20,
             .at_epoch =
                 [=](std::size_t label, std::size_t place, int epoch) {
                     const auto own = static_cast<std::uint64_t>(epoch);
                     return by_chance(label, place, draw + (own == luckiest ? 20 : own));
                 },
             .predicted = [=](std::size_t label,
                              std::size_t place) { return by_chance(label, place, draw + luckiest); }});
        study.add_run(
            {.candidate = "one epoch", .seed = seed, .predicted = study.correct_with(0.7, draw + 50)});
    }
    const StudyEvidence evidence = gather_evidence(study.ledger(), study.study());
    EXPECT_EQ(evidence.epochs, EpochChoice::cross_fitted);
    const Choice choice = choose(study.ledger(), study.study());
    for (const RankedCandidate& candidate : choice.ranking) {
        EXPECT_NEAR(candidate.mean, 0.7, 0.035) << candidate.candidate;
        if (candidate.candidate == "twenty epochs") {
            EXPECT_NEAR(candidate.best_epoch_mean, best, 1e-9);
            EXPECT_GT(candidate.best_epoch_mean, candidate.mean + 0.03);
        }
    }
    EXPECT_FALSE(choice.clear);
}

TEST(CrossFitting, WithoutPredictionsByEpochOneEpochIsCommonToACandidate) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 40);
    for (std::int64_t seed : {1, 2, 3})
        for (const char* name : {"a", "b"})
            study.add_run(
                {.candidate = name, .seed = seed, .epochs = 4, .predicted = study.correct_with(0.8, 3)});
    const Choice choice = choose(study.ledger(), study.study());
    EXPECT_EQ(choice.epochs, EpochChoice::common);
    EXPECT_THAT(choice.reasons, testing::Contains(HasSubstr("compared at one epoch each")));
}

TEST(EpochPredictions, AreKeptInLessThanAByteForEachItem) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 200, 8);
    const auto predicted = [](std::size_t label, std::size_t place, int epoch) {
        return (label + place * static_cast<std::size_t>(epoch)) % 200;
    };
    const RunId run = study.add_run({.candidate = "a", .epochs = 5, .at_epoch = predicted});
    const auto epochs = study.ledger().epoch_predictions(run);
    ASSERT_EQ(epochs.size(), 5U);
    const auto outcomes = study.ledger().outcomes(run, Part::validation);
    for (int epoch = 1; epoch < 5; ++epoch)
        for (std::size_t place = 0; place < outcomes.size(); ++place)
            ASSERT_EQ(epochs[static_cast<std::size_t>(epoch - 1)][place],
                      predicted(outcomes[place].label, place, epoch));
    SQLite::Database database((directory / "ledger/ledger.db").string());
    const double bytes =
        database.execAndGet("SELECT AVG(LENGTH(predicted)) FROM epoch_predictions").getDouble();
    EXPECT_LE(bytes, static_cast<double>(outcomes.size()));
    // An item that the run does not have is refused, and nothing of the epoch is kept.
    EXPECT_THROW(study.writer().record_epoch(run, {{.epoch = 6}, ConfusionMatrix(200)}, false, {}, {},
                                             {{"nowhere#0", 1}}),
                 WorkError);
    EXPECT_EQ(study.ledger().curve(run).size(), 5U);
}

TEST(Seeds, ThatFailedAreCountedApart) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 40);
    for (std::int64_t seed : {1, 2, 3, 4}) {
        study.add_run({.candidate = "steady", .seed = seed, .predicted = study.correct_with(0.7, 10)});
        const RunId run = study.add_run({.candidate = "frail",
                                         .seed = seed,
                                         .finished = seed != 2,
                                         .predicted = study.correct_with(0.8, 20)});
        if (seed == 2) study.writer().fail_run(run, "the loss became NaN");
    }
    const Choice choice = choose(study.ledger(), study.study());
    const RankedCandidate& frail = choice.ranking.front();
    ASSERT_EQ(frail.candidate, "frail");
    EXPECT_EQ(frail.seeds, 3);
    EXPECT_EQ(frail.failed_seeds, 1);
    // Clopper & Pearson for 1 of 4.
    EXPECT_NEAR(frail.failure_interval()->low, 0.0063, 5e-5);
    EXPECT_NEAR(frail.failure_interval()->high, 0.8059, 5e-5);
    EXPECT_THAT(choice.reasons, testing::Contains(HasSubstr("'frail' failed in 1 of 4 seeds")));
    EXPECT_FALSE(choice.ranking.back().failure_interval().has_value());
}

TEST(RareClasses, AreNamed) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 3, 5, Metric::balanced_accuracy);
    study.add_run({.candidate = "a"});
    study.add_run({.candidate = "b"});
    const Choice choice = choose(study.ledger(), study.study());
    ASSERT_FALSE(choice.rare_classes.empty());
    EXPECT_LT(choice.rare_classes.front().second, 5);
    EXPECT_THAT(choice.reasons, testing::Contains(HasSubstr("its recall is hardly known")));
}

TEST(EqualEffort, IsTheExpectedBestOfSoManyVariants) {
    const TemporaryDirectory directory;
    MadeUpStudy study(directory / "ledger", 2, 80);
    const auto wrong_on = [](std::size_t count) {
        return [count](std::size_t label, std::size_t place) { return place < count ? 1 - label : label; };
    };
    // Of 120 items: scores 0.9, 0.8 and 0.5 from scratch, 0.85 with a frozen backbone.
    for (const auto& [name, regime, wrong] :
         {std::tuple{"s1", Regime::scratch, 12U}, std::tuple{"s2", Regime::scratch, 24U},
          std::tuple{"s3", Regime::scratch, 60U}, std::tuple{"f1", Regime::frozen, 18U}})
        study.add_run({.candidate = name, .regime = regime, .predicted = wrong_on(wrong)});
    const Choice choice = choose(study.ledger(), study.study());
    ASSERT_EQ(choice.equal_effort.size(), 2U);
    const std::vector<double>& scratch = choice.equal_effort[0].expected_best;
    ASSERT_EQ(scratch.size(), 3U);
    EXPECT_NEAR(scratch[0], (0.9 + 0.8 + 0.5) / 3, 1e-9);
    // The best of two drawn from three: 0.5 of 1, 0.8 of 3, 0.9 of 5 in 9 pairs.
    EXPECT_NEAR(scratch[1], (0.5 * 1 + 0.8 * 3 + 0.9 * 5) / 9, 1e-9);
    EXPECT_EQ(choice.equal_effort[1].expected_best.size(), 1U);
    EXPECT_NEAR(choice.equal_effort[1].expected_best[0], 0.85, 1e-9);
}

}  // namespace
}  // namespace jevrin
