#include "jevrin/comparison/choice.hpp"

#include "benchmarks/choice_simulation.hpp"
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

// Two classes, 120 validation items.
class ChoiceTest : public testing::Test {
  protected:
    ChoiceTest() : study_(directory_ / "ledger", 2, 80) {}
    // Each validation item is correct with this probability, drawn per candidate, seed and item.
    void add_run(const std::string& candidate, std::int64_t seed, double probability, double seconds,
                 std::uint64_t draw = 0) {
        study_.add_run(
            {.candidate = candidate,
             .seed = seed,
             .seconds = seconds,
             .predicted = study_.correct_with(probability, draw + static_cast<std::uint64_t>(seed))});
    }
    Choice choice(const ChoiceSettings& settings = {}) {
        return choose(study_.ledger(), study_.study(), settings);
    }

    TemporaryDirectory directory_;
    test::MadeUpStudy study_;
};

TEST_F(ChoiceTest, OfThoseThatCostTheSameTheBestIsChosen) {
    // Nobody could distinguish them; a tenth of a second decides nothing.
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("quick", seed, 0.80, 2.0, 100);
        add_run("better", seed, 0.84, 2.1, 200);
        add_run("dear", seed, 0.85, 9.0, 300);
    }
    const Choice c = choice();
    ASSERT_FALSE(c.clear);
    const auto place = [&](const std::string& name) {
        return std::find_if(c.ranking.begin(), c.ranking.end(),
                            [&](const RankedCandidate& r) { return r.candidate == name; });
    };
    EXPECT_EQ(c.chosen, place("quick") < place("better") ? "quick" : "better");
    EXPECT_NE(c.chosen, "dear");
}

TEST_F(ChoiceTest, AClearWinnerIsCalledClear) {
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("good", seed, 0.95, 9.0, 100);
        add_run("poor", seed, 0.6, 1.0, 200);
    }
    const Choice c = choice();
    EXPECT_TRUE(c.clear);
    EXPECT_EQ(c.chosen, "good");
    EXPECT_EQ(c.ranking[0].candidate, "good");
    EXPECT_NEAR(c.ranking[0].mean, 0.95, 0.03);
    EXPECT_LT(c.ranking[0].interval->low, c.ranking[0].mean);
    EXPECT_GT(c.ranking[1].behind->interval.low, 0.2);
    EXPECT_THAT(c.reasons[0], HasSubstr("Use 'good'"));
}

TEST_F(ChoiceTest, WhenTheEvidenceDoesNotSeparateTheCheapestIsChosen) {
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("dear", seed, 0.8, 50.0, 100);
        add_run("cheap", seed, 0.8, 2.0, 200);
        add_run("poor", seed, 0.5, 1.0, 300);
    }
    const Choice c = choice();
    EXPECT_FALSE(c.clear);
    EXPECT_EQ(c.chosen, "cheap");
    EXPECT_EQ(c.ranking.back().candidate, "poor");
    EXPECT_THAT(c.reasons[0], HasSubstr("does not separate it from 1 other candidate"));
}

TEST_F(ChoiceTest, OneSeedNeverMakesAClearWinner) {
    add_run("good", 1, 0.99, 1.0, 100);
    add_run("poor", 1, 0.4, 0.1, 200);
    const Choice c = choice();
    EXPECT_FALSE(c.clear);
    EXPECT_EQ(c.chosen, "good");
    EXPECT_THAT(c.reasons[0], HasSubstr("train more seeds"));
    EXPECT_EQ(c.ranking[0].seeds, 1);
    EXPECT_THAT(c.reasons[1], HasSubstr("with one seed the variance between seeds is unknown"));
}

TEST_F(ChoiceTest, UnfinishedRunsAreNamedAndDoNotCount) {
    add_run("a", 1, 0.9, 1.0);
    add_run("a", 2, 0.9, 1.0);
    study_.add_run({.candidate = "a", .seed = 3, .finished = false});
    const Choice c = choice();
    EXPECT_EQ(c.ranking[0].runs, 2);
    EXPECT_THAT(c.reasons.back(), HasSubstr("1 run is not finished and is ignored: a/3 (training)"));
    EXPECT_THAT(c.reasons[0], HasSubstr("nothing to compare"));
}

TEST_F(ChoiceTest, SeedsNeedNotBeTheSameAsLongAsItemsAre) {
    for (std::int64_t seed : {1, 2, 3}) add_run("a", seed, 0.95, 1.0, 100);
    for (std::int64_t seed : {4, 5, 6, 7}) add_run("b", seed, 0.5, 1.0, 200);
    const Choice c = choice();
    ASSERT_TRUE(c.ranking[1].behind.has_value());
    EXPECT_EQ(c.ranking[1].behind->rule, LeadRule::crossed);
    EXPECT_EQ(c.ranking[1].behind->seeds, 3);
    EXPECT_EQ(c.ranking[1].behind->items, 120);
    EXPECT_TRUE(c.clear);
}

TEST_F(ChoiceTest, ACandidateWithOneSeedIsNotToldFromOthersWithMore) {
    for (std::int64_t seed : {1, 2, 3, 4, 5}) add_run("many", seed, 0.95, 1.0, 100);
    add_run("one", 1, 0.6, 1.0, 200);
    const Choice c = choice();
    EXPECT_EQ(c.ranking[1].candidate, "one");
    EXPECT_EQ(c.ranking[1].behind->rule, LeadRule::one_seed);
    EXPECT_FALSE(c.ranking[1].separated);
    EXPECT_FALSE(c.clear);
    EXPECT_EQ(c.chosen, "many");
}

TEST_F(ChoiceTest, TheCheapestDependsOnWhatCosts) {
    for (std::int64_t seed : {1, 2, 3}) {
        const auto draw = static_cast<std::uint64_t>(seed);
        study_.add_run({.candidate = "small to train",
                        .seed = seed,
                        .seconds = 90,
                        .trainable_parameters = 10,
                        .multiplications = 9000,
                        .predicted = study_.correct_with(0.8, 100 + draw)});
        study_.add_run({.candidate = "quick to use",
                        .seed = seed,
                        .seconds = 50,
                        .trainable_parameters = 900,
                        .multiplications = 10,
                        .predicted = study_.correct_with(0.8, 200 + draw)});
    }
    EXPECT_EQ(choice({.cost = Cost::trained_parameters}).chosen, "small to train");
    EXPECT_EQ(choice({.cost = Cost::operations}).chosen, "quick to use");
    EXPECT_EQ(choice({.cost = Cost::training_seconds}).chosen, "quick to use");
    EXPECT_THAT(choice({.cost = Cost::operations}).summary, HasSubstr("10 multiplications per prediction"));
    EXPECT_EQ(value_named<Cost>("file"), Cost::file_size);
    EXPECT_THAT(message_of<InputError>([] { value_named<Cost>("trainde"); }),
                HasSubstr("did you mean 'trained'"));
}

TEST_F(ChoiceTest, WhatIsDearerByMoreThanAQuarterAndASecondIsNotTaken) {
    // Wrong on 20 items against 22: nobody can distinguish them, and the better one costs more.
    for (const double seconds : {3.4, 3.6}) {
        for (std::int64_t seed : {1, 2, 3})
            for (const std::size_t wrong : {20U, 22U})
                study_.add_run({.candidate = wrong == 20U ? "better" : "cheaper",
                                .seed = seed,
                                .seconds = wrong == 20U ? seconds : 2.0,
                                .settings = fmt::format("{{\"seconds\": {}}}", seconds),
                                .predicted = [=](std::size_t label, std::size_t place) {
                                    return place < wrong ? 1 - label : label;
                                }});
        const Choice c = choice();
        EXPECT_EQ(c.ranking[0].candidate, "better");
        EXPECT_EQ(c.chosen, seconds < 3.5 ? "better" : "cheaper");
    }
}

TEST_F(ChoiceTest, TheFrontHoldsWhatNothingBeatsInScoreAndCost) {
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("best", seed, 0.95, 100.0, 100);
        add_run("cheap", seed, 0.7, 1.0, 200);
        add_run("neither", seed, 0.6, 50.0, 300);
        add_run("as good as the cheap one", seed, 0.7, 50.0, 200);
        // Seconds are noisy.
        add_run("hardly cheaper than the best", seed, 0.9, 99.0, 400);
    }
    for (const RankedCandidate& c : choice().ranking)
        EXPECT_EQ(c.pareto_optimal, c.candidate == "best" || c.candidate == "cheap") << c.candidate;
}

TEST_F(ChoiceTest, ComparisonsAreCorrectedForTheirNumber) {
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("best", seed, 0.95, 1.0, 100);
        for (std::uint64_t k = 0; k < 6; ++k)
            add_run(fmt::format("other {}", k), seed, 0.9, 1.0, 1000 + 100 * k);
    }
    const Choice c = choice();
    for (std::size_t k = 1; k < c.ranking.size(); ++k) {
        EXPECT_GE(c.ranking[k].behind->adjusted_p, c.ranking[k].behind->p_value);
        EXPECT_LE(c.ranking[k].behind->adjusted_p, 1.0);
    }
    const auto pairs =
        compare_pairs(study_.ledger(), study_.study(), gather_evidence(study_.ledger(), study_.study()));
    EXPECT_EQ(pairs.size(), 21U);
    for (const CandidatePair& pair : pairs) EXPECT_GE(pair.lead->mean, -1e-9);
}

TEST_F(ChoiceTest, SaysWhatItWouldTakeToSeparateTheFirstTwo) {
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("a", seed, 0.85, 1.0, 100);
        add_run("b", seed, 0.8, 1.0, 200);
    }
    const Choice c = choice();
    ASSERT_FALSE(c.clear);
    ASSERT_TRUE(c.needed.items.has_value());
    EXPECT_GT(*c.needed.items, 120);
    EXPECT_THAT(c.summary,
                testing::AllOf(HasSubstr("validation images instead of 120"), HasSubstr("80 % power")));
    ASSERT_TRUE(c.optimism.has_value());
    EXPECT_GE(*c.optimism, 0.0);
    EXPECT_LT(*c.optimism, 0.05);
}

// Of 40 equal candidates the best is flattered, of one nothing is.
TEST_F(ChoiceTest, ToBeTheBestOfManyFlatters) {
    for (std::uint64_t k = 0; k < 40; ++k) add_run(fmt::format("c{}", k), 1, 0.7, 1.0, 1000 + 10 * k);
    const double of_many = *choice().optimism;
    EXPECT_GT(of_many, 0.03);
    EXPECT_GT(of_many, choice().ranking.front().mean - 0.7 - 0.06);
}

TEST_F(ChoiceTest, RunsOnAnotherImageSetAreSetApart) {
    for (std::int64_t seed : {1, 2, 3}) add_run("old", seed, 0.99, 1.0, 100);
    ImageSet other = study_.set();
    other.fingerprint = "another";
    other.items.pop_back();
    Parts parts = study_.parts();
    parts.validation.pop_back();
    const StudyId study = study_.writer().put_study("made up", Metric::accuracy, other, parts);
    const RunId run = study_.writer().put_run(
        study,
        {.candidate = "new", .regime = Regime::scratch, .seed = 1, .settings = "{}", .planned_epochs = 1});
    ConfusionMatrix matrix(2);
    std::vector<PredictionRecord> predictions;
    for (const std::size_t item : parts.validation) {
        const Item& own = other.items[item];
        matrix.add(own.label, own.label);
        predictions.push_back({own.id, own.label, own.label, {0.5F, 0.5F}});
    }
    study_.writer().record_epoch(run, {{.epoch = 1}, matrix}, true);
    study_.writer().finish_run(run, predictions);
    const Choice c = choice();
    ASSERT_EQ(c.ranking.size(), 1U);
    EXPECT_EQ(c.chosen, "new");
    EXPECT_THAT(c.reasons.back(),
                HasSubstr("3 runs used another version of the image set and are not compared"));
}

TEST_F(ChoiceTest, AFewItemsTellNothingApart) {
    // Right everywhere against wrong on five items: 2 * 0.5^5 = 0.0625.
    for (const std::size_t wrong : {5U, 6U}) {
        for (std::int64_t seed : {1, 2, 3}) {
            study_.add_run({.candidate = "correct", .seed = seed, .settings = fmt::format("\"{}\"", wrong)});
            study_.add_run({.candidate = "nearly",
                            .seed = seed,
                            .settings = fmt::format("\"{}\"", wrong),
                            .predicted = [wrong](std::size_t label, std::size_t place) {
                                return place < wrong ? 1 - label : label;
                            }});
        }
        const Choice c = choice();
        EXPECT_EQ(c.ranking[1].behind->first_only, static_cast<std::int64_t>(wrong));
        EXPECT_EQ(c.clear, wrong == 6U);
    }
}

TEST(Leads, OfFoldsAreTheCorrectedResampledTest) {
    // Differences 0.1, 0.2 and 0.3 on three folds of 10 items, 20 learned from: mean 0.2, variance 0.01,
    // (1/3 + 1/2) * 0.01, t of 2 degrees 4.3027.
    CandidateOutcomes first;
    CandidateOutcomes second;
    for (std::int64_t fold = 1; fold <= 3; ++fold) {
        RunOutcomes run{.seed = 1, .fold = fold, .items = 10, .training_items = 20};
        for (std::int64_t item = 0; item < 10; ++item) {
            run.units.push_back(10 * fold + item);
            run.influences.push_back(1.0);
            run.correct.push_back(1.0);
        }
        run.score = 0.9;
        first.push_back(run);
        run.score = 0.9 - 0.1 * static_cast<double>(fold);
        second.push_back(run);
    }
    const auto lead = lead_of(first, second);
    ASSERT_TRUE(lead.has_value());
    EXPECT_EQ(lead->rule, LeadRule::resampled);
    EXPECT_EQ(lead->seeds, 3);
    EXPECT_EQ(lead->items, 30);
    EXPECT_NEAR(lead->mean, 0.2, 1e-12);
    EXPECT_NEAR(lead->interval.high - lead->mean, 4.302653 * std::sqrt(0.01 * (1.0 / 3 + 0.5)), 1e-5);
    // Without a fold in common there is nothing to compare.
    for (RunOutcomes& run : second) run.fold += 10;
    EXPECT_FALSE(lead_of(first, second).has_value());
}

// The short form of the simulation whose long form is a benchmark (docs/choice.md).
TEST(ChoiceSimulation, IsAboutAsOftenRightAsItSays) {
    constexpr std::int64_t studies = 400;
    const bench::SimulatedStudy equal{.candidates = 2, .seeds = 5, .items = 100, .classes = 4};
    const bench::SimulationResult none = bench::simulate(equal, studies);
    EXPECT_LE(none.clear_winner, 0.08);
    EXPECT_GE(none.covered, 0.925);
    EXPECT_LE(none.covered, 0.985);
    // Five equal candidates seldom have a clear best.
    bench::SimulatedStudy five = equal;
    five.candidates = 5;
    EXPECT_LE(bench::simulate(five, studies).clear_winner, 0.02);
    // A lead is found, the more often the larger it is.
    bench::SimulatedStudy ahead = equal;
    ahead.lead = 0.3;
    const bench::SimulationResult some = bench::simulate(ahead, studies);
    ahead.lead = 0.8;
    const bench::SimulationResult much = bench::simulate(ahead, studies);
    EXPECT_GT(some.found, 2 * none.found);
    EXPECT_GT(much.found, 0.8);
    EXPECT_GE(some.covered, 0.925);
    // Two seeds distinguish nothing.
    ahead.seeds = 2;
    EXPECT_EQ(bench::simulate(ahead, 50).found, 0.0);
}

TEST(ChoiceSimulation, ImagesOfOneObjectAreOnePieceOfEvidence) {
    constexpr std::int64_t studies = 400;
    for (const std::int64_t seeds : {3, 10}) {
        const bench::SimulationResult grouped = bench::simulate(
            {.seeds = seeds, .items = 200, .classes = 4, .group = 10, .group_effect = 1.0}, studies);
        EXPECT_LE(grouped.clear_winner, 0.09) << seeds;
        EXPECT_GE(grouped.covered, 0.915) << seeds;
    }
    // Groups without an effect of their own cost little power.
    const bench::SimulatedStudy pairs{.lead = 0.8, .seeds = 5, .items = 100, .classes = 4, .group = 2};
    EXPECT_GT(bench::simulate(pairs, studies).found, 0.75);
}

TEST(ChoiceSimulation, FindsNoLessThanThePairedTestOverSeeds) {
    constexpr std::int64_t studies = 400;
    const bench::SimulatedStudy study{.lead = 0.4, .seeds = 3, .items = 150, .classes = 4, .seed_noise = 0.1};
    const auto outcomes = bench::judge_studies(study, studies);
    const double ours = bench::share_of(outcomes, [](const bench::StudyOutcome& o) { return o.found; });
    const double theirs = bench::share_of(
        outcomes, [](const bench::StudyOutcome& o) { return o.signed_p > 0.0 && o.signed_p < 0.05; });
    EXPECT_GT(ours, theirs + 0.05);
}

TEST(ChoiceSimulation, IntervalsHoldWhenSeedsMatterMuchOrAlikeForAll) {
    constexpr std::int64_t studies = 400;
    for (const bench::SimulatedStudy& study :
         {bench::SimulatedStudy{.seeds = 3, .seed_noise = 0.4},
          bench::SimulatedStudy{.seeds = 3, .seed_noise = 0.1, .common_noise = 0.2},
          bench::SimulatedStudy{.seeds = 4, .seed_noise = 0.15, .noise_ratio = 3.0}})
        EXPECT_GE(bench::simulate(study, studies).covered, 0.915);
}

TEST_F(ChoiceTest, NothingFinishedIsAnError) {
    EXPECT_THAT(message_of<InputError>([&] { choice(); }), HasSubstr("no finished run"));
}

}  // namespace
}  // namespace jevrin
