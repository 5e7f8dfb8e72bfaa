// Prints the figures of a benchmark program as JSON lines.
#pragma once

#include <benchmark/benchmark.h>
#include <fmt/format.h>

#include <string>

namespace jevrin::bench {

// {"name", "value", "unit", "of_limit", "of_sgemm", "threads"} for each benchmark that set these counters.
class FigureLines : public benchmark::BenchmarkReporter {
  public:
    bool ReportContext(const Context&) override { return true; }
    void ReportRuns(const std::vector<Run>& runs) override {
        for (const Run& run : runs) {
            std::string line = fmt::format(R"({{"name": "{}")", run.run_name.function_name);
            line += fmt::format(R"(, "value": {:.4g}, "unit": "ms")", run.GetAdjustedRealTime());
            for (const auto& [name, counter] : run.counters)
                line += fmt::format(R"(, "{}": {:.4g})", name, counter.value);
            fmt::print("{}}}\n", line);
        }
    }
};

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
