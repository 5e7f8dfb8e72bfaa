// A study on many nodes, simulated event by event: nodes of unequal speed ask for runs, send a record at the
// end of each epoch and wait for rank 0, which answers one after the other, each in a time that was measured.
#pragma once

#include "jevrin/base/random.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <functional>
#include <optional>
#include <queue>
#include <vector>

namespace jevrin::bench {

struct SimulatedStudy {
    int runs = 10;
    int nodes = 1;
    bool dearest_first = false;  // instead of the cheapest
    bool moves = true;           // runs may move to idle nodes that are twice as fast
    double record_bytes = 1e6;
    double bandwidth = 1e9;                   // of rank 0, bytes a second
    const std::vector<double>* service = {};  // seconds of rank 0 for a record, as measured
};

struct SimulatedOutcome {
    double makespan = 0.0;   // seconds
    double of_bound = 0.0;   // over what no schedule can beat
    double idle = 0.0;       // share of the nodes' time
    double busy = 0.0;       // share of rank 0's time
    double megabytes = 0.0;  // a second, to rank 0
    int moved = 0;
};

// A third of the runs have epochs of 2 seconds, a third of 8, a third of 32 (frozen, partial, from scratch),
// each within a quarter, 15 of them. Nodes differ by a tenth (standard deviation), one of twenty has half the
// speed and, from ten nodes on, one a tenth.
inline SimulatedOutcome simulate_study(const SimulatedStudy& study) {
    RandomStream random({7, Purpose::sample, 0, 0});
    const auto uniform = [&] { return (static_cast<double>(random.below(1U << 24)) + 0.5) / (1U << 24); };
    const auto normal = [&] {
        return std::sqrt(-2.0 * std::log(uniform())) * std::cos(6.283185307179586 * uniform());
    };
    constexpr int epochs = 15;
    std::vector<double> runs;  // seconds of an epoch
    for (int run = 0; run < study.runs; ++run)
        runs.push_back((run % 3 == 0 ? 2.0 : run % 3 == 1 ? 8.0 : 32.0) * (0.8 + 0.45 * uniform()));
    std::sort(runs.begin(), runs.end());
    if (study.dearest_first) std::reverse(runs.begin(), runs.end());
    std::vector<double> speeds;
    for (int node = 0; node < study.nodes; ++node)
        speeds.push_back((node == 9 ? 0.1 : node % 20 == 19 ? 0.5 : 1.0) * std::exp(0.1 * normal()));

    struct Work {
        double epoch = 0.0;
        int left = 0;
    };
    std::vector<std::optional<Work>> at(speeds.size());
    struct Event {
        double time;
        int node;
        bool operator>(const Event& other) const { return time > other.time; }
    };
    std::priority_queue<Event, std::vector<Event>, std::greater<>> events;
    std::size_t next = 0;
    std::vector<int> idle;
    double worked = 0.0;
    const auto begin = [&](int node, double now) {
        const auto place = static_cast<std::size_t>(node);
        if (!at[place]) {
            if (next == runs.size()) return idle.push_back(node);
            at[place] = Work{runs[next++], epochs};
        }
        const double takes = at[place]->epoch / speeds[place];
        worked += takes;
        events.push({now + takes, node});
    };
    for (int node = 0; node < study.nodes; ++node) begin(node, 0.0);
    double free_at = 0.0;
    double busy = 0.0;
    double records = 0.0;
    SimulatedOutcome outcome;
    while (!events.empty()) {
        const Event event = events.top();
        events.pop();
        const auto place = static_cast<std::size_t>(event.node);
        const std::vector<double>& times = *study.service;
        const double takes = times[random.below(static_cast<std::uint32_t>(times.size()))];
        const double arrives = event.time + study.record_bytes / study.bandwidth;
        const double answered = std::max(free_at, arrives) + takes;
        free_at = answered;
        busy += takes;
        ++records;
        outcome.makespan = answered;
        if (--at[place]->left == 0) {
            at[place].reset();
        } else if (study.moves && next == runs.size() && at[place]->left >= 2) {
            const auto faster = std::find_if(idle.begin(), idle.end(), [&](int other) {
                return speeds[static_cast<std::size_t>(other)] > 2.0 * speeds[place];
            });
            if (faster != idle.end()) {
                const int other = *faster;
                idle.erase(faster);
                at[static_cast<std::size_t>(other)] = std::exchange(at[place], std::nullopt);
                ++outcome.moved;
                begin(other, answered);
            }
        }
        begin(event.node, answered);
    }
    double speed = 0.0;
    double all = 0.0;
    for (const double one : speeds) speed += one;
    for (const double one : runs) all += one * epochs;
    const double fastest = *std::max_element(speeds.begin(), speeds.end());
    const double longest = *std::max_element(runs.begin(), runs.end()) * epochs / fastest;
    outcome.of_bound = outcome.makespan / std::max(longest, all / speed);
    outcome.idle = 1.0 - worked / (outcome.makespan * study.nodes);
    outcome.busy = busy / outcome.makespan;
    outcome.megabytes = records * study.record_bytes / 1e6 / outcome.makespan;
    return outcome;
}

}  // namespace jevrin::bench
