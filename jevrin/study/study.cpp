#include "jevrin/study/study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_store.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/run_execution.hpp"
#include "jevrin/study/time_left.hpp"
#include "jevrin/training/boundary_features.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
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
        time_left_.emplace(to_train_);
        // What others have claimed is looked at once more at the end: they may have died.
        for (int round = 0; round < 2; ++round) {
            summary_.elsewhere = 0;
            for (std::size_t i = 0; i < to_train_.size(); ++i) train_if_free(i);
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
                if (measured != planned[i].candidate) require_memory_for(planned[i]);
                measured = planned[i].candidate;
            }
        }
        summary_.already_finished = outlook.finished;
        summary_.failed_before = outlook.failed;
        position_.runs = outlook.to_train;
        if (callbacks_.begun) callbacks_.begun(outlook);
    }

    void require_memory_for(const PlannedRun& run) const {
        const Candidate& candidate = *run.candidate;
        const auto items =
            static_cast<std::int64_t>(materials_.data_for(candidate, run.fold).parts.training.size());
        require_candidate_memory(
            candidate,
            build_network(plan_, candidate, materials_.backbones, materials_.set.classes.size(), run.seed),
            std::min(candidate.training.batch, items));
    }

    void train_if_free(std::size_t place) {
        const RunId id = ids_[place];
        if (done_.contains(id)) return;
        std::optional<PlaceLock> claim = writer_.claim(id);
        if (!claim) {
            ++summary_.elsewhere;
            return;
        }
        done_.insert(id);
        RunRecord record = ledger_.run_by_id(id);
        if (is_finished(record)) {
            // Another process was faster.
            ++summary_.already_finished;
            time_left_->skip(place);
            return;
        }
        if (record.state == RunState::failed && !options_.retry_failed) {
            ++summary_.failed_before;  // in another process, meanwhile
            time_left_->skip(place);
            return;
        }
        position_.run = static_cast<std::int64_t>(place) + 1;
        try {
            train(place, record, *claim);
            ++summary_.trained;
        } catch (const RunError& error) {
            writer_.fail_run(id, error.what());
            time_left_->skip(place);
            ++summary_.failed;
        }
        if (callbacks_.run_finished) callbacks_.run_finished(ledger_.run_by_id(id));
    }

    // Runs whose frozen part is the same share its features.
    FeaturePool& pool_for(const PlannedRun& run) {
        const Scaling scaling = materials_.scaling_for(*run.candidate, run.fold);
        const std::string& backbone = materials_.backbones.at(run.candidate->backbone).features_hash;
        auto& pool = pools_[{backbone, scaling.mean, scaling.deviation}];
        const bool keep = options_.stores == Stores::kept;
        if (!pool)
            pool = std::make_unique<FeaturePool>(FeatureSettings{
                .directory = keep ? std::optional(Ledger::stores(ledger_.directory())) : std::nullopt,
                .backbone = backbone,
                .keep = keep});
        return *pool;
    }

    void train(std::size_t place, RunRecord& record, PlaceLock& claim) {
        const PlannedRun& planned = to_train_[place];
        FeaturePool* pool = planned.candidate->regime == Regime::scratch ? nullptr : &pool_for(planned);
        RunEvents events;
        events.started = [&](const RunRecord& run, std::int64_t resumed) {
            position_.epochs = planned.epochs;
            position_.epochs_done = run.epochs;
            time_left_->begin(place, run.epochs);
            if (callbacks_.run_started) callbacks_.run_started(run, resumed);
        };
        events.progress = [&](const RunRecord& run, std::int64_t batch, std::int64_t batches) {
            position_.batch = batch;
            position_.batches = batches;
            report(run);
        };
        events.epoch_finished = [&](const RunRecord& run, const EpochNote& note) {
            position_.epochs_done = note.epoch.epoch;
            position_.batch = 0;
            time_left_->see_epoch(note.epoch.seconds);
            if (callbacks_.epoch_finished) callbacks_.epoch_finished(run, note.epoch, note.best);
            for (const std::string& message : note.warnings)
                if (callbacks_.run_warning) callbacks_.run_warning(run, message);
            report(run);
        };
        events.warning = callbacks_.warning;
        events.stop_requested = callbacks_.stop_requested;
        record = RunExecution(writer_, materials_, planned, record, claim,
                              {.pool = pool, .keep_epochs = options_.keep_epochs}, events)
                     .carry_out();
        time_left_->skip(place);
        if (pool != nullptr && !pool->accepts()) warn_about_features();
    }

    void report(const RunRecord& run) {
        if (!callbacks_.progress) return;
        const double of_epoch = position_.batches == 0 ? 0.0
                                                       : static_cast<double>(position_.batch) /
                                                             static_cast<double>(position_.batches);
        time_left_->fill(position_, of_epoch);
        callbacks_.progress(run, position_);
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
    StudySummary summary_;
    StudyPosition position_;
    std::vector<PlannedRun> to_train_;
    std::vector<RunId> ids_;  // of these
    std::set<RunId> done_;
    std::optional<TimeLeft> time_left_;
    bool warned_about_features_ = false;
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
