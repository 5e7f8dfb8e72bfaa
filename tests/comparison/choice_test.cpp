#include "jevrin/comparison/choice.hpp"

#include "benchmarks/choice_simulation.hpp"
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"

#include <algorithm>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

// A ledger with made-up runs: what each candidate gets right is decided here, nothing is trained.
class ChoiceTest : public testing::Test {
  protected:
    ChoiceTest() : ledger_(Ledger::open_or_create(directory_ / "ledger")) {
        test::write_small_set(directory_ / "images", {"a", "b"}, 100);
        set_ = read_image_set({.from = directory_ / "images"});
        parts_ = divide_into_parts(set_, {.training = 0.1, .validation = 0.8, .test = 0.1, .seed = 1});
        study_ = ledger_.put_study("s", Metric::accuracy, set_, parts_);
    }
    // Each validation item is right with this probability, drawn per candidate, seed and item.
    void add_run(const std::string& candidate, std::int64_t seed, double probability, double seconds,
                 std::uint64_t draw = 0) {
        const std::int64_t run = ledger_.put_run(study_, {.candidate = candidate,
                                                          .regime = "scratch",
                                                          .seed = seed,
                                                          .settings = "{}",
                                                          .planned_epochs = 1});
        RandomStream random({draw + static_cast<std::uint64_t>(seed), Purpose::sample, 0, 0});
        EpochRecord epoch{.epoch = 1, .seconds = seconds, .validation = ConfusionMatrix(2)};
        std::vector<PredictionRecord> predictions;
        for (const std::size_t item : parts_.validation) {
            const std::size_t label = set_.items[item].label;
            const std::size_t predicted = random.uniform() < probability ? label : 1 - label;
            epoch.validation.add(label, predicted);
            predictions.push_back({set_.items[item].id, label, predicted, {0.5F, 0.5F}});
        }
        ledger_.record_epoch(run, epoch, true);
        ledger_.finish_run(run, predictions);
    }
    Choice choice() const { return choose(ledger_, ledger_.study()); }

    TemporaryDirectory directory_;
    Ledger ledger_;
    ImageSet set_;
    Parts parts_;
    std::int64_t study_ = 0;
};

TEST_F(ChoiceTest, OfThoseThatCostTheSameTheBestIsChosen) {
    // Nobody could tell them apart; a tenth of a second decides nothing.
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
    EXPECT_FALSE(c.ranking[0].interval.has_value());
    EXPECT_THAT(c.reasons[1], HasSubstr("with one seed the noise of seeds is unknown"));
}

TEST_F(ChoiceTest, UnfinishedRunsAreNamedAndDoNotCount) {
    add_run("a", 1, 0.9, 1.0);
    add_run("a", 2, 0.9, 1.0);
    ledger_.put_run(
        study_, {.candidate = "a", .regime = "scratch", .seed = 3, .settings = "{}", .planned_epochs = 1});
    const Choice c = choice();
    EXPECT_EQ(c.ranking[0].runs, 2);
    EXPECT_THAT(c.reasons.back(), HasSubstr("1 run is not finished and does not count: a/3 (waiting)"));
    EXPECT_THAT(c.reasons[0], HasSubstr("nothing to compare"));
}

TEST_F(ChoiceTest, CandidatesWithoutACommonSeedAreNotPaired) {
    add_run("a", 1, 0.9, 1.0);
    add_run("b", 2, 0.5, 1.0);
    const Choice c = choice();
    EXPECT_FALSE(c.ranking[1].behind.has_value());
    EXPECT_THAT(c.reasons[1], HasSubstr("share no seed"));
    EXPECT_FALSE(c.clear);
}

TEST_F(ChoiceTest, EqualCandidatesSeldomLookDifferent) {
    // 60 studies of two equal candidates at 95 %: on average 3 false winners, more than 9 would be far out.
    int clear = 0;
    for (std::uint64_t round = 0; round < 60; ++round) {
        study_ = ledger_.put_study("round" + std::to_string(round), Metric::accuracy, set_, parts_);
        for (std::int64_t seed : {1, 2, 3}) {
            add_run("a", seed, 0.8, 1.0, 1000 + 20 * round);
            add_run("b", seed, 0.8, 1.0, 5000 + 20 * round);
        }
        clear += choice().clear;
    }
    EXPECT_LE(clear, 9);
}

// The short form of the simulation whose long form is a benchmark (docs/choice.md).
TEST(ChoiceSimulation, IsAboutAsOftenRightAsItSays) {
    constexpr std::int64_t studies = 400;
    const bench::SimulatedStudy equal{.candidates = 2, .seeds = 5, .items = 100, .classes = 4};
    const bench::SimulationResult none = bench::simulate(equal, studies);
    EXPECT_LE(none.clear_winner, 0.09);
    EXPECT_GE(none.covered, 0.92);
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
    EXPECT_GE(some.covered, 0.92);
    // Two seeds tell nothing apart.
    ahead.seeds = 2;
    EXPECT_EQ(bench::simulate(ahead, 50).found, 0.0);
}

TEST_F(ChoiceTest, NothingFinishedIsAnError) {
    EXPECT_THAT(message_of<InputError>([&] { choice(); }), HasSubstr("no finished run"));
}

}  // namespace
}  // namespace jevrin
