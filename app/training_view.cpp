#include "training_view.hpp"

#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/training_result.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <csignal>
#include <optional>

namespace jevrin::app {
namespace {

std::atomic<bool> stop_asked{false};

// A second signal does not wait for what is being saved.
void ask_to_stop(int) {
    if (stop_asked.exchange(true)) ::_exit(130);
}

// While this exists, SIGINT and SIGTERM ask a training to save and stop.
class StopSignals {
  public:
    StopSignals() {
        stop_asked = false;
        for (std::size_t i = 0; i < signals.size(); ++i) before_[i] = std::signal(signals[i], ask_to_stop);
    }
    ~StopSignals() {
        for (std::size_t i = 0; i < signals.size(); ++i) std::signal(signals[i], before_[i]);
    }
    StopSignals(const StopSignals&) = delete;
    StopSignals& operator=(const StopSignals&) = delete;

  private:
    static constexpr std::array<int, 2> signals = {SIGINT, SIGTERM};
    std::array<void (*)(int), 2> before_{};
};

std::string left(double seconds) {
    return seconds < 0 ? "" : spoken_seconds(seconds) + " left";
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
        bar.clear();
        if (run.state == RunState::failed)
            print(fmt::format("{}  {}: {}\n", padded(run.name(), name_width),
                              highlighted("FAILED", "#d70000"), run.reason));
    };
    callbacks.progress = [&](const RunRecord& run, const StudyPosition& at) {
        const auto share = [](auto done, auto all) {
            return static_cast<double>(done) / static_cast<double>(std::max<std::int64_t>(1, all));
        };
        const double of_epoch = share(at.batch, at.batches);
        bar.show({{"study", at.study_share,
                   fmt::format("run {} of {}  {}", at.run, at.runs, left(at.seconds_left))},
                  {"run", (static_cast<double>(at.epochs_done) + of_epoch) / static_cast<double>(at.epochs),
                   fmt::format("{}, epoch {} of {}  {}", run.name(), std::min(at.epochs, at.epochs_done + 1),
                               at.epochs, left(at.run_seconds_left))},
                  {"epoch", of_epoch,
                   fmt::format("batch {} of {}  {}", at.batch, at.batches, left(at.epoch_seconds_left))}});
    };
    callbacks.stop_requested = [] { return stop_asked.load(); };
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
