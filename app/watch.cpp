#include "commands.hpp"
#include "output.hpp"
#include "runs_table.hpp"
#include "training_view.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <chrono>
#include <map>
#include <thread>

namespace jevrin::app {
namespace {

struct WatchOptions {
    LedgerOptions ledger;
    bool once = false;
};

// A study at one moment.
struct Moment {
    StudyRecord study;
    std::vector<RunRecord> runs;
    std::int64_t in_training = 0;
    std::int64_t open = 0;  // neither finished nor failed
    double seconds_left = 0.0;
    double share = 0.0;  // of all epochs
};

Moment look(const Ledger& ledger, const StudyRecord& study) {
    Moment moment{.study = study, .runs = ledger.runs(study.id)};
    std::map<std::string, std::pair<double, double>> seen;  // by candidate: seconds, epochs
    for (const RunRecord& run : moment.runs) {
        seen[run.candidate].first += run.seconds;
        seen[run.candidate].second += static_cast<double>(run.epochs);
    }
    double done = 0.0;
    double all = 0.0;
    for (const RunRecord& run : moment.runs) {
        const bool over = run.state == RunState::finished || run.state == RunState::failed;
        moment.in_training += run.claimed ? 1 : 0;
        moment.open += over ? 0 : 1;
        const std::int64_t planned = over ? run.epochs : run.planned_epochs;
        done += static_cast<double>(run.epochs);
        all += static_cast<double>(planned);
        const auto& [seconds, epochs] = seen[run.candidate];
        if (over) continue;
        if (epochs == 0.0) moment.seconds_left = -1.0;
        if (moment.seconds_left >= 0.0)
            moment.seconds_left += static_cast<double>(planned - run.epochs) * seconds / epochs;
    }
    moment.share = all > 0.0 ? done / all : 0.0;
    return moment;
}

Json to_json(const Moment& moment) {
    Json json = {{"study", moment.study.name},
                 {"runs", moment.runs.size()},
                 {"open", moment.open},
                 {"in_training", Json::array()},
                 {"seconds_left", moment.seconds_left < 0 ? Json() : Json(moment.seconds_left)}};
    for (const RunRecord& run : moment.runs)
        if (run.claimed)
            json["in_training"].push_back(
                {{"run", run.name()}, {"epochs", run.epochs}, {"planned_epochs", run.planned_epochs}});
    return json;
}

// What happened between two looks.
class Follower {
  public:
    explicit Follower(const Ledger& ledger) : ledger_(ledger) {}

    void tell(const Moment& moment, ProgressBars& bars) {
        for (const RunRecord& run : moment.runs) width_ = std::max(width_, display_width(run.name()));
        for (const RunRecord& run : moment.runs) {
            Told& told = told_[run.id];
            if (run.epochs < told.epochs) told = {};  // begun again
            if (!first_ && run.epochs > told.epochs)
                for (const EpochRecord& epoch : ledger_.epochs(run.id))  // the next may have ended meanwhile
                    if (epoch.epoch > told.epochs && epoch.epoch <= run.epochs) {
                        bars.clear();
                        print(epoch_line(run, epoch, moment.study.metric,
                                         run.best && run.best->epoch == epoch.epoch, width_));
                    }
            const std::vector<WarningRecord> warnings = ledger_.warnings(run.id);
            for (std::size_t i = told.warnings; i < warnings.size() && !first_; ++i) {
                bars.clear();
                warn(fmt::format("{}, epoch {}: {}", run.name(), warnings[i].epoch, warnings[i].message));
            }
            if (!first_ && run.state == RunState::failed && told.state != RunState::failed) {
                bars.clear();
                print(fmt::format("{}  FAILED: {}\n", padded(run.name(), width_), run.reason));
            }
            told = {run.epochs, warnings.size(), run.state};
        }
        first_ = false;
    }

  private:
    struct Told {
        std::int64_t epochs = 0;
        std::size_t warnings = 0;
        RunState state = RunState::waiting;
    };
    const Ledger& ledger_;
    std::map<RunId, Told> told_;
    std::size_t width_ = 0;
    bool first_ = true;
};

std::string summary(const Moment& moment) {
    return fmt::format("study '{}': {} of {} over, {} in training{}\n", moment.study.name,
                       static_cast<std::int64_t>(moment.runs.size()) - moment.open,
                       plural(static_cast<std::int64_t>(moment.runs.size()), "run"), moment.in_training,
                       moment.open > 0 && moment.seconds_left >= 0
                           ? fmt::format(", about {} of training left", spoken_seconds(moment.seconds_left))
                           : "");
}

void follow(const OpenStudy& open) {
    ProgressBars bars;
    Follower follower(open.ledger);
    constexpr int patience = 4;  // looks without anybody training
    for (int idle = 0; idle < patience;) {
        const Moment moment = look(open.ledger, open.study);
        if (moment.open == 0) break;
        follower.tell(moment, bars);
        std::vector<Progress> lines = {
            {"study", moment.share,
             moment.seconds_left < 0 ? "" : spoken_seconds(moment.seconds_left) + " left"}};
        for (const RunRecord& run : moment.runs)
            if (run.claimed && lines.size() < 5)
                lines.push_back({run.name(),
                                 static_cast<double>(run.epochs) /
                                     static_cast<double>(std::max<std::int64_t>(1, run.planned_epochs)),
                                 fmt::format("epoch {} of {}", run.epochs, run.planned_epochs)});
        bars.show(lines);
        idle = moment.in_training > 0 ? 0 : idle + 1;
        std::this_thread::sleep_for(std::chrono::milliseconds(500));
    }
    bars.clear();
    const Moment last = look(open.ledger, open.study);
    follower.tell(last, bars);
    print(summary(last));
    if (last.open > 0) print("nobody is training it now; 'jevrin train PLAN' goes on\n");
}

void watch(const WatchOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const Moment moment = look(open.ledger, open.study);
    if (options.ledger.json) {
        print_json(to_json(moment));
        return;
    }
    print(summary(moment));
    if (options.once)
        print("\n" + runs_table(moment.runs, moment.study.metric));
    else if (moment.open > 0)
        follow(open);
}

}  // namespace

void add_watch(Command& command) {
    auto options = std::make_shared<WatchOptions>();
    command.add_flag("--once", options->once, "tell how it stands now, and end");
    add_ledger_options(command, options->ledger);
    command.callback([options] { watch(*options); });
}

}  // namespace jevrin::app
