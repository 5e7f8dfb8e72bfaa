// Prints the figures of a benchmark program as JSON lines.
#pragma once

#include <benchmark/benchmark.h>
#include <fmt/format.h>

#include <string>

namespace jevrin::bench {

// {"name", "value", "unit", "of_limit" or "ratio", ..., "threads"} for each benchmark. The value is the time
// of one repetition in milliseconds, unless the benchmark sets a counter "value" and its unit as the label.
class FigureLines : public benchmark::BenchmarkReporter {
  public:
    bool ReportContext(const Context&) override { return true; }
    void ReportRuns(const std::vector<Run>& runs) override {
        for (const Run& run : runs) {
            const auto own = run.counters.find("value");
            const double value = own != run.counters.end() ? own->second.value : run.GetAdjustedRealTime();
            std::string line =
                fmt::format(R"({{"name": "{}", "value": {:.4g}, "unit": "{}")", run.run_name.function_name,
                            value, run.report_label.empty() ? "ms" : run.report_label);
            for (const auto& [name, counter] : run.counters)
                if (name != "value") line += fmt::format(R"(, "{}": {:.4g})", name, counter.value);
            fmt::print("{}}}\n", line);
            std::fflush(stdout);
        }
    }
};

// One figure; the body measures in a loop over the state and sets the iteration times.
template <typename Body>
void add_figure(const std::string& name, int rounds, Body body) {
    benchmark::RegisterBenchmark(name.c_str(), body)
        ->UseManualTime()
        ->Unit(benchmark::kMillisecond)
        ->Iterations(rounds);
}

// Runs the registered benchmarks whose name matches the first argument.
inline int run(int argc, char** argv) {
    std::string filter = "--benchmark_filter=" + std::string(argc > 1 && argv[1][0] != '\0' ? argv[1] : ".");
    char* arguments[] = {argv[0], filter.data()};
    int count = 2;
    benchmark::Initialize(&count, arguments);
    FigureLines lines;
    benchmark::RunSpecifiedBenchmarks(&lines);
    return 0;
}

}  // namespace jevrin::bench
