// A model file as backbone of a frozen and a partly trained candidate, without a plan file: own_backbone
// MODEL IMAGES LEDGER
#include <fmt/format.h>
#include <jevrin/jevrin.hpp>

#include <cstdio>

int main(int argc, char** argv) {
    using namespace jevrin;
    if (argc != 4) {
        fmt::print(stderr, "usage: own_backbone MODEL IMAGES LEDGER\n");
        return 2;
    }
    try {
        Plan plan{.name = "own backbone", .seeds = {1, 2}};
        plan.images.source.from = std::filesystem::absolute(argv[2]);
        plan.images.fitting.size = 16;
        plan.backbones.push_back({.name = "mine", .file = std::filesystem::absolute(argv[1])});
        for (const Regime regime : {Regime::frozen, Regime::partial}) {
            Candidate candidate{
                .name = name_of(regime), .origin = name_of(regime), .regime = regime, .backbone = "mine"};
            if (regime == Regime::partial) candidate.train_last = 1;
            candidate.training.epochs = 3;
            candidate.training.batch = 8;
            plan.candidates.push_back(candidate);
        }
        for (const CandidateCheck& check : check_plan(*gather_materials(plan)).candidates)
            fmt::print("{}: {} of {} parameters train\n", check.candidate, check.trainable_parameters,
                       check.parameters);
        train_study(plan, argv[3]);
        const Ledger ledger = Ledger::open(argv[3]);
        fmt::print("{}\n", choose(ledger, ledger.study()).summary);
        return 0;
    } catch (const Error& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 2;
    }
}
