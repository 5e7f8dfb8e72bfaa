#include "jevrin/study/study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_store.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/run_execution.hpp"
#include "jevrin/study/run_team.hpp"
#include "jevrin/study/runs_at_once.hpp"
#include "jevrin/study/time_left.hpp"
#include "jevrin/training/boundary_features.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <map>
#include <mutex>
#include <numeric>
#include <optional>
#include <set>
#include <tuple>
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

// Which runs of a plan are missing, and one after the other whoever is free.
class StudyScheduler {
  public:
    StudyScheduler(LedgerWriter& writer, const Materials& materials, const StudyCallbacks& callbacks,
                   const StudyOptions& options)
        : plan_(materials.plan),
          writer_(writer),
          ledger_(writer.ledger()),
          materials_(materials),
          callbacks_(callbacks),
          options_(options) {}

    StudySummary carry_out(std::vector<PlannedRun> planned) {
        const DeclaredStudy declared = declare(writer_, materials_);
        summary_.study = declared.id;
        std::vector<RunId> ids = put_runs(declared, planned);
        find_missing(planned, ids);
        time_left_.emplace(to_train_, team_->members());
        // Members write through connections of their own, opened before any of them writes: opening removes
        // what writers that died have left.
        std::vector<LedgerWriter> own;
        while (team_->members() > 1 && own.size() < team_->members())
            own.push_back(LedgerWriter::open(ledger_.directory()));
        // What others have claimed is looked at once more at the end: they may have died.
        for (int round = 0; round < 2; ++round) {
            summary_.elsewhere = 0;
            next_ = 0;
            team_->carry_out(
                [&](std::size_t member) { train_what_is_left(own.empty() ? writer_ : own[member]); });
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

    bool is_finished(const RunRecord& run) const {
        return run.state == RunState::finished && std::filesystem::exists(ledger_.model_file(run.id));
    }

    void find_missing(const std::vector<PlannedRun>& planned, const std::vector<RunId>& ids) {
        StudyOutlook outlook{.superseded = summary_.superseded};
        const Candidate* measured = nullptr;
        std::int64_t memory = 0;
        std::vector<std::int64_t> bytes;
        for (std::size_t i = 0; i < planned.size(); ++i) {
            const RunRecord run = ledger_.run_by_id(ids[i]);
            if (is_finished(run)) {
                ++outlook.finished;
            } else if (run.state == RunState::failed && !options_.retry_failed) {
                ++outlook.failed;
            } else {
                ++outlook.to_train;
                outlook.resumed += run.epochs > 0 ? 1 : 0;
                to_train_.push_back(planned[i]);
                ids_.push_back(ids[i]);
                if (measured != planned[i].candidate) memory = memory_for(planned[i]);
                measured = planned[i].candidate;
                bytes.push_back(memory);
            }
        }
        summary_.already_finished = outlook.finished;
        summary_.failed_before = outlook.failed;
        outlook.at_once = runs_at_once(std::move(bytes), options_.at_once);
        team_.emplace(static_cast<std::size_t>(outlook.at_once), callbacks_.stop_requested);
        if (callbacks_.begun) callbacks_.begun(outlook);
    }

    std::int64_t memory_for(const PlannedRun& run) const {
        const Candidate& candidate = *run.candidate;
        const auto items =
            static_cast<std::int64_t>(materials_.data_for(candidate, run.fold).parts.training.size());
        return require_candidate_memory(
            candidate,
            build_network(plan_, candidate, materials_.backbones, materials_.set.classes.size(), run.seed),
            std::min(candidate.training.batch, items));
    }

    void train_what_is_left(LedgerWriter& writer) {
        for (;;) {
            if (team_->members() > 1 && team_->stop_requested())
                throw Interrupted("stopped before the next run began");
            std::size_t place = 0;
            {
                const std::lock_guard lock(mutex_);
                if (next_ == to_train_.size()) return;
                place = next_++;
            }
            train_if_free(place, writer);
        }
    }

    // Counts in the summary, which members share.
    void count(std::int64_t StudySummary::*what) {
        const std::lock_guard lock(mutex_);
        ++(summary_.*what);
    }

    void train_if_free(std::size_t place, LedgerWriter& writer) {
        const RunId id = ids_[place];
        {
            const std::lock_guard lock(mutex_);
            if (done_.contains(id)) return;
        }
        std::optional<PlaceLock> claim = writer.claim(id);
        if (!claim) return count(&StudySummary::elsewhere);
        {
            const std::lock_guard lock(mutex_);
            done_.insert(id);
        }
        RunRecord record = writer.ledger().run_by_id(id);
        const auto skip = [&] { team_->tell([this, place] { time_left_->skip(place); }); };
        if (is_finished(record)) {
            // Another process was faster.
            count(&StudySummary::already_finished);
            return skip();
        }
        if (record.state == RunState::failed && !options_.retry_failed) {
            count(&StudySummary::failed_before);  // in another process, meanwhile
            return skip();
        }
        try {
            train(place, record, *claim, writer);
            count(&StudySummary::trained);
        } catch (const RunError& error) {
            writer.fail_run(id, error.what());
            count(&StudySummary::failed);
        }
        skip();
        if (callbacks_.run_finished)
            team_->tell([this, run = writer.ledger().run_by_id(id)] { callbacks_.run_finished(run); });
    }

    // Runs whose frozen part is the same share its features.
    FeaturePool& pool_for(const PlannedRun& run) {
        const Scaling scaling = materials_.scaling_for(*run.candidate, run.fold);
        const std::string& backbone = materials_.backbones.at(run.candidate->backbone).features_hash;
        const std::lock_guard lock(mutex_);
        auto& pool = pools_[{backbone, scaling.mean, scaling.deviation}];
        const bool keep = options_.stores == Stores::kept;
        if (!pool)
            pool = std::make_unique<FeaturePool>(FeatureSettings{
                .directory = keep ? std::optional(Ledger::stores(ledger_.directory())) : std::nullopt,
                .backbone = backbone,
                .keep = keep});
        return *pool;
    }

    void train(std::size_t place, RunRecord& record, PlaceLock& claim, LedgerWriter& writer) {
        const PlannedRun& planned = to_train_[place];
        FeaturePool* pool = planned.candidate->regime == Regime::scratch ? nullptr : &pool_for(planned);
        // What is told faster than it is heard is left out.
        const auto reporting = std::make_shared<std::atomic<bool>>(false);
        RunEvents events;
        events.started = [&](const RunRecord& run, std::int64_t resumed) {
            team_->tell([this, place, run, resumed] {
                positions_[place] = {.run = static_cast<std::int64_t>(place) + 1,
                                     .runs = std::ssize(to_train_),
                                     .epochs_done = run.epochs,
                                     .epochs = to_train_[place].epochs};
                time_left_->begin(place, run.epochs);
                if (callbacks_.run_started) callbacks_.run_started(run, resumed);
            });
        };
        events.progress = [&](const RunRecord& run, std::int64_t batch, std::int64_t batches) {
            team_->pass();
            if (!callbacks_.progress || reporting->exchange(true)) return;
            team_->tell([this, place, run, batch, batches, reporting] {
                positions_[place].batch = batch;
                positions_[place].batches = batches;
                report(place, run);
                *reporting = false;
            });
        };
        events.epoch_finished = [&](const RunRecord& run, const EpochNote& note) {
            team_->tell([this, place, run, epoch = note.epoch, best = note.best, warnings = note.warnings] {
                positions_[place].epochs_done = epoch.epoch;
                positions_[place].batch = 0;
                time_left_->see_epoch(place, epoch.seconds);
                if (callbacks_.epoch_finished) callbacks_.epoch_finished(run, epoch, best);
                for (const std::string& message : warnings)
                    if (callbacks_.run_warning) callbacks_.run_warning(run, message);
                report(place, run);
            });
        };
        events.warning = [&](const std::string& message) { team_->tell([this, message] { warn(message); }); };
        events.stop_requested = [&] { return team_->stop_requested(); };
        events.alone = [&](const std::function<void()>& work) { team_->alone(work); };
        record = RunExecution(writer, materials_, planned, record, claim,
                              {.pool = pool, .keep_epochs = options_.keep_epochs}, events)
                     .carry_out();
        if (pool != nullptr && !pool->accepts()) team_->tell([this] { warn_about_features(); });
    }

    void report(std::size_t place, const RunRecord& run) {
        if (!callbacks_.progress) return;
        StudyPosition& position = positions_[place];
        const double of_epoch = position.batches == 0 ? 0.0
                                                      : static_cast<double>(position.batch) /
                                                            static_cast<double>(position.batches);
        time_left_->fill(position, place, of_epoch);
        callbacks_.progress(run, position);
    }

    void warn(const std::string& message) const {
        if (callbacks_.warning) callbacks_.warning(message);
    }

    void warn_about_features() {
        if (std::exchange(warned_about_features_, true)) return;
        warn(
            fmt::format("{}: features cannot be stored (disk full, no write permission, or another process "
                        "keeps them); they are computed again in the next training",
                        printable(Ledger::stores(ledger_.directory()).string())));
    }

    const Plan& plan_;
    LedgerWriter& writer_;
    const Ledger& ledger_;
    const Materials& materials_;
    const StudyCallbacks& callbacks_;
    const StudyOptions& options_;
    std::vector<PlannedRun> to_train_;
    std::vector<RunId> ids_;  // of these
    std::optional<RunTeam> team_;
    // Of the thread that tells.
    std::map<std::size_t, StudyPosition> positions_;  // by place
    std::optional<TimeLeft> time_left_;
    bool warned_about_features_ = false;
    // Of all members.
    std::mutex mutex_;
    StudySummary summary_;
    std::size_t next_ = 0;
    std::set<RunId> done_;
    // By the backbone's hash and scaling.
    std::map<std::tuple<std::string, std::array<double, 3>, std::array<double, 3>>,
             std::unique_ptr<FeaturePool>>
        pools_;
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
    if (materials.store && !materials.store->accepts())
        warning(fmt::format(
            "{}: prepared images cannot be stored (disk full, no write permission, or another process "
            "keeps them); they are kept for this training alone, and fitted again in the next",
            printable(Ledger::stores(ledger).string())));
}

}  // namespace

StudySummary train_study(const Plan& plan, const std::filesystem::path& ledger_directory,
                         const StudyCallbacks& callbacks, const StudyOptions& options) {
    const auto preparing = [&](const std::string& what, std::int64_t done, std::int64_t total) {
        if (callbacks.preparing) callbacks.preparing(what, done, total);
        if (callbacks.stop_requested && callbacks.stop_requested())
            throw Interrupted("stopped while the images were prepared; what was finished before is kept");
    };
    // One of an earlier version is brought up to date before it is asked for places.
    if (Ledger::exists(ledger_directory)) LedgerWriter::open(ledger_directory);
    const std::shared_ptr<const Materials> materials =
        gather_materials(plan, ledger_directory, preparing, options.stores);
    std::vector<PlannedRun> runs = select_runs(plan_runs(*materials), options.selection);
    LedgerWriter ledger = LedgerWriter::open(ledger_directory);
    if (callbacks.warning) warn_about(*materials, ledger_directory, callbacks.warning);
    return StudyScheduler(ledger, *materials, callbacks, options).carry_out(std::move(runs));
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
