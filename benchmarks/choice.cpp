// How often the comparison of candidates is correct, over studies of known truth. Each figure is a group of
// settings; its value is the mean over them, its counters the mean and the worst of each measure.
#include "choice_simulation.hpp"
#include "figures.hpp"
#include "measure.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <string>
#include <vector>

namespace {

using namespace jevrin;
using bench::honest_level;
using bench::judge_studies;
using bench::share_of;
using bench::SimulatedStudy;
using bench::StudyOutcome;

constexpr std::int64_t studies = 2000;

using Settings = std::vector<SimulatedStudy>;

// From no variance between seeds to much of it, few items to many, few classes to many.
Settings plain(std::int64_t seeds) {
    Settings settings;
    for (const double seed_noise : {0.0, 0.15, 0.4})
        for (const std::size_t items : {60U, 200U, 600U})
            for (const std::size_t classes : {2U, 10U})
                settings.push_back(
                    {.seeds = seeds, .items = items, .classes = classes, .seed_noise = seed_noise});
    return settings;
}

// With each number of seeds from which on anything is concluded.
Settings with_seeds(const std::function<void(std::int64_t seeds, Settings& settings)>& add) {
    Settings settings;
    for (const std::int64_t seeds : {3, 5, 10}) add(seeds, settings);
    return settings;
}

Settings equal_candidates() {
    return with_seeds([](std::int64_t seeds, Settings& settings) {
        for (const SimulatedStudy& study : plain(seeds)) settings.push_back(study);
    });
}

Settings many_candidates() {
    return with_seeds([](std::int64_t seeds, Settings& settings) {
        for (const std::size_t candidates : {5U, 20U})
            for (const double noise : {0.15, 0.4})
                settings.push_back({.candidates = candidates, .seeds = seeds, .seed_noise = noise});
    });
}

Settings uneven_seeds() {
    return with_seeds([](std::int64_t seeds, Settings& settings) {
        for (const double ratio : {0.25, 3.0})
            for (const std::size_t candidates : {2U, 5U})
                settings.push_back({.candidates = candidates, .seeds = seeds, .noise_ratio = ratio});
        settings.push_back({.seeds = seeds, .common_noise = 0.15});
        settings.push_back({.seeds = seeds, .failing = 0.1});
    });
}

Settings rare_classes() {
    return with_seeds([](std::int64_t seeds, Settings& settings) {
        for (const std::size_t rare : {8U, 5U, 2U, 1U})
            settings.push_back({.seeds = seeds, .items = 195 + rare, .classes = 2, .rare = rare});
    });
}

Settings near_the_ceiling() {
    return with_seeds([](std::int64_t seeds, Settings& settings) {
        for (const std::size_t items : {60U, 200U})
            for (const double score : {0.97, 0.98, 0.99, 0.995}) {
                SimulatedStudy study{.seeds = seeds, .items = items};
                study.level = bench::level_of(score, study);
                settings.push_back(study);
            }
    });
}

Settings groups() {
    return with_seeds([](std::int64_t seeds, Settings& settings) {
        for (const std::size_t group : {2U, 5U, 10U})
            for (const double effect : {0.5, 1.0, 2.0})
                settings.push_back(
                    {.seeds = seeds, .items = 200, .classes = 4, .group = group, .group_effect = effect});
    });
}

Settings folds() {
    Settings settings;
    for (const std::int64_t seeds : {1, 3, 5})
        for (const double effect : {0.0, 0.15, 0.3})
            settings.push_back({.seeds = seeds, .items = 300, .folds = 5, .fold_effect = effect});
    return settings;
}

// The first better than the others by just more than the margin of three points.
Settings at_the_margin() {
    return with_seeds([](std::int64_t seeds, Settings& settings) {
        for (const std::size_t items : {200U, 600U})
            for (const std::size_t candidates : {2U, 5U}) {
                SimulatedStudy study{.candidates = candidates,
                                     .seeds = seeds,
                                     .items = items,
                                     .seed_noise = 0.1,
                                     .margin = 0.03};
                study.lead = bench::lead_for(study, 0.03 + 1e-6);
                settings.push_back(study);
            }
    });
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

struct Measure {
    const char* name;
    bool StudyOutcome::*holds;
};
constexpr Measure measures[] = {{"better", &StudyOutcome::any_better},
                                {"false_better", &StudyOutcome::false_better},
                                {"clear", &StudyOutcome::clear_winner},
                                {"equivalent", &StudyOutcome::equivalent},
                                {"false_claim", &StudyOutcome::false_claim},
                                {"lead_covered", &StudyOutcome::lead_covered},
                                {"own_covered", &StudyOutcome::own_covered},
                                {"winner_covered", &StudyOutcome::winner_covered},
                                {"winner_uncorrected", &StudyOutcome::winner_raw},
                                {"best_in_set", &StudyOutcome::best_in_set}};

// Every measure, and as the value how often intervals of leads hold the truth.
void run_group(benchmark::State& state, const Settings& settings) {
    for (auto _ : state) {
        std::vector<Shares> shares(std::size(measures));
        for (const SimulatedStudy& study : settings) {
            const auto outcomes = judge_studies(study, studies);
            for (std::size_t k = 0; k < std::size(measures); ++k)
                shares[k].add(share_of(outcomes, measures[k].holds));
        }
        for (std::size_t k = 0; k < std::size(measures); ++k) {
            state.counters[measures[k].name] = shares[k].mean();
            state.counters[fmt::format("{}_least", measures[k].name)] = shares[k].least();
            state.counters[fmt::format("{}_most", measures[k].name)] = shares[k].most();
        }
        state.counters["value"] = state.counters["lead_covered"];
        state.SetLabel("share");
        state.SetIterationTime(1.0);
    }
}

// Seeds added until it is clear, with looks at 3, 5 and 10: how often equal candidates are called different.
// The value is with looks as they come, beside it with the most seeds stated.
void run_added_seeds(benchmark::State& state) {
    for (auto _ : state) {
        Shares counted;
        Shares planned;
        for (const double noise : {0.0, 0.15, 0.4})
            for (const std::size_t candidates : {2U, 5U}) {
                const SimulatedStudy study{.candidates = candidates, .seed_noise = noise};
                counted.add(bench::share_ever_better(study, studies, {3, 5, 10}, std::nullopt));
                planned.add(bench::share_ever_better(study, studies, {3, 5, 10}, 10));
            }
        state.counters["value"] = counted.mean();
        state.counters["most"] = counted.most();
        state.counters["planned"] = planned.mean();
        state.counters["planned_most"] = planned.most();
        state.SetLabel("share");
        state.SetIterationTime(1.0);
    }
}

// Of true leads, small and large. Beside it the paired t-test over seeds, which takes the items as given: as
// it is, and at the level at which it tells equal candidates apart no more often than 5 times in 100.
void run_power(benchmark::State& state) {
    for (auto _ : state) {
        Shares ours;
        Shares as_it_is;
        Shares honest;
        for (const std::int64_t seeds : {3, 5, 10}) {
            Shares found;
            Shares paired;
            Shares at_level;
            for (const SimulatedStudy& equal : plain(seeds)) {
                const double level = honest_level(equal, studies);
                for (const double lead : {0.15, 0.3, 0.6}) {
                    SimulatedStudy study = equal;
                    study.lead = lead;
                    const auto leads = bench::judge_leads(study, studies);
                    found.add(bench::share_of_leads(leads, [](const auto& one) { return one.found; }));
                    paired.add(bench::share_of_paired_t(leads, 0.05));
                    at_level.add(bench::share_of_paired_t(leads, level));
                }
            }
            state.counters[fmt::format("s{:02}", seeds)] = found.mean();
            state.counters[fmt::format("s{:02}_paired_t", seeds)] = paired.mean();
            state.counters[fmt::format("s{:02}_paired_t_honest", seeds)] = at_level.mean();
            ours.add(found.mean());
            as_it_is.add(paired.mean());
            honest.add(at_level.mean());
        }
        state.counters["value"] = ours.mean();
        state.counters["paired_t"] = as_it_is.mean();
        state.counters["paired_t_honest"] = honest.mean();
        state.counters["ratio"] = ours.mean() / honest.mean();
        state.SetLabel("share");
        state.SetIterationTime(1.0);
    }
}

void add_group(const char* name, Settings (*settings)()) {
    jevrin::bench::add_figure(fmt::format("choice/simulation/{}", name), 1,
                              [settings](benchmark::State& state) { run_group(state, settings()); });
}

}  // namespace

int main(int argc, char** argv) {
    add_group("equal", equal_candidates);
    add_group("many_candidates", many_candidates);
    add_group("uneven_seeds", uneven_seeds);
    add_group("rare_classes", rare_classes);
    add_group("ceiling", near_the_ceiling);
    add_group("groups", groups);
    add_group("folds", folds);
    add_group("margin", at_the_margin);
    jevrin::bench::add_figure("choice/simulation/added_seeds", 1, run_added_seeds);
    jevrin::bench::add_figure("choice/simulation/power", 1, run_power);
    return jevrin::bench::run(argc, argv);
}
