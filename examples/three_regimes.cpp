// Carries out a plan through the library and prints what to use: three_regimes PLAN LEDGER
#include <fmt/format.h>
#include <jevrin/jevrin.hpp>

#include <cstdio>

int main(int argc, char** argv) {
    if (argc != 3) {
        fmt::print(stderr, "usage: three_regimes PLAN LEDGER\n");
        return 2;
    }
    try {
        jevrin::StudyCallbacks callbacks;
        callbacks.run_finished = [](const jevrin::RunRecord& run) {
            if (run.best) fmt::print("{}: accuracy {:.3f}\n", run.name(), run.best->validation.accuracy());
        };
        const jevrin::StudySummary summary =
            jevrin::train_study(jevrin::read_plan(argv[1]), argv[2], callbacks);
        fmt::print("{} runs trained\n", summary.trained);

        const jevrin::Ledger ledger = jevrin::Ledger::open(argv[2]);
        const jevrin::ChoiceResult result = jevrin::report_choice(ledger, ledger.study());
        fmt::print("{}", to_text(result, {.width = 80}));
        return 0;
    } catch (const jevrin::InputError& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 2;
    } catch (const jevrin::Error& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 1;
    }
}
