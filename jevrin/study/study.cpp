#include "jevrin/study/study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/study/certainty.hpp"
#include "jevrin/study/environment.hpp"
#include "jevrin/study/epoch_note.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/run_watch.hpp"
#include "jevrin/study/time_left.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <numeric>
#include <optional>
#include <set>
#include <tuple>
#include <utility>

namespace jevrin {
namespace {

// The share of the largest class among what training sees.
double majority_share(const TrainingData& data, Sampling sampling) {
    if (sampling == Sampling::balanced) return 1.0 / static_cast<double>(data.classes);
    std::vector<std::size_t> counts(data.classes, 0);
    for (const std::size_t item : data.parts.training) ++counts[data.labels[item]];
    return static_cast<double>(*std::max_element(counts.begin(), counts.end())) /
           static_cast<double>(data.parts.training.size());
}

// What belongs to the training of one run.
struct RunInProgress {
    const PlannedRun& planned;
    RunRecord record;
    TrainingData data;
    Scaling scaling;
    RunTrainer trainer;
    RunWatch watch;
    double best_score = -1.0;
    double best_loss = 0.0;
    double seconds = 0.0;  // of all its epochs
    std::string note;      // of the last epoch

    RunInProgress(const PlannedRun& run, RunRecord known, const Materials& materials, TrainingData own,
                  FeaturePool* pool, CandidateNetwork built)
        : planned(run),
          record(std::move(known)),
          data(std::move(own)),
          scaling(materials.scaling_for(*run.candidate, run.fold)),
          trainer(data, std::move(built.network), std::move(built.phases), scaling, run.candidate->training,
                  run.seed, pool),
          watch(majority_share(data, run.candidate->training.sampling)) {}

    const Candidate& candidate() const { return *planned.candidate; }

    // Whether nothing is left to train.
    bool is_over() const {
        const TrainingSettings& t = candidate().training;
        const std::int64_t best = record.best ? record.best->epoch : 0;
        return trainer.finished() || (t.patience > 0 && record.epochs - best >= t.patience) ||
               (t.minutes > 0.0 && seconds >= 60.0 * t.minutes);
    }
};

class StudyWork {
  public:
    StudyWork(Ledger& ledger, const Materials& materials, const StudyCallbacks& callbacks,
              const StudyOptions& options)
        : plan_(materials.plan),
          ledger_(ledger),
          materials_(materials),
          callbacks_(callbacks),
          options_(options) {}

    StudySummary carry_out(std::vector<PlannedRun> planned) {
        summary_.study = ledger_.put_study(plan_.name, plan_.metric, materials_.set, materials_.parts,
                                           plan_.images.parts->key());
        std::vector<std::int64_t> ids = put_runs(planned);
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
    std::vector<std::int64_t> put_runs(std::vector<PlannedRun>& planned) {
        std::map<std::int64_t, std::int64_t> divisions = {{0, 0}};
        std::vector<std::int64_t> ids(planned.size());
        // The ledger lists candidates as it first saw them: as the plan has them.
        std::vector<std::size_t> order(planned.size());
        std::iota(order.begin(), order.end(), 0);
        std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            return planned[a].candidate < planned[b].candidate;
        });
        for (const std::size_t place : order) {
            PlannedRun& run = planned[place];
            if (!divisions.contains(run.fold)) {
                PartsSettings settings = *plan_.images.parts;
                settings.fold = run.fold;
                divisions[run.fold] = ledger_.put_division(
                    summary_.study, materials_.set, materials_.parts.with_fold(run.fold), settings.key());
            }
            run.identity.division = divisions[run.fold];
            std::int64_t superseded = 0;
            ids[place] = ledger_.put_run(summary_.study, run.identity, &superseded);
            summary_.superseded += superseded;
        }
        return ids;
    }

    bool is_finished(const RunRecord& run) const {
        return run.state == RunState::finished && std::filesystem::exists(ledger_.model_file(run.id));
    }

    void find_missing(const std::vector<PlannedRun>& planned, const std::vector<std::int64_t>& ids) {
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
        const std::int64_t id = ids_[place];
        if (done_.contains(id)) return;
        const std::optional<PlaceLock> claim = ledger_.claim(id);
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
            train(place, record);
            ++summary_.trained;
        } catch (const RunError& error) {
            ledger_.fail_run(id, error.what());
            time_left_->skip(place);
            ++summary_.failed;
        }
        if (callbacks_.run_finished) callbacks_.run_finished(ledger_.run_by_id(id));
    }

    // Runs whose frozen part is the same share its features.
    FeaturePool& pool_for(const PlannedRun& run) {
        const Scaling scaling = materials_.scaling_for(*run.candidate, run.fold);
        const std::string& backbone = materials_.backbones.at(run.candidate->backbone).hash;
        auto& pool = pools_[{backbone, scaling.mean, scaling.deviation}];
        const bool keep = options_.stores == Stores::kept;
        if (!pool)
            pool = std::make_unique<FeaturePool>(FeatureSettings{
                .directory = keep ? std::optional(Ledger::stores(ledger_.directory())) : std::nullopt,
                .backbone = backbone,
                .keep = keep});
        return *pool;
    }

    void train(std::size_t place, RunRecord& record) {
        const PlannedRun& planned = to_train_[place];
        const Candidate& candidate = *planned.candidate;
        FeaturePool* pool = candidate.regime == Regime::scratch ? nullptr : &pool_for(planned);
        RunInProgress run(planned, record, materials_, materials_.data_for(candidate, planned.fold), pool,
                          build_network(plan_, candidate, materials_.backbones, materials_.set.classes.size(),
                                        planned.seed));
        const std::int64_t resumed = resume(run);
        ledger_.begin_run(record.id, plan_of_run(plan_, candidate, planned.seed, planned.fold),
                          environment_json());
        run.record.state = RunState::training;
        run.record.reason.clear();
        position_.epochs = planned.epochs;
        position_.epochs_done = run.record.epochs;
        time_left_->begin(place, run.record.epochs);
        if (callbacks_.run_started) callbacks_.run_started(run.record, resumed);
        const auto progress = [&](std::int64_t batch, std::int64_t batches) {
            position_.batch = batch;
            position_.batches = batches;
            report(run);
            return !(callbacks_.stop_requested && callbacks_.stop_requested());
        };
        while (!run.is_over()) {
            try {
                const bool solves = candidate.last_layer == LastLayer::logistic_regression;
                const EpochResult result =
                    solves ? run.trainer.solve_head(candidate.penalty) : run.trainer.train_epoch(progress);
                finish_epoch(run, result);
            } catch (const Interrupted&) {
                save(run);
                throw;
            }
        }
        finish(run);
        time_left_->skip(place);
        record = run.record;
        if (pool != nullptr && !pool->accepts()) warn_about_features();
    }

    // Brings the run to the last epoch that the ledger and the checkpoint agree on, and to the batch behind
    // it where it was stopped. Returns that epoch.
    std::int64_t resume(RunInProgress& run) {
        const std::int64_t id = run.record.id;
        const std::filesystem::path file = ledger_.checkpoint_file(id);
        if (std::filesystem::exists(file)) try {
                const TrainingState state = read_checkpoint(file);
                const std::optional<EpochNote> note = note_from_text(state.note);
                if (note && state.epochs_done == run.record.epochs + 1)
                    ledger_.record_epoch(id, note->epoch, note->best, note->layers, note->warnings);
                run.record = ledger_.run_by_id(id);
                if (state.epochs_done == run.record.epochs) {
                    run.trainer.restore(state);
                    run.note = state.note;
                    for (const EpochRecord& epoch : ledger_.epochs(id)) {
                        run.watch.observe(epoch, ledger_.layers(id, epoch.epoch));
                        run.seconds += epoch.seconds;
                    }
                    if (run.record.best) {
                        run.best_score = score(run.record.best->validation, plan_.metric);
                        run.best_loss = run.record.best->validation_loss;
                    }
                    return run.record.epochs;
                }
            } catch (const InputError& error) {
                warn(error.what());
            }
        if (run.record.epochs > 0) ledger_.restart_run(id);
        run.record = ledger_.run_by_id(id);
        return 0;
    }

    void save(RunInProgress& run) {
        TrainingState state = run.trainer.state();
        state.note = run.note;
        write_checkpoint(ledger_.checkpoint_file(run.record.id), state);
    }

    void finish_epoch(RunInProgress& run, const EpochResult& result) {
        std::vector<std::size_t> labels;
        for (const std::size_t item : result.validation.items) labels.push_back(run.data.labels[item]);
        EpochNote note;
        note.epoch = {.epoch = result.epoch,
                      .step = result.step,
                      .training_loss = result.training_loss,
                      .objective = result.objective,
                      .training_accuracy = result.training.accuracy(),
                      .training_balanced_accuracy = result.training.balanced_accuracy(),
                      .training_macro_f1 = result.training.macro_f1(),
                      .validation_loss = result.validation.loss,
                      .learning_rate = result.learning_rate,
                      .seconds = result.seconds,
                      .data_seconds = result.data_seconds,
                      .compute_seconds = result.compute_seconds,
                      .validation_seconds = result.validation_seconds,
                      .memory_bytes = resident_memory(),
                      .validation = ConfusionMatrix(run.data.classes, labels, result.validation.classes())};
        note.layers = result.layers;
        const EpochRecord& epoch = note.epoch;
        note.warnings = run.watch.observe(epoch, note.layers);
        const double reached = score(epoch.validation, plan_.metric);
        note.best =
            reached > run.best_score || (reached == run.best_score && epoch.validation_loss < run.best_loss);
        if (note.best) {
            run.best_score = reached;
            run.best_loss = epoch.validation_loss;
            run.trainer.keep_as_best();
            run.record.best = epoch;
        }
        if (options_.keep_epochs)
            save_classifier(ledger_.model_file(run.record.id, epoch.epoch),
                            classifier(run, run.trainer.network()));
        run.note = to_text(note);
        save(run);
        ledger_.record_epoch(run.record.id, epoch, note.best, note.layers, note.warnings);
        run.seconds += epoch.seconds;
        run.record.epochs = position_.epochs_done = epoch.epoch;
        position_.batch = 0;
        time_left_->see_epoch(epoch.seconds);
        if (callbacks_.epoch_finished) callbacks_.epoch_finished(run.record, epoch, note.best);
        for (const std::string& message : note.warnings)
            if (callbacks_.run_warning) callbacks_.run_warning(run.record, message);
        report(run);
    }

    Classifier classifier(const RunInProgress& run, Network network) const {
        return {.network = std::move(network),
                .classes = materials_.set.classes,
                .preparation = Preparation{plan_.images.fitting, run.scaling},
                .provenance = {{"study", plan_.name},
                               {"run", run.record.name()},
                               {"regime", name_of(run.record.regime)},
                               {"image_set", materials_.set.fingerprint},
                               {"version", JEVRIN_VERSION}}};
    }

    // The model file first, then the transaction that says the run is finished.
    void finish(RunInProgress& run) {
        const Predictions predictions = run.trainer.predict_with_best(run.data.parts.validation);
        Classifier best = classifier(run, run.trainer.best_network());
        fit_certainty(best, run.trainer, run.data, predictions);
        save_classifier(ledger_.model_file(run.record.id), best);
        ledger_.finish_run(run.record.id, prediction_records(predictions));
        std::error_code ignored;
        std::filesystem::remove(ledger_.checkpoint_file(run.record.id), ignored);
    }

    std::vector<PredictionRecord> prediction_records(const Predictions& predictions) const {
        const std::vector<std::size_t> predicted = predictions.classes();
        std::vector<PredictionRecord> records;
        for (std::size_t i = 0; i < predictions.items.size(); ++i) {
            const std::size_t item = predictions.items[i];
            const auto row =
                predictions.probabilities.begin() + static_cast<std::ptrdiff_t>(i * materials_.data.classes);
            records.push_back({materials_.set.items[item].id,
                               materials_.data.labels[item],
                               predicted[i],
                               {row, row + static_cast<std::ptrdiff_t>(materials_.data.classes)}});
        }
        return records;
    }

    void report(const RunInProgress& run) {
        if (!callbacks_.progress) return;
        const double of_epoch = position_.batches == 0 ? 0.0
                                                       : static_cast<double>(position_.batch) /
                                                             static_cast<double>(position_.batches);
        time_left_->fill(position_, of_epoch);
        callbacks_.progress(run.record, position_);
    }

    void warn(const std::string& message) const {
        if (callbacks_.warning) callbacks_.warning(message);
    }

    void warn_about_features() {
        if (std::exchange(warned_about_features_, true)) return;
        warn(fmt::format(
            "{}: features cannot be kept here (a full disk, no right to write, or another process "
            "keeps them); they are computed again in the next training",
            printable(Ledger::stores(ledger_.directory()).string())));
    }

    const Plan& plan_;
    Ledger& ledger_;
    const Materials& materials_;
    const StudyCallbacks& callbacks_;
    const StudyOptions& options_;
    StudySummary summary_;
    StudyPosition position_;
    std::vector<PlannedRun> to_train_;
    std::vector<std::int64_t> ids_;  // of these
    std::set<std::int64_t> done_;
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
            "{}: pictures cannot be kept here (a full disk, no right to write, or another process "
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
    if (std::filesystem::exists(ledger_directory / "ledger.db")) Ledger::open_or_create(ledger_directory);
    const std::unique_ptr<Materials> materials =
        gather_materials(plan, ledger_directory, preparing, options.stores);
    std::vector<PlannedRun> runs = select_runs(plan_runs(*materials), options.selection);
    Ledger ledger = Ledger::open_or_create(ledger_directory);
    if (callbacks.warning) warn_about(*materials, ledger_directory, callbacks.warning);
    return StudyWork(ledger, *materials, callbacks, options).carry_out(std::move(runs));
}

std::vector<std::string> study_warnings(const Ledger& ledger, std::int64_t study, const Plan& plan) {
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
        sum += score(run.best->validation, plan.metric);
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

}  // namespace jevrin
