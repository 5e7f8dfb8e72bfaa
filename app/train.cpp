#include "commands.hpp"
#include "output.hpp"
#include "runs_table.hpp"
#include "training_view.hpp"

#include "jevrin/base/parallel.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct Options {
    std::filesystem::path plan;
    std::filesystem::path ledger = "ledger";
    int threads = 0;
    double memory = 0.0;
};

void train(const Options& options) {
    if (options.threads > 0) set_threads(options.threads);
    limit_memory(options.memory);
    const Plan plan = read_plan(options.plan);
    const StudySummary summary = train_with_view(plan, options.ledger);
    std::string line = fmt::format("{} trained, {} already finished", plural(summary.trained, "run"),
                                   summary.already_finished);
    if (summary.failed > 0) line += fmt::format(", {} failed", summary.failed);
    if (summary.superseded > 0)
        line += fmt::format("; {} with other settings set aside", plural(summary.superseded, "earlier run"));
    const Ledger ledger = Ledger::open(options.ledger);
    print(fmt::format("\n{}\n\n{}", line, runs_table(ledger.runs(summary.study), plan.metric)));
    if (summary.failed > 0) throw CLI::RuntimeError(1);
}

}  // namespace

void add_train(CLI::App& app) {
    auto options = std::make_shared<Options>();
    auto* command =
        app.add_subcommand("train", "train every run of a plan that is missing; resume what was interrupted");
    command->add_option("PLAN", options->plan, "the plan, a TOML file")->required();
    command->add_option("--ledger", options->ledger, "the directory that keeps the runs")
        ->type_name("DIR")
        ->capture_default_str();
    command
        ->add_option("--threads", options->threads,
                     "how many threads (default: all processors; results are the same)")
        ->check(CLI::Range(1, 1024));
    add_memory_option(*command, options->memory);
    command->callback([options] { train(*options); });
}

}  // namespace jevrin::app
