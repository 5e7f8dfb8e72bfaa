#include "materials_view.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/batch_script_result.hpp"
#include "jevrin/results/check_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct SlurmOptions {
    BatchScriptSettings settings;
    std::filesystem::path plan;
    std::filesystem::path ledger = "ledger";
    std::filesystem::path file;
    bool json = false;
};

void write_script(SlurmOptions options) {
    BatchScriptSettings& settings = options.settings;
    if (settings.array > 0 && settings.ranks > 0)
        throw InputError("--ranks makes an MPI job and --array an array of tasks; name one of them");
    const CheckResult checked = report_check(*gather_with_view(read_plan(options.plan), options.ledger));
    const std::filesystem::path plan = std::filesystem::absolute(options.plan).lexically_normal();
    const std::string ledger = std::filesystem::absolute(options.ledger).lexically_normal().string();
    settings.directory = plan.parent_path();
    settings.command = {std::filesystem::read_symlink("/proc/self/exe").string(),
                        "train",
                        plan.filename().string(),
                        "--ledger",
                        ledger,
                        "--threads",
                        std::to_string(settings.threads)};
    if (options.file.empty()) options.file = plan.stem().string() + ".sbatch";
    std::error_code error;
    if (std::filesystem::exists(options.file, error))
        throw InputError(
            fmt::format("{}: this file exists and is not overwritten; name another with --script",
                        printable(options.file.string())));
    const BatchScript script = slurm_script(checked.plan, checked.check, settings);
    write_file(options.file, script.text);
    present(BatchScriptResult{script, settings, checked.check.runs, options.file},
            {.json = options.json,
             .written = {options.file},
             .next = fmt::format("\nsubmit it: sbatch {}; follow it: jevrin watch --ledger {}\n",
                                 printable(options.file.string()), printable(ledger))});
}

}  // namespace

void add_slurm(Command& command) {
    auto options = std::make_shared<SlurmOptions>();
    BatchScriptSettings& settings = options->settings;
    add_plan_option(command, options->plan);
    add_ledger_option(command, options->ledger);
    command.add_option("--script", options->file, "the file to write (default: PLAN with the ending .sbatch)")
        .type_name("FILE");
    command
        .add_option("--ranks", settings.ranks,
                    "an MPI job of so many ranks (default: as many as runs, up to 16)")
        .within(1, 100000)
        .option_text("N");
    command
        .add_option(
            "--array", settings.array,
            "instead an array of so many tasks; the ledger must be on a file system with working locks")
        .within(1, 100000)
        .option_text("N");
    command.add_option("--threads", settings.threads, "threads of each rank or task (default: 1)")
        .within(1, 1024)
        .option_text("N");
    command.add_option("--hours", settings.hours, "time limit (default: twice the estimate of 'check')")
        .within(0.01, 10000.0)
        .option_text("HOURS");
    command
        .add_option("--lead", settings.lead,
                    "seconds before the time limit at which all is saved and queued again (default: 120)")
        .within(10, 86400)
        .option_text("SECONDS");
    command
        .add_option("--launch", settings.launch,
                    "what starts the ranks, such as \"srun --mpi=pmix\" (default: mpirun)")
        .option_text("COMMAND");
    command
        .add_option("--option", settings.options,
                    "an option of sbatch for this site, such as partition=long (may be repeated)")
        .option_text("OPTION")
        .one_each_time();
    command
        .add_option("--setup", settings.setup,
                    "a shell command before training, such as \"module load openmpi\" (may be repeated)")
        .option_text("COMMAND")
        .one_each_time();
    add_json_option(command, options->json);
    command.callback([options] { write_script(*options); });
}

}  // namespace jevrin::app
