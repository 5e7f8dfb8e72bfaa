#include "jevrin/study/run_execution.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/base/version.hpp"
#include "jevrin/study/certainty.hpp"
#include "jevrin/study/environment.hpp"
#include "jevrin/training/prediction_cost.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

namespace jevrin::inline v1 {
namespace {

// The fraction of the largest class among what training sees.
double majority_share(const TrainingData& data, Sampling sampling) {
    if (sampling == Sampling::balanced) return 1.0 / static_cast<double>(data.classes);
    std::vector<std::size_t> counts(data.classes, 0);
    for (const std::size_t item : data.parts.training) ++counts[data.labels[item]];
    return static_cast<double>(*std::max_element(counts.begin(), counts.end())) /
           static_cast<double>(data.parts.training.size());
}

CandidateNetwork network_of(const Materials& materials, const PlannedRun& planned) {
    return build_network(materials.plan, *planned.candidate, materials.backbones,
                         materials.set.classes.size(), planned.seed);
}

RunTrainer trainer_of(const TrainingData& data, CandidateNetwork built, const Scaling& scaling,
                      const PlannedRun& planned, const RunExecutionOptions& options) {
    return RunTrainer(data, std::move(built.network), std::move(built.phases), scaling,
                      planned.candidate->training, planned.seed, options.pool, options.link);
}

std::vector<std::size_t> in_order_of(const std::vector<std::size_t>& items, const Predictions& predictions) {
    if (predictions.items == items) return predictions.classes();
    std::map<std::size_t, std::size_t> by_item;
    const std::vector<std::size_t> classes = predictions.classes();
    for (std::size_t i = 0; i < classes.size(); ++i) by_item[predictions.items[i]] = classes[i];
    std::vector<std::size_t> ordered;
    for (const std::size_t item : items) ordered.push_back(by_item.at(item));
    return ordered;
}

}  // namespace

RunExecution::RunExecution(RunKeeper& keeper, const Materials& materials, const PlannedRun& planned,
                           const RunExecutionOptions& options, const RunEvents& events)
    : keeper_(keeper),
      materials_(materials),
      planned_(planned),
      options_(options),
      events_(events),
      data_(materials.data_for(*planned.candidate, planned.fold, planned.seed)),
      scaling_(materials.scaling_for(*planned.candidate, planned.fold)),
      trainer_(trainer_of(data_, network_of(materials, planned), scaling_, planned, options)),
      watch_(majority_share(data_, planned.candidate->training.sampling)) {}

// Whether nothing is left to train.
bool RunExecution::is_over() const {
    const TrainingSettings& t = candidate().training;
    const std::int64_t best = record_.best ? record_.best->epoch : 0;
    return trainer_.finished() || (t.patience > 0 && record_.epochs - best >= t.patience) ||
           (t.minutes > 0.0 && seconds_ >= 60.0 * t.minutes);
}

RunRecord RunExecution::carry_out() {
    const std::int64_t resumed = resume();
    keeper_.begin(plan_of_run(materials_.plan, candidate(), planned_.seed, planned_.fold),
                  environment_json());
    record_.state = RunState::training;
    record_.reason.clear();
    if (events_.started) events_.started(record_, resumed);
    const auto progress = [&](std::int64_t batch, std::int64_t batches) {
        if (events_.progress) events_.progress(record_, batch, batches);
        return !(events_.stop_requested && events_.stop_requested());
    };
    bool is_ours = true;
    while (!keeper_.agree(is_over())) {
        if (!is_ours) throw Interrupted("left to another process of the job");
        try {
            is_ours = finish_epoch(candidate().last_layer == LastLayer::logistic_regression
                                       ? trainer_.solve_head(candidate().l2_regularisation)
                                       : trainer_.train_epoch(progress));
        } catch (const Interrupted&) {
            keeper_.save(state());
            throw;
        }
    }
    if (keeper_.keeps()) finish();
    return record_;
}

// Brings the run to where it was left. Returns the last epoch before.
std::int64_t RunExecution::resume() {
    RunPast past = keeper_.past();
    record_ = std::move(past.record);
    if (past.state) try {
            trainer_.restore(*past.state);
            note_ = past.state->note;
            for (std::size_t i = 0; i < past.curve.size(); ++i) {
                watch_.observe(past.curve[i], past.layers[i]);
                seconds_ += past.curve[i].seconds;
            }
            if (record_.best) {
                best_score_ = score(record_.best->validation, materials_.plan.metric);
                best_loss_ = record_.best->validation_loss;
            }
            return record_.epochs;
        } catch (const InputError& error) {
            past.problem = error.what();
        }
    if (!past.problem.empty() && events_.warning) events_.warning(past.problem);
    if (record_.epochs > 0) record_ = keeper_.forget_epochs();
    return 0;
}

TrainingState RunExecution::state() const {
    TrainingState state = trainer_.state();
    state.note = note_;
    return state;
}

// Whether the run goes on here.
bool RunExecution::finish_epoch(const EpochResult& result) {
    std::vector<std::size_t> labels;
    for (const std::size_t item : result.validation.items) labels.push_back(data_.labels[item]);
    EpochNote note;
    note.epoch = recorded_epoch({.epoch = result.epoch,
                                 .step = result.step,
                                 .training_loss = result.training_loss,
                                 .objective = result.objective,
                                 .training_scores = scores_by_metric(result.training),
                                 .validation_loss = result.validation.loss,
                                 .learning_rate = result.learning_rate,
                                 .seconds = result.seconds,
                                 .data_seconds = result.data_seconds,
                                 .compute_seconds = result.compute_seconds,
                                 .validation_seconds = result.validation_seconds,
                                 .memory_bytes = resident_memory(),
                                 .validation_scores = {}},
                                ConfusionMatrix(data_.classes, labels, result.validation.classes()));
    note.layers = result.layers;
    note.predicted = in_order_of(data_.parts.validation, result.validation);
    const RecordedEpoch& epoch = note.epoch;
    note.warnings = watch_.observe(epoch, note.layers);
    const double reached = validation_score(epoch, materials_.plan.metric);
    note.best = reached > best_score_ || (reached == best_score_ && epoch.validation_loss < best_loss_);
    if (note.best) {
        best_score_ = reached;
        best_loss_ = epoch.validation_loss;
        trainer_.keep_as_best();
        record_.best = epoch;
    }
    if (options_.keep_epochs && keeper_.keeps()) {
        save_classifier(keeper_.model_file(epoch.epoch), classifier(trainer_.network()));
        keeper_.put_epoch_model(epoch.epoch);
    }
    note_ = to_text(note);
    const bool goes_on = keeper_.finish_epoch(state(), note);
    seconds_ += epoch.seconds;
    record_.epochs = epoch.epoch;
    if (events_.epoch_finished) events_.epoch_finished(record_, note);
    return goes_on;
}

Classifier RunExecution::classifier(Network network) const {
    std::vector<ContentHash> seen;
    for (const Part part : {Part::training, Part::validation})
        for (const std::size_t item : data_.parts.of(part))
            seen.push_back(materials_.set.items[item].content);
    SeenImages seen_images(seen);
    // What its backbone had seen, it has seen.
    if (record_.regime != Regime::scratch)
        seen_images.add(materials_.backbones.at(candidate().backbone).seen_images);
    return {.network = std::move(network),
            .classes = materials_.set.classes,
            .preparation = Preparation{materials_.plan.images.fitting, scaling_},
            .provenance = {{"study", materials_.plan.name},
                           {"run", record_.name()},
                           {"regime", name_of(record_.regime)},
                           {"image_set", materials_.set.fingerprint},
                           {"version", library_version()}},
            .seen_images = std::move(seen_images)};
}

// The model file first, then the transaction that says the run is finished.
void RunExecution::finish() {
    const Predictions predictions = trainer_.predict_with_best(data_.parts.validation);
    const VerifiedRows rows = rows_to_verify(predictions);
    const std::filesystem::path file = keeper_.model_file();
    try {
        Classifier best = classifier(trainer_.best_network());
        fit_certainty(best, trainer_, data_, predictions);
        save_classifier(file, best);
        require_same_predictions(file, predictions, rows);
    } catch (const InputError& error) {
        std::error_code ignored;
        std::filesystem::remove(file, ignored);
        throw RunError(fmt::format("its model cannot be used: {}", error.what()));
    }
    PredictionCost cost;
    const auto measure = [&] { cost = measure_prediction(trainer_.best_network()); };
    events_.alone ? events_.alone(measure) : measure();
    keeper_.finish(prediction_records(predictions), cost);
}

// Images of the validation part, evenly spread, by which a model file is verified. Read before: an image that
// cannot be read is no fault of the model.
RunExecution::VerifiedRows RunExecution::rows_to_verify(const Predictions& predictions) const {
    constexpr std::size_t most_items = 256;
    VerifiedRows rows{.step = (predictions.items.size() + most_items - 1) / most_items};
    for (std::size_t row = 0; row < predictions.items.size(); row += rows.step) {
        rows.fitted.emplace_back(static_cast<std::size_t>(data_.images->values_per_image()));
        data_.images->read_pixels(predictions.items[row], rows.fitted.back());
    }
    return rows;
}

// The file as it will be used predicts what is recorded, up to the rounding of operators that were fused.
void RunExecution::require_same_predictions(const std::filesystem::path& file, const Predictions& predictions,
                                            const VerifiedRows& rows) const {
    constexpr float tolerance = 1e-3F;
    Classifier stored = load_classifier(file);
    stored.temperature = 1.0;
    stored.out_of_distribution.reset();
    const std::vector<float> read = Recogniser(std::move(stored)).recognise(rows.fitted).probabilities;
    for (std::size_t i = 0; i < read.size(); ++i) {
        const std::size_t row = i / data_.classes * rows.step;
        const float recorded = predictions.probabilities[row * data_.classes + i % data_.classes];
        if (!(std::abs(read[i] - recorded) <= tolerance))
            throw InputError(
                fmt::format("read back, it gives the probability {} for '{}' where training gave {}", read[i],
                            printable(materials_.set.items[predictions.items[row]].path), recorded));
    }
}

std::vector<PredictionRecord> RunExecution::prediction_records(const Predictions& predictions) const {
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

}  // namespace jevrin::inline v1
