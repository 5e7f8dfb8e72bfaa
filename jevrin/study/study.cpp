#include "jevrin/study/study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/network/freezing.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/checkpoint.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <array>
#include <chrono>
#include <map>
#include <tuple>

namespace jevrin {
namespace {

struct PlannedRun {
    const Candidate* candidate = nullptr;
    std::uint64_t seed = 0;
    RunRecord record;
};

// Regimes by what an epoch costs, so that a first comparison exists early.
int cost_rank(Regime regime) {
    return regime == Regime::frozen ? 0 : regime == Regime::partial ? 1 : 2;
}

// A checkpoint carries the record of its last epoch: when the process died between the two writes, the
// ledger catches up from it.
nlohmann::json to_json(const EpochRecord& epoch, bool best) {
    std::vector<std::int64_t> cells;
    for (std::size_t i = 0; i < epoch.validation.classes(); ++i)
        for (std::size_t j = 0; j < epoch.validation.classes(); ++j)
            cells.push_back(epoch.validation.at(i, j));
    return {{"epoch", epoch.epoch},
            {"training_loss", epoch.training_loss},
            {"training_accuracy", epoch.training_accuracy},
            {"validation_loss", epoch.validation_loss},
            {"learning_rate", epoch.learning_rate},
            {"seconds", epoch.seconds},
            {"classes", epoch.validation.classes()},
            {"cells", cells},
            {"best", best}};
}

EpochRecord epoch_from_json(const nlohmann::json& json) {
    EpochRecord epoch{.epoch = json.at("epoch"),
                      .training_loss = json.at("training_loss"),
                      .training_accuracy = json.at("training_accuracy"),
                      .validation_loss = json.at("validation_loss"),
                      .learning_rate = json.at("learning_rate"),
                      .seconds = json.at("seconds"),
                      .validation = ConfusionMatrix(json.at("classes").get<std::size_t>())};
    const std::size_t classes = epoch.validation.classes();
    const auto& cells = json.at("cells");
    for (std::size_t i = 0; i < classes * classes; ++i)
        epoch.validation.add(i / classes, i % classes, cells.at(i).get<std::int64_t>());
    return epoch;
}

class StudyWork {
  public:
    StudyWork(Ledger& ledger, const Materials& materials, const StudyCallbacks& callbacks)
        : plan_(materials.plan), ledger_(ledger), materials_(materials), callbacks_(callbacks) {}

    StudySummary carry_out() {
        summary_.study = ledger_.put_study(plan_.name, plan_.metric, materials_.set, materials_.parts,
                                           plan_.images.parts->key());
        std::vector<PlannedRun> missing = find_missing();
        for (const PlannedRun& run : missing)
            epochs_left_[run.candidate->regime] += run.candidate->training.epochs;
        position_.runs = static_cast<std::int64_t>(missing.size());
        for (PlannedRun& run : missing) {
            ++position_.run;
            try {
                train(run);
                ++summary_.trained;
            } catch (const RunError& error) {
                ledger_.fail_run(run.record.id, error.what());
                ++summary_.failed;
            }
            if (callbacks_.run_finished) callbacks_.run_finished(ledger_.run_by_id(run.record.id));
        }
        return summary_;
    }

  private:
    std::string identity_settings(const Candidate& candidate) const {
        nlohmann::ordered_json settings = resolved_settings(plan_, candidate);
        settings["images"]["fingerprint"] = materials_.set.fingerprint;
        if (!candidate.network) settings["backbone"] = materials_.backbones.at(candidate.backbone).hash;
        const Scaling scaling = materials_.scaling_for(candidate);
        settings["scaling"] = {{"mean", scaling.mean}, {"deviation", scaling.deviation}};
        return settings.dump();
    }

    std::vector<PlannedRun> find_missing() {
        std::vector<PlannedRun> missing;
        for (const Candidate& candidate : plan_.candidates) {
            const CandidateNetwork built = build_network(plan_, candidate, materials_.backbones,
                                                         materials_.set.classes.size(), plan_.seeds.front());
            const std::string settings = identity_settings(candidate);
            for (const std::uint64_t seed : plan_.seeds) {
                const RunIdentity identity{.candidate = candidate.name,
                                           .regime = regime_name(candidate.regime),
                                           .seed = static_cast<std::int64_t>(seed),
                                           .settings = settings,
                                           .planned_epochs = candidate.training.epochs,
                                           .parameters = parameter_count(built.network),
                                           .trainable_parameters = trainable_parameter_count(built.network),
                                           .multiplications = multiplication_count(built.network)};
                std::int64_t superseded = 0;
                const std::int64_t id = ledger_.put_run(summary_.study, identity, &superseded);
                summary_.superseded += superseded;
                PlannedRun run{&candidate, seed, ledger_.run_by_id(id)};
                if (run.record.state == RunState::finished && std::filesystem::exists(ledger_.model_file(id)))
                    ++summary_.already_finished;
                else
                    missing.push_back(std::move(run));
            }
            const bool trains = !missing.empty() && missing.back().candidate == &candidate;
            const auto items = static_cast<std::int64_t>(materials_.data.parts.training.size());
            if (trains) require_candidate_memory(candidate, built, std::min(candidate.training.batch, items));
        }
        std::stable_sort(missing.begin(), missing.end(), [](const PlannedRun& a, const PlannedRun& b) {
            return cost_rank(a.candidate->regime) < cost_rank(b.candidate->regime);
        });
        return missing;
    }

    // Brings the trainer to the last epoch that the ledger and the checkpoint agree on; 0 is the beginning.
    std::int64_t resume(const PlannedRun& run, RunTrainer& trainer, double& best_score, double& best_loss) {
        const std::filesystem::path file = ledger_.checkpoint_file(run.record.id);
        std::int64_t recorded = run.record.epochs;
        if (std::filesystem::exists(file)) try {
                const TrainingState state = read_checkpoint(file);
                const auto note = nlohmann::json::parse(state.note);
                if (state.epochs_done == recorded + 1) {
                    ledger_.record_epoch(run.record.id, epoch_from_json(note), note.at("best"));
                    ++recorded;
                }
                if (state.epochs_done == recorded) {
                    trainer.restore(state);
                    if (const auto best = ledger_.run_by_id(run.record.id).best) {
                        best_score = score(best->validation, plan_.metric);
                        best_loss = best->validation_loss;
                    }
                    return recorded;
                }
            } catch (const InputError& error) {
                warn(error.what());
            } catch (const nlohmann::json::exception&) {
                warn(fmt::format("{}: this checkpoint is not understood; the run starts again",
                                 printable(file.string())));
            }
        if (recorded > 0) ledger_.restart_run(run.record.id);
        return 0;
    }

    void train(PlannedRun& run) {
        const Candidate& candidate = *run.candidate;
        const CandidateNetwork built =
            build_network(plan_, candidate, materials_.backbones, materials_.set.classes.size(), run.seed);
        const Scaling scaling = materials_.scaling_for(candidate);
        // Runs whose frozen part is the same share its features.
        FeaturePool& pool = features_[{candidate.backbone, scaling.mean, scaling.deviation}];
        RunTrainer trainer(materials_.data, built.network, built.phases, scaling, candidate.training,
                           run.seed, candidate.regime == Regime::scratch ? nullptr : &pool);

        double best_score = -1.0;
        double best_loss = 0.0;
        const std::int64_t resumed = resume(run, trainer, best_score, best_loss);
        epochs_left_[candidate.regime] -= resumed;
        position_.epochs = candidate.training.epochs;
        if (callbacks_.run_started) callbacks_.run_started(run.record, resumed);
        while (trainer.epochs_done() < candidate.training.epochs) {
            position_.epochs_done = trainer.epochs_done();
            const auto progress = [&](std::int64_t batch, std::int64_t batches) {
                position_.batch_share = static_cast<double>(batch) / static_cast<double>(batches);
                report(run);
                return !(callbacks_.stop_requested && callbacks_.stop_requested());
            };
            const bool solves = candidate.learner == Learner::logistic_regression;
            const EpochResult result =
                solves ? trainer.solve_head(candidate.penalty) : trainer.train_epoch(progress);
            finish_epoch(run, trainer, result, best_score, best_loss);
        }
        finish(run, trainer, scaling);
    }

    void finish_epoch(PlannedRun& run, RunTrainer& trainer, const EpochResult& result, double& best_score,
                      double& best_loss) {
        std::vector<std::size_t> labels;
        for (const std::size_t item : result.validation.items) labels.push_back(materials_.data.labels[item]);
        const EpochRecord epoch{
            .epoch = result.epoch,
            .training_loss = result.training_loss,
            .training_accuracy = result.training_accuracy,
            .validation_loss = result.validation.loss,
            .learning_rate = result.learning_rate,
            .seconds = result.seconds,
            .validation = ConfusionMatrix(materials_.data.classes, labels, result.validation.classes())};
        const double reached = score(epoch.validation, plan_.metric);
        const bool best =
            reached > best_score || (reached == best_score && epoch.validation_loss < best_loss);
        if (best) {
            best_score = reached;
            best_loss = epoch.validation_loss;
            trainer.keep_as_best();
        }
        TrainingState state = trainer.state();
        state.note = to_json(epoch, best).dump();
        write_checkpoint(ledger_.checkpoint_file(run.record.id), state);
        ledger_.record_epoch(run.record.id, epoch, best);
        --epochs_left_[run.candidate->regime];
        auto& [seconds, count] = epoch_cost_[run.candidate->regime];
        seconds += epoch.seconds;
        ++count;
        run.record.epochs = epoch.epoch;
        position_.epochs_done = epoch.epoch;
        position_.batch_share = 0.0;
        if (callbacks_.epoch_finished) callbacks_.epoch_finished(run.record, epoch, best);
        report(run);
    }

    // The model file first, then the transaction that says the run is finished.
    void finish(const PlannedRun& run, const RunTrainer& trainer, const Scaling& scaling) {
        Classifier classifier{trainer.best_network(),
                              materials_.set.classes,
                              Preparation{plan_.images.fitting, scaling},
                              {{"study", plan_.name},
                               {"run", run.record.name()},
                               {"regime", run.record.regime},
                               {"image_set", materials_.set.fingerprint},
                               {"version", JEVRIN_VERSION}}};
        save_classifier(ledger_.model_file(run.record.id), classifier);
        const Predictions predictions = trainer.predict_with_best(materials_.parts.validation);
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

    void report(const PlannedRun& run) {
        if (!callbacks_.progress) return;
        position_.seconds_left = 0.0;
        for (const auto& [regime, left] : epochs_left_) {
            const auto seen = epoch_cost_.find(regime);
            if (left <= 0) continue;
            if (seen == epoch_cost_.end()) {
                position_.seconds_left = -1.0;
                break;
            }
            position_.seconds_left += static_cast<double>(left) * seen->second.first / seen->second.second;
        }
        if (const auto seen = epoch_cost_.find(run.candidate->regime);
            seen != epoch_cost_.end() && position_.seconds_left > 0)
            position_.seconds_left -= position_.batch_share * seen->second.first / seen->second.second;
        callbacks_.progress(run.record, position_);
    }

    void warn(const std::string& message) const {
        if (callbacks_.warning) callbacks_.warning(message);
    }

    const Plan& plan_;
    Ledger& ledger_;
    const Materials& materials_;
    const StudyCallbacks& callbacks_;
    StudySummary summary_;
    StudyPosition position_;
    std::map<Regime, std::int64_t> epochs_left_;
    std::map<Regime, std::pair<double, double>> epoch_cost_;  // seconds, epochs
    // By backbone and scaling.
    std::map<std::tuple<std::string, std::array<double, 3>, std::array<double, 3>>, FeaturePool> features_;
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
    if (!materials.store->accepts())
        warning(fmt::format(
            "{}: pictures cannot be kept here (a full disk, no right to write, or another process "
            "keeps them); they are read and fitted again whenever they are needed",
            printable(Ledger::stores(ledger).string())));
}

}  // namespace

StudySummary train_study(const Plan& plan, const std::filesystem::path& ledger_directory,
                         const StudyCallbacks& callbacks) {
    const auto preparing = [&](const std::string& what, std::int64_t done, std::int64_t total) {
        if (callbacks.preparing) callbacks.preparing(what, done, total);
        if (callbacks.stop_requested && callbacks.stop_requested())
            throw Interrupted("stopped while the images were prepared; what was finished before is kept");
    };
    // One of an earlier version is brought up to date before it is asked for places.
    if (std::filesystem::exists(ledger_directory / "ledger.db")) Ledger::open_or_create(ledger_directory);
    const std::unique_ptr<Materials> materials = gather_materials(plan, ledger_directory, preparing);
    Ledger ledger = Ledger::open_or_create(ledger_directory);
    const FileLock lock(
        ledger_directory / "train.lock",
        fmt::format("{}: another process is training on this ledger; wait for it, or give another "
                    "--ledger",
                    printable(ledger_directory.string())));
    if (callbacks.warning) warn_about(*materials, ledger_directory, callbacks.warning);
    return StudyWork(ledger, *materials, callbacks).carry_out();
}

}  // namespace jevrin
