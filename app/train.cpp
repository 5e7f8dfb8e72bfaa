#include "commands.hpp"
#include "output.hpp"
#include "runs_table.hpp"
#include "training_view.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/study/materials.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct TrainOptions {
    std::filesystem::path plan;
    std::filesystem::path ledger = "ledger";
    StudyOptions study;
    bool list = false;
    bool without_stores = false;
    bool json = false;
    std::int64_t threads = 0;
    double memory = 0.0;
};

// What would be trained, in order, and what of it is done already.
void list_runs(const Plan& plan, const TrainOptions& options) {
    const bool has_ledger = std::filesystem::exists(options.ledger / "ledger.db");
    std::unique_ptr<Materials> materials;
    {
        ProgressBars bar;
        materials = gather_materials(plan, has_ledger ? std::optional(options.ledger) : std::nullopt,
                                     [&](const std::string& what, std::int64_t done, std::int64_t total) {
                                         bar.show(what, done, total);
                                     });
    }
    std::optional<Ledger> ledger;
    if (has_ledger) ledger = Ledger::open(options.ledger);
    const std::vector<PlannedRun> runs = select_runs(plan_runs(*materials), options.study.selection);
    double all = 0.0;
    for (const PlannedRun& run : runs) all += run.operations;
    Json json = Json::array();
    Table table({"run", "regime", "state", "epochs", "share of the work"}, {3, 4});
    for (const PlannedRun& run : runs) {
        const std::optional<RunRecord> known =
            ledger ? ledger->find_run(plan.name, run.identity) : std::nullopt;
        const std::string state = known ? spoken_state(*known) : "new";
        const double share = all > 0.0 ? run.operations / all : 0.0;
        json.push_back({{"run", run.name()},
                        {"regime", name_of(run.identity.regime)},
                        {"state", state},
                        {"epochs", known ? known->epochs : 0},
                        {"planned_epochs", run.epochs},
                        {"share", share}});
        table.add({run.name(), name_of(run.identity.regime), state,
                   fmt::format("{}/{}", known ? known->epochs : 0, run.epochs),
                   fmt::format("{:.1f} %", 100.0 * share)});
    }
    if (options.json)
        print_json(json);
    else
        print(fmt::format("{}, in the order of training; nothing was trained\n\n{}",
                          plural(static_cast<std::int64_t>(runs.size()), "run"), table.text()));
}

void train(TrainOptions options) {
    if (options.threads > 0) set_threads(static_cast<int>(options.threads));
    limit_memory(options.memory);
    const Plan plan = read_plan(options.plan);
    if (options.list) {
        list_runs(plan, options);
        return;
    }
    if (options.json)
        throw InputError("--json belongs to --list; 'jevrin runs --json' tells what was trained");
    if (options.without_stores) options.study.stores = Stores::left_out;
    const StudySummary summary = train_with_view(plan, options.ledger, options.study);
    std::string line = fmt::format("{} trained, {} already finished", plural(summary.trained, "run"),
                                   summary.already_finished);
    if (summary.failed > 0) line += fmt::format(", {} failed", summary.failed);
    if (summary.failed_before > 0)
        line += fmt::format(", {} failed before and left alone (--retry trains them again)",
                            summary.failed_before);
    if (summary.elsewhere > 0) line += fmt::format(", {} in training by another process", summary.elsewhere);
    if (summary.superseded > 0)
        line += fmt::format("; {} with other settings set aside", plural(summary.superseded, "earlier run"));
    const Ledger ledger = Ledger::open(options.ledger);
    print(fmt::format("\n{}\n\n{}", line, runs_table(ledger.runs(summary.study), plan.metric)));
    if (summary.failed > 0) throw ExitStatus{1};
}

}  // namespace

void add_train(Command& command) {
    auto options = std::make_shared<TrainOptions>();
    command.add_option("PLAN", options->plan, "the plan, a TOML file").required();
    command.add_option("--ledger", options->ledger, "the directory that keeps the runs")
        .type_name("DIR")
        .capture_default_str();
    command
        .add_option("--only", options->study.selection.only, "only this candidate or run (may be repeated)")
        .type_name("NAME")
        .one_each_time();
    command
        .add_option("--until", options->study.selection.until,
                    "stop behind the last run of this candidate, or this run")
        .type_name("NAME");
    command.add_flag("--list", options->list, "list the runs in their order and train nothing");
    command.add_flag("--json", options->json, "with --list: print one JSON document");
    command.add_flag("--retry", options->study.retry_failed, "train failed runs again");
    command.add_flag("--keep-epochs", options->study.keep_epochs, "keep a model file of every epoch");
    command.add_flag("--without-stores", options->without_stores,
                     "keep no pictures and features for later (results are the same)");
    command
        .add_option("--threads", options->threads,
                    "how many threads (default: all processors; results are the same)")
        .within(1, 1024);
    add_memory_option(command, options->memory);
    command.callback([options] { train(*options); });
}

}  // namespace jevrin::app
