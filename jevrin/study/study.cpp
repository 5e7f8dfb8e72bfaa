#include "jevrin/study/study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/file_system.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_store.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/feature_pools.hpp"
#include "jevrin/study/ledger_run_keeper.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/rank_service.hpp"
#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/run_execution.hpp"
#include "jevrin/study/run_team.hpp"
#include "jevrin/study/runs_at_once.hpp"
#include "jevrin/study/shard_team.hpp"
#include "jevrin/study/study_reporter.hpp"
#include "jevrin/study/study_runs.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <map>
#include <memory>
#include <numeric>
#include <optional>
#include <thread>
#include <utility>

namespace jevrin::inline v1 {
namespace {

// A study in the ledger, with the splits of its images by fold; 0: without folds, the split of the study.
struct DeclaredStudy {
    StudyId id;
    std::map<std::int64_t, SplitId> splits = {{0, SplitId{}}};
};

DeclaredStudy declare(LedgerWriter& writer, const Materials& materials) {
    const Plan& plan = materials.plan;
    const PartsSettings& parts = *plan.images.parts;
    DeclaredStudy declared{
        .id = writer.put_study(plan.name, plan.metric, materials.set, materials.parts, parts.key())};
    writer.put_margin(declared.id, plan.margin, plan.most_seeds);
    if (plan.images.folds.size() > 1)
        for (const std::int64_t fold : plan.images.folds)
            declared.splits[fold] =
                writer.put_split(declared.id, materials.set, materials.parts.with_fold(fold), parts.key());
    return declared;
}

// Which runs of a plan are missing, and who trains them.
class StudyScheduler {
  public:
    StudyScheduler(LedgerWriter& writer, const Materials& materials, const StudyCallbacks& callbacks,
                   const StudyOptions& options)
        : writer_(writer),
          ledger_(writer.ledger()),
          materials_(materials),
          callbacks_(callbacks),
          options_(options),
          pools_(materials, options.stores == Stores::kept
                                ? std::optional(Ledger::stores(ledger_.directory()))
                                : std::nullopt) {}

    // Records the study, and finds what is missing of it.
    void prepare(std::vector<PlannedRun> planned) {
        const DeclaredStudy declared = declare(writer_, materials_);
        summary_.study = declared.id;
        std::vector<RunId> ids = put_runs(declared, planned);
        const std::int64_t at_once = find_missing(std::move(planned), ids);
        const std::int64_t ranks = options_.ranks == nullptr ? 1 : options_.ranks->size();
        reporter_.emplace(runs_->runs(), callbacks_, static_cast<std::size_t>(at_once * ranks));
        if (ranks > 1) service_.emplace(*options_.ranks, materials_, options_, writer_, *runs_, *reporter_);
        if (options_.team != nullptr) shared_.emplace(*options_.team);
        team_.emplace(static_cast<std::size_t>(at_once), callbacks_.stop_requested,
                      service_ ? std::function<bool()>([this] { return serve(); }) : nullptr);
    }

    StudySummary carry_out() {
        // Members write through connections of their own, opened before any of them writes: opening removes
        // what writers that died have left.
        std::vector<LedgerWriter> own;
        while (team_->members() + (service_ ? 1 : 0) > 1 && own.size() < team_->members())
            own.push_back(LedgerWriter::open(ledger_.directory()));
        try {
            team_->carry_out([&](std::size_t member) {
                train_what_is_left(own.empty() ? writer_ : own[member], static_cast<int>(member));
            });
        } catch (const std::exception& error) {
            if (service_) service_->dismiss(error.what());
            throw;
        }
        return summary_;
    }

  private:
    std::vector<RunId> put_runs(const DeclaredStudy& declared, std::vector<PlannedRun>& planned) {
        std::vector<RunId> ids(planned.size());
        // The ledger lists candidates as it first saw them: as the plan has them.
        std::vector<std::size_t> order(planned.size());
        std::iota(order.begin(), order.end(), 0);
        std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            return planned[a].candidate < planned[b].candidate;
        });
        for (const std::size_t place : order) {
            PlannedRun& run = planned[place];
            run.identity.split = declared.splits.at(run.fold);
            std::int64_t superseded = 0;
            ids[place] = writer_.put_run(summary_.study, run.identity, &superseded);
            summary_.superseded += superseded;
        }
        return ids;
    }

    // Returns how many of them this process trains at once.
    std::int64_t find_missing(std::vector<PlannedRun> planned, const std::vector<RunId>& ids) {
        StudyOutlook outlook{.superseded = summary_.superseded};
        std::vector<PlannedRun> to_train;
        std::vector<RunId> ids_to_train;
        for (std::size_t i = 0; i < planned.size(); ++i) {
            const RunRecord run = ledger_.run_by_id(ids[i]);
            if (StudyRuns::is_finished(ledger_, run)) {
                ++outlook.finished;
            } else if (run.state == RunState::failed && !options_.retry_failed) {
                ++outlook.failed;
            } else {
                ++outlook.to_train;
                outlook.resumed += run.epochs > 0 ? 1 : 0;
                to_train.push_back(std::move(planned[i]));
                ids_to_train.push_back(ids[i]);
            }
        }
        summary_.already_finished = outlook.finished;
        summary_.failed_before = outlook.failed;
        if (options_.ranks != nullptr) outlook.ranks = options_.ranks->size();
        if (options_.team != nullptr) require_shards(to_train, options_.team->size());
        outlook.at_once = options_.team != nullptr
                              ? 1
                              : runs_at_once(require_memory_of(materials_, to_train), options_.at_once,
                                             static_cast<int>(outlook.ranks));
        runs_.emplace(std::move(to_train), std::move(ids_to_train), options_.retry_failed, summary_,
                      [this](std::size_t place) { tell([this, place] { reporter_->over(place); }); });
        if (callbacks_.begun) callbacks_.begun(outlook);
        return outlook.at_once;
    }

    static void require_shards(const std::vector<PlannedRun>& runs, int ranks) {
        for (const PlannedRun& run : runs)
            if (run.candidate->training.shards < ranks)
                throw InputError(
                    fmt::format("{}: candidate '{}' has {}, and {} ranks are to train each of its runs "
                                "together; set 'shards' in "
                                "[training] to {} or a multiple of it",
                                run.candidate->place, printable(run.candidate->name),
                                plural(run.candidate->training.shards, "shard"), ranks, ranks));
    }

    // Carried out by the thread that called carry_out(): at once when that is the calling one.
    void tell(std::function<void()> what) { team_->tell(std::move(what)); }

    // The other ranks, when there are some.
    bool serve() {
        try {
            if (team_->stop_requested()) service_->ask_to_stop();
            return service_->turn();
        } catch (...) {
            // A run that is shared with a rank that is lost would wait for it.
            if (shared_) shared_->link().give_up();
            throw;
        }
    }

    void train_what_is_left(LedgerWriter& writer, int member) {
        const RunWorker self{.rank = 0, .thread = member};
        const TeamEnd end{shared_ ? &*shared_ : nullptr};
        for (;;) {
            if ((team_->members() > 1 || service_) && team_->stop_requested())
                throw Interrupted("stopped before the next run began");
            std::optional<ClaimedRun> taken = runs_->take(writer, self);
            if (taken) {
                train(*taken, writer, self);
            } else if (runs_->all_done()) {
                return;
            } else {
                constexpr std::chrono::milliseconds between_looks{20};
                team_->rest([&] { std::this_thread::sleep_for(between_looks); });
            }
        }
    }

    void train(ClaimedRun& taken, LedgerWriter& writer, RunWorker self) {
        const std::size_t place = taken.place;
        bool moves = false;
        LedgerRunKeeper keeper(writer, taken.claim, taken.record.id,
                               item_ids(materials_, validation_items(materials_, runs_->planned(place))),
                               [&](const EpochNote& note) {
                                   moves = runs_->should_move(
                                       place, self, runs_->planned(place).epochs - note.epoch.epoch);
                                   return !moves;
                               });
        try {
            if (shared_) {
                LeadingKeeper leading(keeper, *shared_);
                shared_->begin(runs_->planned(place));
                execute(place, leading);
            } else {
                execute(place, keeper);
            }
            runs_->finish(place);
        } catch (const RunError& error) {
            runs_->fail(place, writer, error.what());
        } catch (const Interrupted&) {
            if (!moves) throw;
            { const ClaimedRun released = std::move(taken); }  // whoever takes it claims it
            runs_->leave(place);
            return;
        }
        tell([this, run = writer.ledger().run_by_id(taken.record.id)] { reporter_->ended(run); });
    }

    void execute(std::size_t place, RunKeeper& keeper) {
        const PlannedRun& planned = runs_->planned(place);
        FeaturePool* pool = pools_.pool_for(planned);
        // What is told faster than it is heard is left out.
        const auto reporting = std::make_shared<std::atomic<bool>>(false);
        RunEvents events;
        events.started = [&](const RunRecord& run, std::int64_t resumed) {
            tell([this, place, run, resumed] { reporter_->started(place, run, resumed); });
        };
        events.progress = [&](const RunRecord& run, std::int64_t batch, std::int64_t batches) {
            team_->pass();
            if (!callbacks_.progress || reporting->exchange(true)) return;
            tell([this, place, run, batch, batches, reporting] {
                reporter_->batch(place, run, batch, batches);
                *reporting = false;
            });
        };
        events.epoch_finished = [&](const RunRecord& run, const EpochNote& note) {
            tell([this, place, run, note] { reporter_->epoch(place, run, note); });
        };
        events.warning = [&](const std::string& message) {
            tell([this, message] { reporter_->warn(message); });
        };
        events.stop_requested = [&] { return team_->stop_requested(); };
        events.alone = [&](const std::function<void()>& work) { team_->alone(work); };
        RunExecution(keeper, materials_, planned,
                     {.pool = pool, .keep_epochs = options_.keep_epochs, .link = options_.team}, events)
            .carry_out();
        if (pool != nullptr && !pool->accepts()) tell([this] { warn_about_features(); });
    }

    void warn_about_features() {
        if (std::exchange(warned_about_features_, true)) return;
        reporter_->warn(
            fmt::format("{}: features cannot be stored (disk full, no write permission, or another process "
                        "keeps them); they are computed again in the next training",
                        printable(Ledger::stores(ledger_.directory()).string())));
    }

    LedgerWriter& writer_;
    const Ledger& ledger_;
    const Materials& materials_;
    const StudyCallbacks& callbacks_;
    const StudyOptions& options_;
    FeaturePools pools_;
    StudySummary summary_;  // shared by all members
    std::optional<StudyRuns> runs_;
    std::optional<RunTeam> team_;
    std::optional<ShardTeam> shared_;
    // Of the thread that tells.
    std::optional<StudyReporter> reporter_;
    std::optional<RankService> service_;
    bool warned_about_features_ = false;
};

void warn_about(const Materials& materials, const std::filesystem::path& ledger,
                const std::function<void(const std::string&)>& warning) {
    const auto& problems = materials.set.problems;
    if (!problems.empty()) {
        constexpr std::size_t shown = 3;
        const std::filesystem::path file = ledger / "left-out.csv";
        write_problems(problems, file);
        std::string list;
        for (std::size_t i = 0; i < std::min(problems.size(), shown); ++i)
            list +=
                fmt::format("{}{}: {}", i == 0 ? "" : "; ", printable(problems[i].file), problems[i].problem);
        warning(fmt::format("{} unreadable image{} left out ({}{}); {} lists all", problems.size(),
                            problems.size() == 1 ? "" : "s", list, problems.size() > shown ? "; ..." : "",
                            printable(file.string())));
    }
    for (const auto* notes : {&materials.set.notes, &materials.parts.notes})
        for (const std::string& note : *notes) warning(note);
    if (const FileSystem on = file_system_of(ledger); !on.local_locks.empty())
        warning(
            fmt::format("{} is on a network file system ({}) whose locks hold on one machine alone ({}): "
                        "never let two machines "
                        "write there at the same time; have it mounted with locks, or keep the ledger on a "
                        "disk of one machine",
                        printable(ledger.string()), on.type, on.local_locks));
    if (materials.store && !materials.store->accepts())
        warning(fmt::format(
            "{}: prepared images cannot be stored (disk full, no write permission, or another process "
            "keeps them); they are kept for this training alone, and fitted again in the next",
            printable(Ledger::stores(ledger).string())));
}

}  // namespace

StudySummary train_study(const Plan& plan, const std::filesystem::path& ledger_directory,
                         const StudyCallbacks& callbacks, const StudyOptions& options) {
    Ranks* others = options.ranks;
    const auto preparing = [&](const std::string& what, std::int64_t done, std::int64_t total) {
        if (callbacks.preparing) callbacks.preparing(what, done, total);
        if (callbacks.stop_requested && callbacks.stop_requested())
            throw Interrupted("stopped while the images were prepared; what was finished before is kept");
    };
    try {
        // One of an earlier version is brought up to date before it is asked for places.
        if (Ledger::exists(ledger_directory)) LedgerWriter::open(ledger_directory);
        const std::shared_ptr<const Materials> materials =
            gather_materials(plan, ledger_directory, preparing, options.stores);
        std::vector<PlannedRun> runs = select_runs(plan_runs(*materials), options.selection);
        LedgerWriter ledger = LedgerWriter::open(ledger_directory);
        if (callbacks.warning) warn_about(*materials, ledger_directory, callbacks.warning);
        StudyScheduler scheduler(ledger, *materials, callbacks, options);
        scheduler.prepare(std::move(runs));
        others = nullptr;  // from now on they are asked to end, and do
        return scheduler.carry_out();
    } catch (...) {
        if (others != nullptr) send_home(*others);
        throw;
    }
}

void declare_study(const Plan& plan, const std::filesystem::path& ledger_directory,
                   const MaterialsProgress& progress) {
    if (Ledger::exists(ledger_directory)) LedgerWriter::open(ledger_directory);
    const std::shared_ptr<const Materials> materials = gather_materials(plan, ledger_directory, progress);
    LedgerWriter writer = LedgerWriter::open(ledger_directory);
    declare(writer, *materials);
}

std::vector<std::string> study_warnings(const Ledger& ledger, StudyId study, const Plan& plan) {
    const std::string rate = "training.optimiser.learning_rate";
    std::map<std::string, std::map<double, std::pair<double, int>>> scores;  // by origin, rate: sum, runs
    for (const RunRecord& run : ledger.runs(study)) {
        const auto candidate = std::find_if(plan.candidates.begin(), plan.candidates.end(),
                                            [&](const Candidate& c) { return c.name == run.candidate; });
        if (candidate == plan.candidates.end() || run.state != RunState::finished || !run.best) continue;
        if (std::none_of(candidate->varied.begin(), candidate->varied.end(),
                         [&](const VariedSetting& setting) { return setting.path == rate; }))
            continue;
        auto& [sum, runs] = scores[run.origin][candidate->training.optimiser.learning_rate];
        sum += validation_score(*run.best, plan.metric);
        ++runs;
    }
    std::vector<std::string> messages;
    for (const auto& [origin, by_rate] : scores) {
        if (by_rate.size() < 3) continue;  // of two, the better one always lies at an edge
        const auto mean = [](const auto& entry) { return entry.second.first / entry.second.second; };
        const auto best = std::max_element(by_rate.begin(), by_rate.end(),
                                           [&](const auto& a, const auto& b) { return mean(a) < mean(b); });
        const bool lowest = best == by_rate.begin();
        if (!lowest && std::next(best) != by_rate.end()) continue;
        messages.push_back(
            fmt::format("the best learning rate of '{}' is {}, the {} that was tried: the best one may lie "
                        "beyond; add {} ones",
                        origin, best->first, lowest ? "lowest" : "highest", lowest ? "lower" : "higher"));
    }
    return messages;
}

}  // namespace jevrin::inline v1
