#include "training_view.hpp"

#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <atomic>
#include <csignal>

namespace jevrin::app {
namespace {

std::atomic<bool> stop_asked{false};

void ask_to_stop(int) {
    stop_asked = true;
}

std::string epoch_line(const RunRecord& run, const EpochRecord& epoch, Metric metric, bool best,
                       std::size_t name_width) {
    return fmt::format("{}  epoch {:>3}/{}  loss {:.4f} training {:.4f} validation  {} {:.4f}  {:>7}{}\n",
                       padded(run.name(), name_width), epoch.epoch, run.planned_epochs, epoch.training_loss,
                       epoch.validation_loss, metric_name(metric), score(epoch.validation, metric),
                       fmt::format("{:.2f} s", epoch.seconds), best ? "  best" : "");
}

}  // namespace

StudySummary train_with_view(const Plan& plan, const std::filesystem::path& ledger_directory) {
    stop_asked = false;
    std::signal(SIGINT, ask_to_stop);
    std::signal(SIGTERM, ask_to_stop);
    std::size_t name_width = 0;
    for (const Candidate& candidate : plan.candidates)
        name_width = std::max(name_width,
                              display_width(candidate.name) + 1 + std::to_string(plan.seeds.back()).size());
    ProgressBar bar;
    StudyCallbacks callbacks;
    callbacks.preparing = [&](const std::string& what, std::int64_t done, std::int64_t total) {
        bar.show(what, static_cast<double>(done) / static_cast<double>(total), "");
    };
    callbacks.warning = [&](const std::string& message) {
        bar.clear();
        warn(message);
    };
    callbacks.run_started = [&](const RunRecord& run, std::int64_t resumed) {
        if (resumed == 0) return;
        bar.clear();
        print(fmt::format("{}  goes on after epoch {}\n", padded(run.name(), name_width), resumed));
    };
    callbacks.epoch_finished = [&](const RunRecord& run, const EpochRecord& epoch, bool best) {
        bar.clear();
        print(epoch_line(run, epoch, plan.metric, best, name_width));
    };
    callbacks.run_finished = [&](const RunRecord& run) {
        bar.clear();
        if (run.state == RunState::failed)
            print(fmt::format("{}  FAILED: {}\n", padded(run.name(), name_width), run.reason));
    };
    callbacks.progress = [&](const RunRecord& run, const StudyPosition& at) {
        const double of_run = (static_cast<double>(at.epochs_done) + at.batch_share) /
                              static_cast<double>(std::max<std::int64_t>(1, at.epochs));
        const double share = (static_cast<double>(at.run - 1) + of_run) / static_cast<double>(at.runs);
        bar.show(fmt::format("run {}/{} {}", at.run, at.runs, run.name()), share,
                 at.seconds_left < 0 ? "" : spoken_seconds(at.seconds_left) + " left");
    };
    callbacks.stop_requested = [] { return stop_asked.load(); };
    const auto restore_signals = [] {
        std::signal(SIGINT, SIG_DFL);
        std::signal(SIGTERM, SIG_DFL);
    };
    try {
        const StudySummary summary = train_study(plan, ledger_directory, callbacks);
        restore_signals();
        return summary;
    } catch (const Interrupted&) {
        restore_signals();
        bar.clear();
        throw Interrupted(
            fmt::format("stopped; the epochs finished so far are kept in {}; the same command goes on from "
                        "there",
                        printable(ledger_directory.string())));
    }
}

}  // namespace jevrin::app
