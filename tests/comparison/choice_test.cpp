#include "jevrin/comparison/choice.hpp"

#include "benchmarks/choice_simulation.hpp"
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/comparison/selection.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;
using testing::Not;

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

// Many items, so that candidates which are right and wrong on the same ones are soon shown to be as good.
TEST(ChoiceByMargin, ACheaperOneIsTakenWhenItIsShownToBeAsGood) {
    const TemporaryDirectory directory;
    test::MadeUpStudy study(directory / "ledger", 2, 1000);
    for (std::int64_t seed : {1, 2, 3})
        for (const char* name : {"dear", "cheap", "poor"})
            study.add_run({.candidate = name,
                           .seed = seed,
                           .seconds = *name == 'd'   ? 50.0
                                      : *name == 'c' ? 2.0
                                                     : 1.0,
                           .predicted = [name](std::size_t label, std::size_t place) {
                               // Of 1,500 items the dear one misses 150, the cheap one three more.
                               const std::size_t wrong = *name == 'd' ? 150 : *name == 'c' ? 153 : 600;
                               return place < wrong ? 1 - label : label;
                           }});
    const Choice choice = choose(study.ledger(), study.study());
    EXPECT_EQ(choice.ranking[0].candidate, "dear");
    EXPECT_EQ(choice.chosen, "cheap");
    EXPECT_FALSE(choice.clear);
    EXPECT_EQ(choice.ranking[1].verdict, Verdict::equivalent);
    EXPECT_EQ(choice.ranking[2].verdict, Verdict::better);
    EXPECT_THAT(
        choice.summary,
        HasSubstr("Use 'cheap': it is cheaper (2.0 s of training per run), and not worse than the best "
                  "by the margin of 0.010 (95 % confidence)"));
    // What is shown to be equivalent is not called unknown.
    EXPECT_THAT(choose(study.ledger(), study.study(), {.rule = ChoiceRule::best}).summary,
                HasSubstr("Use 'dear': it ranks first; 'cheap' is equivalent within the margin of 0.010."));
    // A smaller difference matters: then it is not shown.
    EXPECT_EQ(choose(study.ledger(), study.study(), {.margin = 0.001}).chosen, "dear");
    EXPECT_EQ(choose(study.ledger(), study.study(), {.rule = ChoiceRule::best}).chosen, "dear");
    // One standard error of the dear one's score is about 0.008.
    const Choice published = choose(study.ledger(), study.study(), {.rule = ChoiceRule::one_standard_error});
    EXPECT_EQ(published.chosen, "cheap");
    EXPECT_THAT(published.summary, HasSubstr("by the rule of one standard error"));
}

TEST_F(ChoiceTest, NotSeparatedIsNotAsGood) {
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("dear", seed, 0.84, 50.0, 100);
        add_run("cheap", seed, 0.8, 2.0, 200);
        add_run("poor", seed, 0.5, 1.0, 300);
    }
    const Choice c = choice();
    EXPECT_FALSE(c.clear);
    EXPECT_EQ(c.chosen, c.ranking.front().candidate);
    EXPECT_EQ(c.ranking[1].verdict, Verdict::unknown);
    EXPECT_TRUE(c.ranking[1].may_be_best);
    EXPECT_EQ(c.ranking.back().candidate, "poor");
    EXPECT_FALSE(c.ranking.back().may_be_best);
    EXPECT_EQ(c.ranking.back().verdict, Verdict::better);
    double sum = 0.0;
    for (const RankedCandidate& one : c.ranking) sum += one.odds.probability_best;
    EXPECT_NEAR(sum, 1.0, 1e-9);
    EXPECT_LT(c.ranking[0].odds.expected_loss, c.ranking[1].odds.expected_loss);
    EXPECT_LT(c.ranking[1].odds.expected_loss, c.ranking[2].odds.expected_loss);
    EXPECT_EQ(c.ranking[2].odds.probability_best, 0.0);
}

TEST_F(ChoiceTest, OneSeedNeverMakesAClearWinner) {
    add_run("good", 1, 0.99, 1.0, 100);
    add_run("poor", 1, 0.4, 0.1, 200);
    const Choice c = choice();
    EXPECT_FALSE(c.clear);
    EXPECT_EQ(c.chosen, "good");
    EXPECT_THAT(c.reasons[0], HasSubstr("train more seeds"));
    EXPECT_EQ(c.ranking[0].seeds, 1);
    EXPECT_THAT(c.reasons[1], HasSubstr("unknown, since with one seed the variance between seeds is"));
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

TEST_F(ChoiceTest, CandidatesThatWereComputedInOtherWaysAreNamed) {
    const auto add = [&](const std::string& candidate, std::int64_t seed, const std::string& environment) {
        study_.add_run({.candidate = candidate, .seed = seed, .environment = environment});
    };
    add("a", 1, R"({"cores": 2})");  // of a version that did not say
    add("b", 1, R"({"arithmetic": 2})");
    add("b", 2, R"({"arithmetic": 2})");
    EXPECT_THAT(choice().reasons.back(), HasSubstr("rounding: 'a' by version 1; 'b' by version 2."));
    add("a", 2, R"({"arithmetic": 2})");
    EXPECT_THAT(choice().reasons.back(), HasSubstr("'a' by version 1; 'a', 'b' by version 2."));
}

TEST_F(ChoiceTest, CandidatesThatWereComputedAlikeAreNot) {
    for (const char* candidate : {"a", "b"})
        study_.add_run({.candidate = candidate, .seed = 1, .environment = R"({"arithmetic": 2})"});
    for (const std::string& reason : choice().reasons) EXPECT_THAT(reason, Not(HasSubstr("arithmetic")));
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
    EXPECT_EQ(c.ranking[1].verdict, Verdict::unknown);
    EXPECT_FALSE(c.clear);
    EXPECT_EQ(c.chosen, "many");
}

TEST_F(ChoiceTest, TheCheapestDependsOnWhatCosts) {
    // The same predictions by both, but for one item.
    for (std::int64_t seed : {1, 2, 3}) {
        study_.add_run({.candidate = "small to train",
                        .seed = seed,
                        .seconds = 90,
                        .trainable_parameters = 10,
                        .multiplications = 9000});
        study_.add_run({.candidate = "quick to use",
                        .seed = seed,
                        .seconds = 50,
                        .trainable_parameters = 900,
                        .multiplications = 10});
    }
    const auto by = [&](Cost cost) { return choice({.cost = cost, .margin = 0.05}); };
    EXPECT_EQ(by(Cost::trained_parameters).chosen, "small to train");
    EXPECT_EQ(by(Cost::operations).chosen, "quick to use");
    EXPECT_EQ(by(Cost::training_seconds).chosen, "quick to use");
    EXPECT_THAT(by(Cost::operations).summary, HasSubstr("10 multiplications per prediction"));
    EXPECT_EQ(value_named<Cost>("file"), Cost::file_size);
    EXPECT_THAT(message_of<InputError>([] { value_named<Cost>("trainde"); }),
                HasSubstr("did you mean 'trained'"));
}

TEST_F(ChoiceTest, WhatIsDearerByMoreThanAQuarterAndASecondIsNotTaken) {
    // Wrong on 20 items against 21: as good within 0.1, and the better one costs more.
    for (const double seconds : {3.4, 3.6}) {
        for (std::int64_t seed : {1, 2, 3})
            for (const std::size_t wrong : {20U, 21U})
                study_.add_run({.candidate = wrong == 20U ? "better" : "cheaper",
                                .seed = seed,
                                .seconds = wrong == 20U ? seconds : 2.0,
                                .settings = fmt::format("{{\"seconds\": {}}}", seconds),
                                .predicted = [=](std::size_t label, std::size_t place) {
                                    return place < wrong ? 1 - label : label;
                                }});
        const Choice c = choice({.margin = 0.1});
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
    EXPECT_EQ(c.pairs.size(), 21U);
    for (const PairVerdict& pair : c.pairs) EXPECT_GE(pair.lead->mean, -1e-9);
}

TEST_F(ChoiceTest, SaysWhatItWouldTakeToSeparateTheFirstTwo) {
    for (std::int64_t seed : {1, 2, 3}) {
        add_run("a", seed, 0.85, 1.0, 100);
        add_run("b", seed, 0.8, 1.0, 200);
    }
    const Choice c = choice();
    ASSERT_FALSE(c.clear);
    ASSERT_TRUE(c.needed.items.expected.has_value());
    EXPECT_GT(*c.needed.items.expected, 120);
    EXPECT_LT(*c.needed.items.least, *c.needed.items.expected);
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

TEST_F(ChoiceTest, FewSeedsOfManyCandidatesCanHardlyShowAnything) {
    for (std::uint64_t k = 0; k < 13; ++k)
        for (std::int64_t seed : {1, 2, 3}) add_run(fmt::format("c{}", k), seed, 0.8, 1.0, 1000 + 100 * k);
    EXPECT_THAT(choice().reasons,
                testing::Contains(HasSubstr("With 3 seeds and 13 candidates this study can hardly find "
                                            "differences: corrected for 78 pairs")));
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

// Rows of seeds over three folds of ten items; correct(seed, fold, item).
CandidateOutcomes in_folds(std::int64_t seeds,
                           const std::function<double(std::int64_t, std::int64_t, std::int64_t)>& correct) {
    std::vector<SeedOutcomes> rows;
    for (std::int64_t seed = 1; seed <= seeds; ++seed) {
        SeedOutcomes row{.seed = seed, .items = 30, .training_items = 20};
        for (std::int64_t item = 0; item < 30; ++item) {
            row.units.push_back(item);
            row.folds.push_back(1 + item / 10);
            row.correct.push_back(correct(seed, 1 + item / 10, item % 10));
            row.influences.push_back(row.correct.back());
            row.score += row.correct.back() / 30;
        }
        rows.push_back(std::move(row));
    }
    return CandidateOutcomes(std::move(rows));
}

TEST(Leads, OfFoldsHoldWhatFoldsDifferByBeyondSeedsAndItems) {
    // The first is always correct; the second misses 1, 2 and 3 of ten items, the same for both seeds. Folds
    // differ by 0.1, 0.2, 0.3: the variance of their mean is 0.01 / 3. Items: 6 of 30 differ, squares 4.8
    // over 29 * 30. What folds have beyond that counts 1 + 3 * 10 / 20 = 2.5 times.
    const CandidateOutcomes first = in_folds(2, [](auto, auto, auto) { return 1.0; });
    const CandidateOutcomes second =
        in_folds(2, [](auto, std::int64_t fold, std::int64_t item) { return item < fold ? 0.0 : 1.0; });
    const auto lead = lead_of(first, second);
    ASSERT_TRUE(lead.has_value());
    EXPECT_EQ(lead->rule, LeadRule::folds);
    EXPECT_EQ(lead->seeds, 6);  // runs of each
    EXPECT_EQ(lead->items, 30);
    EXPECT_NEAR(lead->mean, 0.2, 1e-12);
    const double items = 4.8 / 29 / 30;
    const double folds = 0.01 / 3;
    EXPECT_LT(folds, items);  // no more than items explain: then the folds add nothing
    EXPECT_NEAR(lead->standard_error, std::sqrt(items), 1e-9);
    // Folds that differ by 0, 0.1 and 0.9: variance 0.2433, and squares of the items 6.6667 (10 of 30
    // differ).
    const CandidateOutcomes uneven = in_folds(2, [](auto, std::int64_t fold, std::int64_t item) {
        return item < (fold == 1 ? 0 : fold == 2 ? 1 : 9) ? 0.0 : 1.0;
    });
    const auto wide = lead_of(first, uneven);
    const double between = (0.1111111 + 0.0544444 + 0.3211111) / 2 / 3;
    const double within = 6.6666667 / 29 / 30;
    EXPECT_NEAR(wide->standard_error, std::sqrt(within + 2.5 * (between - within)), 1e-5);
    EXPECT_LT(wide->degrees_of_freedom, 3.0);
    // Draws know what folds add: as often as a normal lead of this error is above 0 the first is the best.
    const std::vector<const CandidateOutcomes*> both = {&first, &uneven};
    const auto odds = selection_odds(both, judge(both), [](std::size_t, std::size_t) { return false; });
    const double above = 0.5 * std::erfc(-wide->mean / wide->standard_error / std::sqrt(2.0));
    EXPECT_NEAR(above, 0.78, 0.01);
    EXPECT_NEAR(odds[0].probability_best, above, 0.04);
    // Other folds of the same items are not compared.
    std::vector<SeedOutcomes> others = second.seeds();
    for (SeedOutcomes& row : others)
        for (std::int64_t& unit : row.units) unit += 100;
    EXPECT_FALSE(lead_of(first, CandidateOutcomes(others)).has_value());
}

// The short form of the simulation whose long form is a benchmark (docs/choice.md).
constexpr std::int64_t simulated_studies = 400;

using bench::judge_studies;
using bench::share_of;
using bench::SimulatedStudy;
using bench::StudyOutcome;

TEST(ChoiceSimulation, IsAboutAsOftenRightAsItSays) {
    const SimulatedStudy equal{.candidates = 2, .seeds = 5, .items = 100, .classes = 4};
    const auto none = judge_studies(equal, simulated_studies);
    EXPECT_LE(share_of(none, &StudyOutcome::clear_winner), 0.08);
    EXPECT_GE(share_of(none, &StudyOutcome::lead_covered), 0.925);
    EXPECT_LE(share_of(none, &StudyOutcome::lead_covered), 0.99);
    EXPECT_GE(share_of(none, &StudyOutcome::own_covered), 0.925);
    // A lead is found, the more often the larger it is.
    SimulatedStudy ahead = equal;
    ahead.lead = 0.3;
    const auto some = judge_studies(ahead, simulated_studies);
    ahead.lead = 0.8;
    EXPECT_GT(share_of(some, &StudyOutcome::found), 2 * share_of(none, &StudyOutcome::found));
    EXPECT_GT(share_of(judge_studies(ahead, simulated_studies), &StudyOutcome::found), 0.8);
    EXPECT_GE(share_of(some, &StudyOutcome::lead_covered), 0.925);
    // Two seeds distinguish nothing.
    ahead.seeds = 2;
    EXPECT_EQ(share_of(judge_studies(ahead, 50), &StudyOutcome::any_better), 0.0);
}

TEST(ChoiceSimulation, OfTwentyEqualCandidatesNoneIsBetterAndTheWinnerIsCorrected) {
    for (const std::int64_t seeds : {3, 5}) {
        const auto outcomes =
            judge_studies({.candidates = 20, .seeds = seeds, .items = 150, .classes = 4}, 150);
        EXPECT_LE(share_of(outcomes, &StudyOutcome::any_better), 0.08) << seeds;
        EXPECT_EQ(share_of(outcomes, &StudyOutcome::clear_winner), 0.0) << seeds;
        EXPECT_GE(share_of(outcomes, &StudyOutcome::winner_covered), 0.91) << seeds;
        EXPECT_LE(share_of(outcomes, &StudyOutcome::winner_raw), 0.9) << seeds;
        EXPECT_GE(share_of(outcomes, &StudyOutcome::best_in_set), 0.95) << seeds;
    }
}

TEST(ChoiceSimulation, NothingIsCalledAsGoodThatIsNot) {
    // The first is better than the others by just more than the margin.
    SimulatedStudy study{
        .candidates = 3, .seeds = 5, .items = 600, .classes = 4, .seed_noise = 0.1, .margin = 0.03};
    study.lead = bench::lead_for(study, 0.0301);
    const auto edge = judge_studies(study, simulated_studies);
    EXPECT_LE(share_of(edge, &StudyOutcome::equivalent), 0.08);
    EXPECT_LE(share_of(edge, &StudyOutcome::false_claim), 0.08);
    // Equal ones are called so where the margin can be seen.
    study.lead = 0.0;
    study.margin = 0.08;
    EXPECT_GE(share_of(judge_studies(study, simulated_studies), &StudyOutcome::equivalent), 0.5);
}

TEST(ChoiceSimulation, ImagesOfOneObjectAreOnePieceOfEvidence) {
    for (const std::int64_t seeds : {3, 10}) {
        const auto grouped =
            judge_studies({.seeds = seeds, .items = 200, .classes = 4, .group = 10, .group_effect = 1.0},
                          simulated_studies);
        EXPECT_LE(share_of(grouped, &StudyOutcome::clear_winner), 0.08) << seeds;
        EXPECT_GE(share_of(grouped, &StudyOutcome::lead_covered), 0.92) << seeds;
        EXPECT_GE(share_of(grouped, &StudyOutcome::own_covered), 0.92) << seeds;
    }
    // Groups without an effect of their own cost little power.
    const SimulatedStudy pairs{.lead = 0.8, .seeds = 5, .items = 100, .classes = 4, .group = 2};
    EXPECT_GT(share_of(judge_studies(pairs, simulated_studies), &StudyOutcome::found), 0.75);
}

TEST(ChoiceSimulation, RareClassesAndTheCeilingDecideNothingByThemselves) {
    for (const std::size_t rare : {8U, 2U, 1U}) {
        const auto outcomes =
            judge_studies({.seeds = 3, .items = 195 + rare, .classes = 2, .rare = rare}, simulated_studies);
        EXPECT_LE(share_of(outcomes, &StudyOutcome::clear_winner), 0.07) << rare;
        EXPECT_GE(share_of(outcomes, &StudyOutcome::lead_covered), 0.93) << rare;
        EXPECT_GE(share_of(outcomes, &StudyOutcome::own_covered), 0.93) << rare;
    }
    for (const double score : {0.97, 0.99, 0.995}) {
        SimulatedStudy study{.seeds = 3, .items = 60, .classes = 4};
        study.level = bench::level_of(score, study);
        const auto outcomes = judge_studies(study, simulated_studies);
        EXPECT_LE(share_of(outcomes, &StudyOutcome::clear_winner), 0.07) << score;
        EXPECT_GE(share_of(outcomes, &StudyOutcome::own_covered), 0.93) << score;
        for (const StudyOutcome& outcome : outcomes) ASSERT_GT(outcome.width, 0.01) << score;
    }
}

TEST(ChoiceSimulation, SeedsOfEveryFoldAddPowerAndFoldEffectsAreCovered) {
    SimulatedStudy study{.lead = 0.4, .items = 300, .classes = 4, .folds = 5};
    study.seeds = 1;
    const double one = share_of(judge_studies(study, simulated_studies), &StudyOutcome::found);
    study.seeds = 5;
    const double five = share_of(judge_studies(study, simulated_studies), &StudyOutcome::found);
    EXPECT_GT(five, one + 0.2);
    study.lead = 0.0;
    study.fold_effect = 0.3;
    const auto affected = judge_studies(study, simulated_studies);
    EXPECT_GE(share_of(affected, &StudyOutcome::lead_covered), 0.92);
    EXPECT_LE(share_of(affected, &StudyOutcome::clear_winner), 0.08);
}

TEST(ChoiceSimulation, AddingSeedsUntilItIsClearKeepsTheLevel) {
    const SimulatedStudy study{.items = 100, .classes = 4};
    EXPECT_LE(bench::share_ever_better(study, simulated_studies, {3, 5, 10}, std::nullopt), 0.09);
    EXPECT_LE(bench::share_ever_better(study, simulated_studies, {3, 5, 10}, 10), 0.08);
}

TEST(ChoiceSimulation, FindsNoLessThanThePairedTestOverSeeds) {
    const SimulatedStudy study{.lead = 0.4, .seeds = 3, .items = 150, .classes = 4, .seed_noise = 0.1};
    const auto leads = bench::judge_leads(study, simulated_studies);
    EXPECT_GT(bench::share_of_leads(leads, [](const auto& lead) { return lead.found; }),
              bench::share_of_paired_t(leads, 0.05) + 0.05);
}

TEST(ChoiceSimulation, IntervalsHoldWhenSeedsMatterMuchOrAlikeForAllOrFail) {
    for (const SimulatedStudy& study : {SimulatedStudy{.seeds = 3, .seed_noise = 0.4},
                                        SimulatedStudy{.seeds = 3, .seed_noise = 0.1, .common_noise = 0.2},
                                        SimulatedStudy{.seeds = 4, .seed_noise = 0.15, .noise_ratio = 3.0},
                                        SimulatedStudy{.seeds = 5, .failing = 0.1}})
        EXPECT_GE(share_of(judge_studies(study, simulated_studies), &StudyOutcome::lead_covered), 0.915);
}

TEST_F(ChoiceTest, NothingFinishedIsAnError) {
    EXPECT_THAT(message_of<InputError>([&] { choice(); }), HasSubstr("no finished run"));
}

}  // namespace
}  // namespace jevrin
