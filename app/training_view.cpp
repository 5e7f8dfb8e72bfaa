#include "training_view.hpp"

#include "output.hpp"
#include "stop_signals.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/training_result.hpp"

#include <fmt/format.h>

#include <map>
#include <optional>
#include <utility>

namespace jevrin::app {
namespace {

std::string left(double seconds) {
    return seconds < 0 ? "" : spoken_seconds(seconds) + " left";
}

constexpr std::size_t most_runs_shown = 4;  // of those that are trained at once

// The study, as its last news has it, and the runs in training; of one alone its epoch, too.
std::vector<Progress> bars_of(const std::map<std::string, StudyPosition>& running,
                              const StudyPosition& last) {
    const auto share = [](auto done, auto all) {
        return static_cast<double>(done) / static_cast<double>(std::max<std::int64_t>(1, all));
    };
    const bool alone = running.size() == 1;
    std::int64_t furthest = last.run;
    for (const auto& [name, at] : running) furthest = std::max(furthest, at.run);
    std::vector<Progress> bars = {
        {"study", last.study_share,
         fmt::format("run {} of {}{}  {}", furthest, last.runs,
                     alone ? "" : fmt::format(", {} at once", running.size()), left(last.seconds_left))}};
    for (const auto& [name, at] : running) {
        if (bars.size() > most_runs_shown) break;
        const double of_epoch = share(at.batch, at.batches);
        bars.push_back({"run",
                        (static_cast<double>(at.epochs_done) + of_epoch) / static_cast<double>(at.epochs),
                        fmt::format("{}, epoch {} of {}  {}", name, std::min(at.epochs, at.epochs_done + 1),
                                    at.epochs, left(at.run_seconds_left))});
        if (alone)
            bars.push_back(
                {"epoch", of_epoch,
                 fmt::format("batch {} of {}  {}", at.batch, at.batches, left(at.epoch_seconds_left))});
    }
    return bars;
}

}  // namespace

std::string epoch_line(const RunRecord& run, const EpochRecord& epoch, Metric metric, bool best,
                       std::size_t name_width) {
    return fmt::format(
        "{}  epoch {:>3}/{}  training loss {:.3f}  validation loss {:.3f}  {} {:.3f}  {:>7}{}\n",
        padded(run.name(), name_width), epoch.epoch, run.planned_epochs, epoch.training_loss,
        epoch.validation_loss, spoken_metric(metric), validation_score(epoch, metric),
        spoken_seconds(epoch.seconds), best ? "  " + highlighted("best", "#008700") : std::string());
}

void help_train_until_done(Ranks& ranks, HelpOptions options) {
    const StopSignals signals;
    options.stop_requested = StopSignals::asked;
    try {
        help_train(ranks, options);
    } catch (const WorkError& error) {
        warn(fmt::format("rank {}: {}", ranks.rank(), error.what()));
        ranks.abandon();
        throw;
    }
}

StudySummary train_with_view(const Plan& plan, const std::filesystem::path& ledger_directory,
                             const StudyOptions& options) {
    // There is nothing to save before the first run begins.
    std::optional<StopSignals> signals;
    std::size_t name_width = 0;
    for (const Candidate& candidate : plan.candidates)
        name_width = std::max(name_width, display_width(candidate.name));
    for (const std::uint64_t seed : plan.seeds)
        name_width =
            std::max(name_width, display_width(plan.candidates.front().name) + std::to_string(seed).size());
    // After the name: the seed, and the fold when there are several.
    name_width += plan.images.folds.size() > 1 ? 4 : 2;
    ProgressBars bar;
    std::map<std::string, StudyPosition> running;  // by the run's name
    std::size_t bars_shown = 0;
    StudyCallbacks callbacks;
    callbacks.preparing = bar.named();
    callbacks.warning = [&](const std::string& message) {
        bar.clear();
        warn(message);
    };
    callbacks.begun = [&](const StudyOutlook& outlook) {
        signals.emplace();
        bar.clear();
        print(to_text(outlook));
        if (outlook.failed > 0) print("--retry trains those that failed again\n");
    };
    callbacks.run_warning = [&](const RunRecord& run, const std::string& message) {
        bar.clear();
        warn(fmt::format("{}, epoch {}: {}", run.name(), run.epochs, message));
    };
    callbacks.run_started = [&](const RunRecord& run, std::int64_t resumed) {
        if (resumed == 0) return;
        bar.clear();
        print(fmt::format("{}  resumed after epoch {}\n", padded(run.name(), name_width), resumed));
    };
    callbacks.epoch_finished = [&](const RunRecord& run, const EpochRecord& epoch, bool best) {
        bar.clear();
        print(epoch_line(run, epoch, plan.metric, best, name_width));
    };
    callbacks.run_finished = [&](const RunRecord& run) {
        running.erase(run.name());
        bar.clear();
        if (run.state == RunState::failed)
            print(fmt::format("{}  {}: {}\n", padded(run.name(), name_width),
                              highlighted("FAILED", "#d70000"), run.reason));
    };
    callbacks.progress = [&](const RunRecord& run, const StudyPosition& at) {
        running[run.name()] = at;
        const std::vector<Progress> bars = bars_of(running, at);
        if (std::exchange(bars_shown, bars.size()) != bars.size()) bar.clear();
        bar.show(bars);
    };
    callbacks.stop_requested = StopSignals::asked;
    try {
        const StudySummary summary = train_study(plan, ledger_directory, callbacks, options);
        signals.reset();
        bar.clear();
        for (const std::string& message : study_warnings(Ledger::open(ledger_directory), summary.study, plan))
            warn(message);
        return summary;
    } catch (const Interrupted&) {
        bar.clear();
        throw Interrupted(
            fmt::format("stopped; completed epochs are saved in {}; the same command continues "
                        "training",
                        printable(ledger_directory.string())));
    }
}

}  // namespace jevrin::app
