// What distinguishes candidates, and in which words.
#include "jevrin/comparison/verdicts.hpp"

#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/comparison/choice_words.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/metrics/crossed.hpp"

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <numeric>

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::TemporaryDirectory;
using testing::AllOf;
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

}  // namespace
}  // namespace jevrin
