#include "materials_view.hpp"
#include "output.hpp"
#include "training_view.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/processor.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/mpi/job.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/results/training_result.hpp"

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
    std::int64_t ranks_of_run = 1;
};

// What would be trained, in order, and what of it is done already.
void list_runs(const Plan& plan, const TrainOptions& options) {
    const std::shared_ptr<const Materials> materials = gather_with_view(plan, options.ledger);
    std::optional<Ledger> ledger;
    if (Ledger::exists(options.ledger)) ledger = Ledger::open(options.ledger);
    present(report_planned_runs(*materials, options.study.selection, ledger ? &*ledger : nullptr),
            {.json = options.json});
}

// Ranks on one machine divide its processors, unless each was bound to fewer, and its memory.
void share_machine(const Ranks& ranks) {
    const int here = ranks.on_this_machine();
    set_threads(std::max(1, std::min(processor().cores, processor().all / here)));
    set_memory_limit(memory_limit() / here);
}

// The ranks that train each run together with this one; null: each trains its own.
std::unique_ptr<ShardLink> team_of(Ranks* ranks, std::int64_t ranks_of_run) {
    if (ranks_of_run == 1) return nullptr;
    const std::int64_t size = ranks == nullptr ? 1 : ranks->size();
    if (size % ranks_of_run != 0)
        throw InputError(
            fmt::format("--ranks-per-run is {} and the job has {}: it must be a multiple of that",
                        ranks_of_run, plural(size, "rank")));
    return ranks->divide(static_cast<int>(ranks_of_run));
}

// The other ranks do not wait for a plan that is wrong.
Plan read_plan_of_job(const std::filesystem::path& file, Ranks* others) {
    try {
        return read_plan(file);
    } catch (...) {
        if (others != nullptr) send_home(*others);
        throw;
    }
}

void train(TrainOptions options) {
    const std::unique_ptr<Ranks> ranks = options.list ? nullptr : join_job();
    if (ranks) share_machine(*ranks);
    if (options.threads > 0) set_threads(static_cast<int>(options.threads));
    limit_memory(options.memory);
    const std::unique_ptr<ShardLink> team = team_of(ranks.get(), options.ranks_of_run);
    options.study.team = team.get();
    if (ranks && ranks->rank() > 0)
        return help_train_until_done(
            *ranks, {.ledger = options.ledger, .patience = options.study.ranks_patience, .team = team.get()});
    if (ranks && ranks->size() > 1) options.study.ranks = ranks.get();
    const Plan plan = read_plan_of_job(options.plan, options.study.ranks);
    if (options.list) {
        list_runs(plan, options);
        return;
    }
    if (options.json) throw InputError("--json needs --list; 'jevrin runs --json' reports what was trained");
    if (options.without_stores) options.study.stores = Stores::left_out;
    const StudySummary summary = train_with_view(plan, options.ledger, options.study);
    print("\n" + to_text(summary));
    if (summary.failed_before > 0) print("--retry trains failed runs again\n");
    const Ledger ledger = Ledger::open(options.ledger);
    print("\n" + runs_text(ledger.runs(summary.study), ledger.study(plan.name), form_for_terminal()));
    if (summary.failed > 0) throw ExitStatus{1};
}

}  // namespace

void add_train(Command& command) {
    auto options = std::make_shared<TrainOptions>();
    add_plan_option(command, options->plan);
    add_ledger_option(command, options->ledger);
    command
        .add_option("--only", options->study.selection.only, "only this candidate or run (may be repeated)")
        .type_name("NAME")
        .one_each_time();
    command
        .add_option("--until", options->study.selection.until,
                    "stop after this run, or the last run of this candidate")
        .type_name("NAME");
    command.add_flag("--list", options->list, "list the runs in training order; train nothing");
    command.add_flag("--json", options->json, "with --list: print one JSON document");
    command.add_flag("--retry", options->study.retry_failed, "train failed runs again");
    command.add_flag("--keep-epochs", options->study.keep_epochs, "keep a model file of every epoch");
    command.add_flag("--without-stores", options->without_stores,
                     "do not cache decoded images and features (same results)");
    command
        .add_option("--threads", options->threads,
                    "number of threads (default: all processors; same results)")
        .within(1, 1024)
        .option_text("N");
    command
        .add_option(
            "--at-once", options->study.at_once,
            "runs trained at the same time, each on a share of the threads (default: as many as there are "
            "threads and memory for; same results)")
        .within(1, 1024)
        .option_text("N");
    command
        .add_option("--rank-timeout", options->study.ranks_patience,
                    "under mpirun: seconds without a sign of a rank after which the job ends (default: 60)")
        .within(1, 86400)
        .option_text("SECONDS");
    command
        .add_option("--ranks-per-run", options->ranks_of_run,
                    "under mpirun: ranks that train each run together, as shards of its batches (default: 1)")
        .within(1, 4096)
        .option_text("N");
    command.add_flag("--mixed-processors", options->study.mixed_processors,
                     "with --ranks-per-run: allow ranks of several kinds of processor (other bits)");
    add_memory_option(command, options->memory);
    command.callback([options] { train(*options); });
}

}  // namespace jevrin::app
