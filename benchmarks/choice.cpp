// How often the comparison of candidates is correct, over studies of known truth.
#include "choice_simulation.hpp"
#include "figures.hpp"
#include "measure.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace {

using namespace jevrin;
using bench::honest_level;
using bench::judge_studies;
using bench::share_of;
using bench::simulate;
using bench::SimulatedStudy;
using bench::StudyOutcome;

constexpr std::int64_t studies = 2000;

// The settings: from no variance between seeds to much of it, few items to many, few classes to many.
template <typename See>
void for_each_setting(std::int64_t seeds, double lead, const See& see) {
    for (const double seed_noise : {0.0, 0.15, 0.4})
        for (const std::size_t items : {60U, 200U, 600U})
            for (const std::size_t classes : {2U, 10U})
                see(SimulatedStudy{.lead = lead,
                                   .seeds = seeds,
                                   .items = items,
                                   .classes = classes,
                                   .seed_noise = seed_noise});
}

// A fraction over many settings.
class Shares {
  public:
    void add(double share) {
        sum_ += share;
        least_ = std::min(least_, share);
        most_ = std::max(most_, share);
        ++count_;
    }
    double mean() const { return sum_ / count_; }
    double least() const { return least_; }
    double most() const { return most_; }

  private:
    double sum_ = 0.0;
    double least_ = 1.0;
    double most_ = 0.0;
    int count_ = 0;
};

// Calls fill(seeds, shares) for each number of seeds. The value is the mean from three seeds on, with which
// alone something may be called a difference.
template <typename Fill>
void run_by_seeds(benchmark::State& state, const Fill& fill) {
    for (auto _ : state) {
        double sum = 0.0;
        int counted = 0;
        for (const std::int64_t seeds : {2, 3, 5, 10}) {
            Shares shares;
            fill(seeds, shares);
            state.counters[fmt::format("s{:02}", seeds)] = shares.mean();
            state.counters[fmt::format("s{:02}_least", seeds)] = shares.least();
            state.counters[fmt::format("s{:02}_most", seeds)] = shares.most();
            if (seeds < fewest_seeds) continue;
            sum += shares.mean();
            ++counted;
        }
        state.counters["value"] = sum / counted;
        state.SetLabel("share");
        state.SetIterationTime(1.0);
    }
}

// Of two and of five equal candidates; beside it, how often the paired t-test over seeds distinguishes two.
void run_false_winner(benchmark::State& state) {
    run_by_seeds(state, [&](std::int64_t seeds, Shares& shares) {
        Shares theirs;
        for (const std::size_t candidates : {2U, 5U})
            for_each_setting(seeds, 0.0, [&](SimulatedStudy study) {
                study.candidates = candidates;
                const auto outcomes = judge_studies(study, studies);
                shares.add(share_of(outcomes, [](const StudyOutcome& o) { return o.clear_winner; }));
                if (candidates == 2)
                    theirs.add(share_of(outcomes,
                                        [](const StudyOutcome& o) { return std::abs(o.signed_p) < 0.05; }));
            });
        state.counters[fmt::format("s{:02}_paired_t", seeds)] = theirs.mean();
        state.counters[fmt::format("s{:02}_paired_t_most", seeds)] = theirs.most();
    });
}

// With and without a true lead; where candidates differ in how much seeds matter; where a seed helps or harms
// all alike.
void run_coverage(benchmark::State& state) {
    run_by_seeds(state, [](std::int64_t seeds, Shares& shares) {
        for (const double lead : {0.0, 0.25})
            for_each_setting(seeds, lead, [&](const SimulatedStudy& study) {
                shares.add(simulate(study, studies).covered);
            });
        for (const double ratio : {0.25, 3.0}) {
            SimulatedStudy uneven{.lead = 0.25, .seeds = seeds, .noise_ratio = ratio};
            shares.add(simulate(uneven, studies).covered);
        }
        SimulatedStudy common{.lead = 0.25, .seeds = seeds, .common_noise = 0.15};
        shares.add(simulate(common, studies).covered);
    });
}

// Of true leads, small and large. Beside it the paired t-test over seeds, which takes the items as given: as
// it is, and at the level at which it tells equal candidates apart no more often than 5 times in 100.
void run_power(benchmark::State& state) {
    Shares ours;
    Shares as_it_is;
    Shares honest;
    run_by_seeds(state, [&](std::int64_t seeds, Shares& shares) {
        Shares theirs;
        Shares at_level;
        for (const double lead : {0.15, 0.3, 0.6})
            for_each_setting(seeds, lead, [&](const SimulatedStudy& study) {
                const auto outcomes = judge_studies(study, studies);
                const double level = honest_level(study, studies);
                const auto found_below = [&](double p) {
                    return share_of(
                        outcomes, [p](const StudyOutcome& o) { return o.signed_p > 0.0 && o.signed_p < p; });
                };
                shares.add(share_of(outcomes, [](const StudyOutcome& o) { return o.found; }));
                theirs.add(found_below(0.05));
                at_level.add(found_below(level));
            });
        state.counters[fmt::format("s{:02}_paired_t", seeds)] = theirs.mean();
        state.counters[fmt::format("s{:02}_paired_t_honest", seeds)] = at_level.mean();
        if (seeds < fewest_seeds) return;
        ours.add(shares.mean());
        as_it_is.add(theirs.mean());
        honest.add(at_level.mean());
    });
    state.counters["paired_t"] = as_it_is.mean();
    state.counters["paired_t_honest"] = honest.mean();
    state.counters["ratio"] = ours.mean() / honest.mean();
}

}  // namespace

int main(int argc, char** argv) {
    using jevrin::bench::add_figure;
    add_figure("choice/simulation/false_winner", 1, run_false_winner);
    add_figure("choice/simulation/coverage", 1, run_coverage);
    add_figure("choice/simulation/power", 1, run_power);
    return jevrin::bench::run(argc, argv);
}
