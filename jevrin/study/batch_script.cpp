#include "jevrin/study/batch_script.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/base/threads.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t usual_ranks = 16;
// Program, libraries and the images in work.
constexpr std::int64_t base_bytes = 600'000'000;

// One word for the shell.
std::string quoted(const std::string& text) {
    std::string word = "'";
    for (const char c : text) word += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return word + "'";
}

// What a job may be called, and a file of it.
std::string job_name(const std::string& study) {
    std::string name;
    for (const char c : study)
        name += std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '.' || c == '-' ? c : '-';
    return name;
}

void require_line(const std::string& text, const char* what) {
    if (text.empty() || printable(text) != text)
        throw InputError(fmt::format("{} must be one line of text", what));
}

// Seconds on one thread: of all runs, and of the longest one.
struct Work {
    double all = 0.0;
    double longest = 0.0;
};
Work work_of(const PlanCheck& check) {
    const auto here = static_cast<double>(threads());
    Work work{.all = check.seconds * here};
    for (const CandidateCheck& candidate : check.candidates)
        work.longest = std::max(
            work.longest,
            here * (candidate.seconds_once + static_cast<double>(candidate.epochs) * candidate.epoch.sum()));
    return work;
}

}  // namespace

BatchScript slurm_script(const Plan& plan, const PlanCheck& check, const BatchScriptSettings& settings) {
    for (const std::string& option : settings.options) require_line(option, "an option of sbatch");
    for (const std::string& line : settings.setup) require_line(line, "a set-up command");
    require_line(settings.launch, "the command that starts the ranks");
    const bool array = settings.array > 0;
    BatchScript script;
    script.processes = array                ? settings.array
                       : settings.ranks > 0 ? settings.ranks
                                            : std::clamp<std::int64_t>(check.runs, 1, usual_ranks);
    const std::int64_t share = (check.runs + script.processes - 1) / script.processes;
    const std::int64_t at_once = std::clamp<std::int64_t>(share, 1, settings.threads);
    std::int64_t largest = 0;
    for (const CandidateCheck& candidate : check.candidates)
        largest = std::max(largest, candidate.memory_bytes);
    script.bytes = base_bytes + at_once * largest;
    const Work work = work_of(check);
    const auto thread_count = static_cast<double>(settings.threads);
    script.seconds = std::max(work.longest / thread_count * static_cast<double>(at_once),
                              work.all / thread_count / static_cast<double>(script.processes));
    constexpr std::int64_t shortest = 10;  // minutes
    script.limit =
        settings.hours > 0.0
            ? std::max<std::int64_t>(1, std::llround(settings.hours * 60.0))
            : std::max(shortest, static_cast<std::int64_t>(std::ceil(2.0 * script.seconds / 300.0)) * 5);
    if (60 * script.limit <= settings.lead)
        throw InputError(
            fmt::format("the time limit of {} is no longer than the {} before it at which "
                        "everything is saved; name a longer one",
                        spoken_seconds(60.0 * static_cast<double>(script.limit)),
                        spoken_seconds(static_cast<double>(settings.lead))));
    const std::int64_t megabytes = script.bytes / settings.threads / 1'000'000 + 1;
    const std::string name = job_name(plan.name);

    std::string& text = script.text;
    text = fmt::format(
        "#!/bin/bash\n"
        "# Trains the study '{}': {}, {}.\n"
        "# Submit it with sbatch. Before its time limit it saves and queues itself again; submitted\n"
        "# again after an end of any kind it continues where it was.\n",
        printable(plan.name), plural(check.runs, "run"),
        array ? fmt::format("by {} that share the ledger", plural(script.processes, "task"))
              : fmt::format("on {} of an MPI job", plural(script.processes, "rank")));
    const auto option = [&](const std::string& line) { text += "#SBATCH --" + line + "\n"; };
    option("job-name=" + name);
    option(array ? fmt::format("array=1-{}", settings.array) : fmt::format("ntasks={}", script.processes));
    if (array) option("ntasks=1");
    option(fmt::format("cpus-per-task={}", settings.threads));
    option(fmt::format("mem-per-cpu={}M", megabytes));
    option(fmt::format("time={}", script.limit));
    option(fmt::format("signal=B:USR1@{}", settings.lead));
    option("requeue");
    option("open-mode=append");
    option(fmt::format("output={}-{}.log", name, array ? "%A-%a" : "%j"));
    for (const std::string& line : settings.options) option(line);
    text += fmt::format("\ncd {} || exit 1\n", quoted(settings.directory.string()));
    for (const std::string& line : settings.setup) text += line + "\n";
    std::string command = array ? "" : settings.launch;
    for (const std::string& word : settings.command) command += (command.empty() ? "" : " ") + quoted(word);
    text += fmt::format(
        R"sh(
# USR1 comes {} seconds before the time limit, TERM when the job is cancelled: both save what is trained.
signal=
save() {{ signal=$1; kill -USR1 "$job" 2>/dev/null; }}
trap 'save limit' USR1
trap 'save cancelled' TERM
{} &
job=$!
wait "$job"
status=$?
if [ -n "$signal" ]; then  # it ended the wait, not the job
    wait "$job"
    status=$?
fi
if [ "$status" -eq 130 ] && [ "$signal" = limit ]; then
    [ "${{SLURM_RESTART_COUNT:-0}}" -lt 100 ] && scontrol requeue "$SLURM_JOB_ID" && exit 0
    echo "saved, and not queued again; submit this script again to continue" >&2
fi
exit "$status"
)sh",
        settings.lead, command);
    return script;
}

}  // namespace jevrin::inline v1
