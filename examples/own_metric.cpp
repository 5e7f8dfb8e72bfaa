// A choice by a metric of one's own: how often the first class is found, for whom that is what matters. The
// evidence is the library's: seeds and items, corrected for the number of comparisons: own_metric LEDGER
#include <fmt/format.h>
#include <jevrin/jevrin.hpp>

#include <algorithm>
#include <cstdio>
#include <vector>

namespace {

// Recall of class 0, and what each item does to it: n / n0 for those found, 0 for those missed and for all
// others.
jevrin::SeedOutcomes outcomes(const jevrin::SeedPredictions& seed) {
    std::vector<double> influences;
    std::vector<double> correct;
    double score = 0.0;
    const auto n = static_cast<double>(seed.items.size());
    const auto own = static_cast<double>(std::count(seed.labels.begin(), seed.labels.end(), std::size_t{0}));
    for (std::size_t i = 0; i < seed.items.size(); ++i) {
        const bool found = seed.labels[i] == 0 && seed.predicted[i] == 0;
        influences.push_back(found ? n / own : 0.0);
        correct.push_back(seed.labels[i] != 0 || found ? 1.0 : 0.0);
        score += found ? 1.0 / own : 0.0;
    }
    return jevrin::unit_outcomes(seed, influences, correct, score);
}

struct Contender {
    std::string name;
    jevrin::CandidateOutcomes outcomes;
};

}  // namespace

int main(int argc, char** argv) {
    using namespace jevrin;
    if (argc != 2) {
        fmt::print(stderr, "usage: own_metric LEDGER\n");
        return 2;
    }
    try {
        const Ledger ledger = Ledger::open(argv[1]);
        const StudyRecord study = ledger.study();
        std::vector<Contender> all;
        for (const CandidateEvidence& candidate : gather_evidence(ledger, study).candidates) {
            std::vector<SeedOutcomes> seeds;
            for (const SeedPredictions& seed : seed_predictions(candidate)) seeds.push_back(outcomes(seed));
            all.push_back({candidate.candidate, CandidateOutcomes(std::move(seeds))});
        }
        std::stable_sort(all.begin(), all.end(), [](const Contender& a, const Contender& b) {
            return a.outcomes.mean() > b.outcomes.mean();
        });
        std::vector<const CandidateOutcomes*> others;
        for (std::size_t k = 1; k < all.size(); ++k) others.push_back(&all[k].outcomes);
        const auto leads = leads_over(all[0].outcomes, others);
        fmt::print("{} found: {} {:.3f}\n", study.classes[0], all[0].name, all[0].outcomes.mean());
        for (std::size_t k = 1; k < all.size(); ++k)
            fmt::print("{} {:.3f}{}\n", all[k].name, all[k].outcomes.mean(),
                       is_ahead(leads[k - 1]) ? ", behind beyond chance" : ", not separated");
        return 0;
    } catch (const Error& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 2;
    }
}
