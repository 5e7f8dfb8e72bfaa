#include "output.hpp"
#include "training_view.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/runs_result.hpp"
#include "jevrin/results/training_result.hpp"

#include <fmt/format.h>

#include <chrono>
#include <thread>

namespace jevrin::app {
namespace {

struct WatchOptions {
    LedgerOptions ledger;
    bool once = false;
};

void tell(const StudyFollower::News& news, const StudyProgress& progress, ProgressBars& bars) {
    std::size_t width = 0;
    for (const RunRecord& run : progress.runs) width = std::max(width, display_width(run.name()));
    if (!news.epochs.empty() || !news.warnings.empty() || !news.failed.empty()) bars.clear();
    for (const auto& [run, epoch] : news.epochs)
        print(
            epoch_line(run, epoch, progress.study.metric, run.best && run.best->epoch == epoch.epoch, width));
    for (const auto& [run, warning] : news.warnings)
        warn(fmt::format("{}, epoch {}: {}", run.name(), warning.epoch, warning.message));
    for (const RunRecord& run : news.failed)
        print(fmt::format("{}  FAILED: {}\n", padded(run.name(), width), run.reason));
}

std::vector<Progress> bars_of(const StudyProgress& progress) {
    constexpr std::size_t most = 5;
    std::vector<Progress> bars = {
        {"study", progress.fraction,
         progress.seconds_left ? spoken_seconds(*progress.seconds_left) + " left" : ""}};
    for (const RunRecord& run : progress.runs)
        if (run.claimed && bars.size() < most)
            bars.push_back({run.name(),
                            static_cast<double>(run.epochs) /
                                static_cast<double>(std::max<std::int64_t>(1, run.planned_epochs)),
                            fmt::format("epoch {} of {}", run.epochs, run.planned_epochs)});
    return bars;
}

void follow(const OpenStudy& open) {
    ProgressBars bars;
    StudyFollower follower(open.ledger, open.study);
    constexpr int patience = 4;  // looks without anybody training
    for (int idle = 0; idle < patience;) {
        const StudyFollower::News news = follower.news();
        const StudyProgress progress = follower.progress();
        tell(news, progress, bars);
        if (progress.open == 0) break;
        bars.show(bars_of(progress));
        idle = progress.in_training > 0 ? 0 : idle + 1;
        std::this_thread::sleep_for(std::chrono::milliseconds(500));
    }
    bars.clear();
    const StudyFollower::News news = follower.news();
    const StudyProgress last = follower.progress();
    tell(news, last, bars);
    print(to_text(last));
    if (last.open > 0) print("no process is training this study; 'jevrin train PLAN' continues\n");
}

void watch(const WatchOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const StudyProgress progress = report_progress(open.ledger, open.study);
    present(
        progress,
        {.json = options.ledger.json,
         .next = options.once ? "\n" + runs_text(progress.runs, progress.study, form_for_terminal()) : ""});
    if (!options.ledger.json && !options.once && progress.open > 0) follow(open);
}

}  // namespace

void add_watch(Command& command) {
    auto options = std::make_shared<WatchOptions>();
    command.add_flag("--once", options->once, "print the current state and exit");
    add_ledger_options(command, options->ledger);
    command.callback([options] { watch(*options); });
}

}  // namespace jevrin::app
