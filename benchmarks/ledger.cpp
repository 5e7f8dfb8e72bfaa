// What a large ledger costs to read: 1,000 runs of 200 epochs with 50 classes.
#include "figures.hpp"
#include "large_ledger.hpp"
#include "measure.hpp"

#include "jevrin/base/memory.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/comparison/curves.hpp"
#include "jevrin/comparison/matrices.hpp"
#include "jevrin/comparison/run_table.hpp"
#include "jevrin/evaluation/run_names.hpp"

#include <unistd.h>

#include <filesystem>

namespace {

using namespace jevrin;

// Made once, removed at the end.
class LedgerDirectory {
  public:
    LedgerDirectory()
        : path_(std::filesystem::temp_directory_path() / fmt::format("jevrin-ledger-{}", ::getpid())) {
        bench::make_large_ledger(path_, {});
    }
    ~LedgerDirectory() {
        std::error_code none;
        std::filesystem::remove_all(path_, none);
    }
    LedgerDirectory(const LedgerDirectory&) = delete;
    LedgerDirectory& operator=(const LedgerDirectory&) = delete;
    const std::filesystem::path& path() const { return path_; }

  private:
    std::filesystem::path path_;
};

const std::filesystem::path& large_ledger() {
    static const LedgerDirectory directory;
    return directory.path();
}

// Milliseconds from opening the ledger to the result; beside it, as a fraction of a second, and the memory at
// the end above that at the beginning.
template <typename Read>
void run_reading(benchmark::State& state, const Read& read) {
    const std::filesystem::path& directory = large_ledger();
    double seconds = 0.0;
    double rounds = 0.0;
    double bytes = 0.0;
    for (auto _ : state) {
        const std::int64_t before = resident_memory();
        const auto begin = std::chrono::steady_clock::now();
        const Ledger ledger = Ledger::open(directory);
        const StudyRecord study = ledger.study();
        const auto result = read(ledger, study);
        const double taken = bench::seconds_since(begin);
        bytes = std::max(bytes, static_cast<double>(resident_memory() - before));
        benchmark::DoNotOptimize(result);
        state.SetIterationTime(taken);
        seconds += taken;
        ++rounds;
    }
    state.counters["of_second"] = seconds / rounds;
    state.counters["megabytes"] = bytes / 1e6;
}

void run_runs(benchmark::State& state) {
    run_reading(state, [](const Ledger& ledger, const StudyRecord& study) {
        std::vector<RunRow> rows = run_rows(ledger, ledger.runs(study.id));
        sort_by(rows, "-balanced_accuracy");
        return rows;
    });
}

void run_choose(benchmark::State& state) {
    run_reading(state, [](const Ledger& ledger, const StudyRecord& study) { return choose(ledger, study); });
}

void run_curves(benchmark::State& state) {
    run_reading(state, [](const Ledger& ledger, const StudyRecord& study) {
        std::vector<RunCurves> curves;
        for (const RunRecord& run : ledger.runs(study.id)) curves.push_back(curves_of_run(ledger, run));
        return curves;
    });
}

void run_difference(benchmark::State& state) {
    run_reading(state, [](const Ledger& ledger, const StudyRecord& study) {
        const StudyEvidence first = gather_evidence(ledger, study, runs_called(ledger, study, {"c001"}));
        const StudyEvidence second = gather_evidence(ledger, study, runs_called(ledger, study, {"c002"}));
        return compare_matrices(first.candidates.front(), second.candidates.front(), first.classes);
    });
}

}  // namespace

int main(int argc, char** argv) {
    // For looking at a ledger of any size: bench_ledger --make DIR CANDIDATES SEEDS EPOCHS CLASSES.
    if (argc == 7 && std::string(argv[1]) == "--make") {
        bench::make_large_ledger(argv[2], {.candidates = std::stoll(argv[3]),
                                           .seeds = std::stoll(argv[4]),
                                           .epochs = std::stoll(argv[5]),
                                           .classes = static_cast<std::size_t>(std::stoll(argv[6]))});
        return 0;
    }
    using jevrin::bench::add_figure;
    add_figure("ledger/runs", 3, run_runs);
    add_figure("ledger/choose", 3, run_choose);
    add_figure("ledger/curves", 3, run_curves);
    add_figure("ledger/difference", 3, run_difference);
    return jevrin::bench::run(argc, argv);
}
