// Scores predictions that another program made for the validation part of a run. The table is CSV: a column
// item (an id or a path), and one for each class with its probability: score_elsewhere LEDGER RUN TABLE
#include <fmt/format.h>
#include <jevrin/jevrin.hpp>

#include <cstdio>

int main(int argc, char** argv) {
    using namespace jevrin;
    if (argc != 4) {
        fmt::print(stderr, "usage: score_elsewhere LEDGER RUN TABLE\n");
        return 2;
    }
    try {
        const Ledger ledger = Ledger::open(argv[1]);
        const StudyRecord study = ledger.study();
        const RunRecord run = ledger.run(study.id, argv[2]);
        const PartPredictions made_there =
            read_predictions(argv[3], ledger.items(run.id, Part::validation), study.classes);
        const Scores scores = score_predictions(made_there.table);
        const auto intervals = score_intervals(made_there.table);
        for (const Measure measure : {Measure::accuracy, Measure::balanced_accuracy, Measure::roc_auc}) {
            const auto& interval = intervals[static_cast<std::size_t>(measure)];
            fmt::print("{:<20} {:.3f}", measure_name(measure), scores[measure]);
            if (interval) fmt::print("  ({:.3f} to {:.3f})", interval->low, interval->high);
            fmt::print("\n");
        }
        fmt::print("{} itself: balanced accuracy {:.3f}\n", run.name(),
                   run.best->validation.balanced_accuracy());
        return 0;
    } catch (const Error& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 2;
    }
}
