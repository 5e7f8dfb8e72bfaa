// What comparisons start from, what distinguishes candidates, and in which words.
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/comparison/choice_words.hpp"
#include "jevrin/comparison/verdicts.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/metrics/cross_fitting.hpp"
#include "jevrin/metrics/crossed.hpp"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <numeric>
#include <tuple>

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;

// A seed on so many items, of which the first `correct` are correct.
SeedOutcomes run_of(std::int64_t seed, std::int64_t items, std::int64_t correct) {
    SeedOutcomes run{
        .seed = seed, .score = static_cast<double>(correct) / static_cast<double>(items), .items = items};
    for (std::int64_t i = 0; i < items; ++i) {
        run.units.push_back(i);
        run.influences.push_back(i < correct ? 1.0 : 0.0);
        run.correct.push_back(i < correct ? 1.0 : 0.0);
    }
    return run;
}

TEST(Leads, CountItemsByTheSharesOfRunsThatAreRight) {
    // The first is correct on 80 or 90 of 100 items, the second on 60, with other numbers of seeds.
    const CandidateOutcomes first({run_of(1, 100, 80), run_of(2, 100, 90), run_of(3, 100, 90)});
    const CandidateOutcomes second(
        {run_of(7, 100, 60), run_of(8, 100, 60), run_of(9, 100, 60), run_of(10, 100, 60)});
    const auto lead = lead_of(first, second);
    ASSERT_TRUE(lead.has_value());
    EXPECT_NEAR(lead->mean, 260.0 / 300 - 0.6, 1e-12);
    EXPECT_EQ(lead->first_only, 30);
    EXPECT_EQ(lead->second_only, 0);
    EXPECT_NEAR(lead->exact_p, std::pow(2.0, -29), 1e-15);
    EXPECT_EQ(lead->seeds, 3);
    EXPECT_TRUE(is_ahead(lead));
    const auto reverse = lead_of(second, first);
    EXPECT_NEAR(reverse->mean, -lead->mean, 1e-12);
    EXPECT_NEAR(reverse->p_value, lead->p_value, 1e-12);
    EXPECT_EQ(reverse->second_only, 30);
    EXPECT_FALSE(is_ahead(reverse));
}

TEST(Leads, AreNoneWithoutRuns) {
    const CandidateOutcomes one({run_of(1, 10, 5)});
    EXPECT_FALSE(lead_of({}, one).has_value());
    EXPECT_FALSE(lead_of(one, {}).has_value());
    EXPECT_TRUE(leads_over(one, {}).empty());
}

TEST(Leads, OnPartsRedrawnForEachSeedArePairedBySeed) {
    std::vector<SeedOutcomes> ours;
    std::vector<SeedOutcomes> theirs;
    for (std::int64_t seed = 1; seed <= 4; ++seed) {
        ours.push_back(run_of(seed, 20, 12 + seed));
        theirs.push_back(run_of(seed, 20, 10 + seed));
        for (SeedOutcomes* run : {&ours.back(), &theirs.back()}) {
            for (std::int64_t& unit : run->units) unit += 100 * seed;
            run->training_items = 60;
        }
    }
    const auto lead = lead_of(CandidateOutcomes(ours), CandidateOutcomes(theirs));
    ASSERT_TRUE(lead.has_value());
    EXPECT_EQ(lead->rule, LeadRule::resampled);
    EXPECT_EQ(lead->seeds, 4);
    EXPECT_NEAR(lead->mean, 0.1, 1e-12);
    EXPECT_EQ(lead->items, 80);
    // All differences are equal. The interval is still that of one of the 80 items on which they differ: t of
    // 3 degrees of freedom is 3.1824.
    EXPECT_NEAR(lead->interval.high - lead->mean, 3.1824 / 80, 1e-5);
}

TEST(NeededEvidence, HasThePowerThatItSays) {
    const Lead lead{.rule = LeadRule::crossed,
                    .mean = 0.028,
                    .interval = {0.004, 0.052},
                    .seeds = 3,
                    .items = 200,
                    .units = 200,
                    .seed_component = 0.0006,
                    .unit_component = 0.01,
                    .rest_component = 0.06};
    // By the normal approximation (0.028 / 2.8)^2 = 1e-4 = (0.0006 + 0.0003) / S + 5e-5, S = 18; Student's
    // test needs a few more.
    const NeededEvidence needed = needed_evidence(lead);
    ASSERT_TRUE(needed.seeds.expected.has_value());
    EXPECT_GE(*needed.seeds.expected, 18);
    EXPECT_LE(*needed.seeds.expected, 21);
    // So many seeds detect just this lead, one less does not.
    EXPECT_LE(detectable_lead(lead, *needed.seeds.expected), 0.028);
    EXPECT_GT(detectable_lead(lead, *needed.seeds.expected - 1), 0.028);
    // A larger lead needs fewer, and one as small as the interval allows cannot be shown by seeds alone.
    EXPECT_LT(*needed.seeds.least, *needed.seeds.expected);
    EXPECT_FALSE(needed.seeds.most.has_value());
    // 1e-4 - 0.0006 / 3 is below 0: no number of items would do.
    EXPECT_FALSE(needed.items.expected.has_value());
    Lead steady = lead;
    steady.seed_component = 0.0;
    // 1e-4 = (0.01 + 0.06 / 3) / n is 300, and more, since few seeds know the rest badly.
    ASSERT_TRUE(needed_evidence(steady).items.expected.has_value());
    EXPECT_GE(*needed_evidence(steady).items.expected, 300);
    EXPECT_LE(*needed_evidence(steady).items.expected, 400);
    steady.rule = LeadRule::resampled;
    EXPECT_FALSE(needed_evidence(steady).items.expected.has_value());
    // No lead is not detected.
    steady.rule = LeadRule::crossed;
    steady.mean = 0.0;
    EXPECT_FALSE(needed_evidence(steady).seeds.expected.has_value());
}

TEST(LevelOfLook, SpendsTheLevelOverAllLooks) {
    EXPECT_DOUBLE_EQ(level_of_look({}, 3), 0.05);
    // Looked at with fewer seeds before: the level over the number of looks. The same seeds are the same
    // look.
    EXPECT_DOUBLE_EQ(level_of_look({.earlier = {3}}, 3), 0.05);
    EXPECT_DOUBLE_EQ(level_of_look({.earlier = {3}}, 5), 0.025);
    EXPECT_DOUBLE_EQ(level_of_look({.earlier = {3, 5}}, 10), 0.05 / 3);
    // With a most number the spending function allots: 0.05 ln(1 + 1.71828 t).
    EXPECT_NEAR(level_of_look({.earlier = {}, .most = 10}, 3), 0.05 * std::log(1 + 1.718281828 * 0.3), 1e-9);
    EXPECT_NEAR(level_of_look({.earlier = {3, 5}, .most = 10}, 10),
                0.05 * (1 - std::log(1 + 1.718281828 * 0.5)), 1e-9);
    EXPECT_NEAR(level_of_look({.earlier = {}, .most = 3}, 3), 0.05, 1e-9);
}

TEST(LevelWithControl, IsDunnetts) {
    // Dunnett 1964: one-sided 5 % points for many degrees of freedom: 1.64 for one comparison, 1.92 for two,
    // 2.06 for three, 2.16 for four, 2.42 for nine.
    const std::vector<std::pair<std::size_t, double>> published = {
        {1, 1.64}, {2, 1.92}, {3, 2.06}, {4, 2.16}, {9, 2.42}};
    for (const auto& [comparisons, quantile] : published)
        EXPECT_NEAR(level_with_control(0.05, comparisons), std::erfc(quantile / std::sqrt(2.0)) / 2, 0.0008)
            << comparisons;
}

TEST(Verdicts, AreThoseOfTheirTestsAtTheirLevels) {
    // Studies of so many candidates, some nearly as good as the first.
    constexpr VerdictSettings settings{.margin = 0.06, .level = 0.05};
    std::map<std::string, int> seen;
    for (std::uint64_t study = 0; study < 120; ++study) {
        RandomStream random({.seed = study, .purpose = Purpose::sample});
        const std::size_t count = 2 + study % 4;
        std::vector<CandidateOutcomes> candidates;
        for (std::size_t c = 0; c < count; ++c) {
            std::vector<SeedOutcomes> seeds;
            for (std::int64_t seed = 1; seed <= 4; ++seed) {
                SeedOutcomes run = run_of(seed, 150, 0);
                for (std::size_t i = 0; i < 150; ++i)
                    run.correct[i] = random.uniform() < 0.9 - 0.03 * static_cast<double>(c) ? 1.0 : 0.0;
                run.score = std::accumulate(run.correct.begin(), run.correct.end(), 0.0) / 150;
                for (std::size_t i = 0; i < 150; ++i) run.influences[i] = run.correct[i] - run.score;
                seeds.push_back(run);
            }
            candidates.emplace_back(std::move(seeds));
        }
        std::ranges::sort(candidates, std::greater(), &CandidateOutcomes::mean);
        std::vector<const CandidateOutcomes*> ranked;
        for (const CandidateOutcomes& candidate : candidates) ranked.push_back(&candidate);
        const StudyVerdicts verdicts = judge(ranked, settings);
        const double level = level_with_control(settings.level, count - 1);
        bool clear = true;
        for (std::size_t c = 0; c < count; ++c) {
            bool may_be_best = true;
            for (std::size_t better = 0; better < c; ++better) {
                const Lead& lead = *verdicts.pair(better, c).lead;
                if (lead.mean > 0 && lead.p_value < settings.level && lead.p_of_at_most(0.0) < level)
                    may_be_best = false;
                const bool equivalent = lead.p_of_at_least(settings.margin) < settings.level &&
                                        lead.p_of_at_most(-settings.margin) < settings.level;
                const Verdict verdict = verdicts.pair(better, c).verdict;
                EXPECT_EQ(verdict == Verdict::equivalent, equivalent);
                if (better == 0) clear = clear && lead.mean > 0 && lead.p_value < settings.level;
                EXPECT_EQ(verdict == Verdict::better,
                          !equivalent && (is_ahead(lead) || (verdicts.clear && better == 0)));
                ++seen[name_of(verdict)];
            }
            EXPECT_EQ(verdicts.may_be_best[c], may_be_best) << study << " " << c;
            ++seen[may_be_best ? "may be best" : "is not the best"];
        }
        EXPECT_EQ(verdicts.clear, clear);
        for (std::size_t c = 0; c < count; ++c) {
            bool non_inferior = true;
            for (std::size_t other = 0; other < count; ++other) {
                if (other == c || !verdicts.may_be_best[other]) continue;
                const Lead& lead = *verdicts.pair(std::min(c, other), std::max(c, other)).lead;
                const double p =
                    other < c ? lead.p_of_at_least(settings.margin) : lead.p_of_at_most(-settings.margin);
                non_inferior = non_inferior && p < level;
            }
            EXPECT_EQ(verdicts.non_inferior[c], non_inferior) << study << " " << c;
            ++seen[non_inferior ? "non-inferior" : "may be inferior"];
        }
    }
    for (const auto& [what, times] : seen) EXPECT_GT(times, 20) << what;
    EXPECT_EQ(seen.size(), 7U);
}

// The choice between two candidates with so many seeds each, correct as often as given.
class Words : public testing::Test {
  protected:
    Choice choice_of(int seeds, double first, double second) {
        MadeUpStudy study(directory_ / std::to_string(++count_), 2, 80);
        for (std::int64_t seed = 1; seed <= seeds; ++seed) {
            const auto draw = static_cast<std::uint64_t>(seed);
            study.add_run({.candidate = "one",
                           .seed = seed,
                           .seconds = 50,
                           .predicted = study.correct_with(first, 100 + draw)});
            study.add_run({.candidate = "two",
                           .seed = seed,
                           .seconds = 5,
                           .predicted = study.correct_with(second, 200 + draw)});
        }
        return choose(study.ledger(), study.study());
    }

    TemporaryDirectory directory_;
    int count_ = 0;
};

TEST_F(Words, SayThatAClearWinnerIsBeyondNoise) {
    const Choice choice = choice_of(3, 0.95, 0.6);
    EXPECT_THAT(choice.summary, AllOf(HasSubstr("Use 'one': its accuracy of 0."),
                                      HasSubstr("beyond the variation between seeds and items"),
                                      HasSubstr("mean of 3 seeds"), Not(HasSubstr("80 % power"))));
    EXPECT_THAT(choice.reasons[1], HasSubstr(": better."));
}

TEST_F(Words, NameTheCheaperOneOfWhichNothingIsKnown) {
    const Choice choice = choice_of(3, 0.89, 0.84);
    ASSERT_FALSE(choice.clear);
    ASSERT_EQ(choice.ranking.front().candidate, "one");
    EXPECT_EQ(choice.chosen, "one");
    EXPECT_THAT(choice.summary,
                AllOf(HasSubstr("Use 'one': it ranks first, but whether it is better than 'two' is unknown"),
                      HasSubstr("Whether 'two' (5.0 s of training per run) is as good within the margin of "
                                "0.010 is unknown"),
                      HasSubstr("of bootstrap draws")));
}

TEST_F(Words, SayThatFewSeedsAreFew) {
    EXPECT_THAT(choice_of(1, 0.95, 0.6).reasons[1],
                HasSubstr("unknown, since with one seed the variance between seeds is"));
    const Choice two = choice_of(2, 0.95, 0.6);
    EXPECT_FALSE(two.clear);
    EXPECT_THAT(two.reasons[1],
                HasSubstr("unknown: with two seeds the variance between seeds is poorly known"));
    EXPECT_THAT(two.summary, AllOf(HasSubstr("for now"), HasSubstr("fewer than 3 seeds say little")));
}

TEST_F(Words, KeepStrangeNamesHarmless) {
    MadeUpStudy study(directory_ / "strange", 2, 20);
    study.add_run({.candidate = "a\x1b[2J\nb"});
    study.add_run({.candidate = "c", .predicted = study.correct_with(0.5, 1)});
    const Choice choice = choose(study.ledger(), study.study());
    EXPECT_THAT(choice.summary, AllOf(Not(HasSubstr("\x1b")), Not(HasSubstr("\n"))));
    for (const std::string& reason : choice.reasons) EXPECT_THAT(reason, Not(HasSubstr("\x1b")));
}

TEST(Costs, AreSpokenInTheirUnits) {
    RankedCandidate candidate{
        .seconds = 12.34, .trainable_parameters = 4550, .multiplications = 0, .model_bytes = 0};
    EXPECT_EQ(spoken_cost(candidate, Cost::training_seconds), "12 s of training per run");
    EXPECT_EQ(spoken_cost(candidate, Cost::trained_parameters), "4550 trained parameters");
    EXPECT_EQ(spoken_cost(candidate, Cost::operations), "operations not recorded");
    EXPECT_EQ(spoken_cost(candidate, Cost::file_size), "model file missing");
    // What nobody knows is never the cheapest.
    EXPECT_TRUE(std::isinf(candidate.cost(Cost::operations)));
    EXPECT_TRUE(std::isinf(candidate.cost(Cost::file_size)));
    candidate.model_bytes = 2000;
    EXPECT_THAT(spoken_cost(candidate, Cost::file_size), HasSubstr("a model of 2"));
}

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
