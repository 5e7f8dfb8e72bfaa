#include "jevrin/training/run_trainer.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/execution/compiled_network.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/feature_place.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/graph/rewriting.hpp"
#include "jevrin/training/logistic_regression.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/run_memory.hpp"
#include "jevrin/training/run_weights.hpp"
#include "jevrin/training/sampling.hpp"
#include "jevrin/training/training_state.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>
#include <chrono>
#include <cmath>
#include <utility>

namespace jevrin::inline v1 {

using namespace operators;

namespace {

constexpr std::int64_t evaluation_batch = 32;

double seconds_since(std::chrono::steady_clock::time_point begin) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

Network with_winograd(Network network, bool winograd) {
    set_winograd(network, winograd);
    return network;
}

}  // namespace

PassMemory run_memory(const Network& network, std::size_t first_trained, KeptActivations kept) {
    Network frozen = network;
    freeze_before(frozen, first_trained);
    const NetworkHalves halves = cut_network(frozen, cut_before(frozen, first_trained));
    PassMemory memory = CompiledNetwork(halves.trained, PassKind::training, kept).memory();
    memory.fixed += static_cast<std::int64_t>(sizeof(float)) *
                    (parameter_count(network) + 2 * parameter_count(halves.trained));
    for (const Network* part : {&halves.frozen, &halves.trained})
        if (part->nodes.size() > 1)
            memory.fixed +=
                CompiledNetwork(rewrite(*part, RewritingStage::before_inference), PassKind::inference)
                    .memory()
                    .total(evaluation_batch);
    return memory;
}

std::vector<std::size_t> Predictions::classes() const {
    std::vector<std::size_t> result;
    if (items.empty()) return result;
    const auto count = static_cast<std::ptrdiff_t>(probabilities.size() / items.size());
    for (auto row = probabilities.begin(); row != probabilities.end(); row += count)
        result.push_back(static_cast<std::size_t>(std::max_element(row, row + count) - row));
    return result;
}

struct RunTrainer::Work {
    const TrainingData& data;
    TrainingSettings settings;
    std::uint64_t seed;
    FeaturePool own_pool;
    std::int64_t batch;  // no larger than the training part
    RunLength length;
    RunWeights weights;
    std::int64_t epochs_done = 0;
    std::int64_t steps_done = 0;
    PlateauWatch plateau;
    EpochSums sums;
    std::int64_t best_epoch = 0;
    std::vector<Tensor> best_parameters;
    std::vector<float> input;
    ShardLink* link;
    ShardRange own_shards;
    bool stop_asked = false;  // and the other ranks of the run do not know it yet

    Work(const TrainingData& data_, Network network, std::vector<TrainingPhase> phases,
         const Scaling& scaling, const TrainingSettings& settings_, std::uint64_t seed_, FeaturePool* pool,
         ShardLink* link_)
        : data(data_),
          settings(settings_),
          seed(seed_),
          batch(std::min(settings.batch, static_cast<std::int64_t>(data.parts.training.size()))),
          length(run_length(settings, static_cast<std::int64_t>(data.parts.training.size()))),
          weights(data, with_winograd(std::move(network), settings.winograd), std::move(phases), scaling,
                  settings, batch, pool != nullptr ? *pool : own_pool, link_),
          link(link_),
          own_shards(shards_of_rank(settings.shards, link_ == nullptr ? 0 : link_->rank(),
                                    link_ == nullptr ? 1 : link_->size())) {
        std::vector<std::size_t> labels;
        for (const std::size_t item : data.parts.training) labels.push_back(data.labels[item]);
        settings.loss.class_weights = settle_class_weights(settings.loss, class_names(), labels);
        begin_epoch();
    }

    std::vector<std::string> class_names() const {
        return data.class_names.empty() ? std::vector<std::string>(data.classes) : data.class_names;
    }

    PhaseWork& phase() const { return weights.phase(); }

    void begin_epoch() {
        sums = {.first_step = steps_done, .counts = ClassCounts::of_classes(data.classes), .layers = {}};
        phase().monitor.restart();
    }

    // The step of the run after the last of this epoch.
    std::int64_t end_of_epoch() const {
        return std::min(length.steps, sums.first_step + length.steps_per_validation);
    }

    double learning_rate(std::int64_t step) const {
        return learning_rate_at(settings.schedule, settings.optimiser.learning_rate,
                                {.step = step,
                                 .steps = length.steps,
                                 .steps_per_epoch = length.steps_per_epoch,
                                 .plateau_factor = plateau.factor});
    }

    // The number of the augmented view in a pass over the training part; 0 when there are none.
    std::uint32_t view_of(std::uint32_t pass) const {
        if (settings.views == 0 || !settings.augmentation.changes_anything()) return 0;
        return static_cast<std::uint32_t>((pass - 1) % settings.views + 1);
    }

    bool takes_kept_features(std::uint32_t pass) const {
        return phase().keeps_features() && (!settings.augmentation.changes_anything() || view_of(pass) > 0);
    }

    // The images of a pass from a batch on, prepared ahead; nothing when kept features stand in for them.
    // Without frozen layers a kept row would be the image once more, as numbers.
    std::unique_ptr<BatchQueue> images(const std::vector<std::int64_t>& order, std::uint32_t pass,
                                       std::int64_t first) const {
        if (takes_kept_features(pass)) return nullptr;
        const BoundaryFeatures& features = *phase().features;
        const AugmentationKey key =
            view_of(pass) > 0 ? key_of_view(view_of(pass)) : AugmentationKey{seed, pass};
        return std::make_unique<BatchQueue>(
            features.images(), features.scaling(),
            BatchSettings{.size = batch,
                          .first = first,
                          .augmentation = settings.augmentation,
                          .key = key,
                          .part =
                              [own = own_shards, shards = settings.shards](std::int64_t items) {
                                  const ShardRange range = items_of_shards(own, shards, items);
                                  return std::pair(range.begin, range.end);
                              }},
            order, data.labels, data.weights);
    }

    // A batch of a pass, or what this rank has of it, as the trained part of the network takes it.
    BatchInput take(BatchQueue* queue, std::span<const std::int64_t> items, std::uint32_t pass) {
        BoundaryFeatures& features = *phase().features;
        input.resize(static_cast<std::size_t>(batch * features.values_per_item()));
        if (const Batch* prepared = queue != nullptr ? queue->next() : nullptr) {
            if (!phase().keeps_features()) return {items, prepared->images, prepared->targets};
            features.compute(std::ssize(items), prepared->images, input);
            return {items, values_of(items), prepared->targets};
        }
        features.fill_view(items, settings.augmentation, view_of(pass), input);
        return {items, values_of(items), targets_of(items, data.labels, data.weights)};
    }
    std::span<const float> values_of(std::span<const std::int64_t> items) const {
        return std::span<const float>(input).first(
            items.size() * static_cast<std::size_t>(phase().features->values_per_item()));
    }

    // One step of the run, over a batch of so many items. Whether somebody asked to stop behind it.
    bool learn(const BatchInput& taken, std::int64_t items, std::uint32_t pass, bool stop) {
        PhaseWork& p = phase();
        const bool looks =
            LayerMonitor::looks_at(steps_done - sums.first_step, end_of_epoch() - sums.first_step);
        const ValueObserver observer = [&](std::size_t node, std::span<const float> values) {
            p.monitor.see(node, values);
        };
        const BatchSums seen = p.step.run(taken, items, seed, pass, looks ? observer : ValueObserver(), stop);
        require_finite(seen.objective);
        sums.loss += seen.loss;
        sums.objective += seen.objective;
        sums.counts.add(seen.counts);
        OptimiserStep step{.learning_rate = learning_rate(steps_done)};
        if (settings.gradient_clipping > 0.0)
            step.gradient_factor =
                clipping_factor(gradient_norm(p.pass.parameters()), settings.gradient_clipping);
        if (looks) p.monitor.before_change();
        p.optimiser.step(p.pass.parameters(), step);
        if (looks) p.monitor.after_change();
        weights.average(++steps_done);
        return seen.stop;
    }

    // Trains on to the end of the epoch. Which images a step sees depends on its number alone.
    void learn_epoch(const BatchProgress& progress) {
        const auto& training = data.parts.training;
        std::vector<std::int64_t> order;
        std::unique_ptr<BatchQueue> queue;
        for (bool first = true; steps_done < end_of_epoch(); first = false) {
            const std::int64_t place = steps_done % length.steps_per_epoch;
            const auto pass = static_cast<std::uint32_t>(steps_done / length.steps_per_epoch + 1);
            auto clock = std::chrono::steady_clock::now();
            if (first || place == 0) {
                weights.enter(pass);
                queue.reset();
                order = order_of_epoch(training, data.labels, settings.sampling, seed, pass);
                queue = images(order, pass, place);
            }
            const std::int64_t begin = place * batch;
            const std::int64_t count = std::min(batch, std::ssize(order) - begin);
            const ShardRange own = items_of_shards(own_shards, settings.shards, count);
            const std::span<const std::int64_t> items(order.data() + begin + own.begin,
                                                      static_cast<std::size_t>(own.end - own.begin));
            const BatchInput taken = take(queue.get(), items, pass);
            sums.data_seconds += seconds_since(clock);
            clock = std::chrono::steady_clock::now();
            // The ranks of a run stop behind the same step: they agree on it within the step before.
            const bool stops = learn(taken, count, pass, stop_asked);
            sums.compute_seconds += seconds_since(clock);
            stop_asked =
                progress && !progress(steps_done - sums.first_step, end_of_epoch() - sums.first_step);
            if (stops || (stop_asked && link == nullptr)) {
                stop_asked = false;
                merge_layers();
                throw Interrupted("stopped; what was trained so far is kept");
            }
        }
    }

    void require_finite(double loss) const {
        if (std::isfinite(loss)) return;
        const std::int64_t step = steps_done + 1;
        const double rate = learning_rate(steps_done);
        if (step == 1)
            throw RunError(
                "the loss is NaN or infinite at the first step: the input normalisation or the weights of "
                "the "
                "backbone are far too large; inspect them with 'jevrin check' and 'jevrin layers'");
        const LayerSummary steepest = phase().monitor.steepest();
        throw RunError(
            fmt::format("the loss became NaN or infinite at step {} (epoch {}, learning rate {:.4g}); in the "
                        "step before, the "
                        "largest gradient was that of '{}' (gradient norm {:.3g}, weight norm {:.3g}). The "
                        "learning rate is "
                        "probably too high: lower it to {:.2g}, add a 'warm_up', or clip gradients with "
                        "'gradient_clipping'",
                        step, epochs_done + 1, rate, steepest.layer, steepest.gradient_norm,
                        steepest.weight_norm, settings.optimiser.learning_rate / 10.0));
    }

    // Calls seen(first, items, values) for one batch of items after the other, with the values at the
    // boundary, where is_wanted(first).
    template <typename Wanted, typename Seen>
    void at_boundary(const std::vector<std::size_t>& items, const Wanted& is_wanted, const Seen& seen) const {
        const std::shared_ptr<BoundaryFeatures>& features = phase().features;
        const auto width = static_cast<std::size_t>(features->values_per_item());
        std::vector<float> space(evaluation_batch * width);
        for (std::size_t begin = 0; begin < items.size(); begin += evaluation_batch) {
            if (!is_wanted(begin)) continue;
            const std::size_t count = std::min<std::size_t>(evaluation_batch, items.size() - begin);
            const std::vector<std::int64_t> some(items.begin() + static_cast<std::ptrdiff_t>(begin),
                                                 items.begin() + static_cast<std::ptrdiff_t>(begin + count));
            if (phase().keeps_features())
                features->fill(some, space);
            else
                features->images().fill(some, features->scaling(), {}, {}, space);
            seen(begin, some, std::span<const float>(space).first(count * width));
        }
    }

    // together: ranks that make the same call divide the batches.
    Predictions predict(const Network& trained, const std::vector<std::size_t>& items,
                        ShardLink* together = nullptr) const {
        Predictions result{.items = items, .probabilities = std::vector<float>(items.size() * data.classes)};
        if (items.empty()) return result;
        std::vector<double> losses((items.size() + evaluation_batch - 1) / evaluation_batch);
        const auto classes = static_cast<std::int64_t>(data.classes);
        Inference inference(trained, evaluation_batch);
        const auto is_ours = [&](std::size_t begin) {
            return together == nullptr ||
                   static_cast<int>(begin / evaluation_batch) % together->size() == together->rank();
        };
        at_boundary(items, is_ours, [&](std::size_t begin, const auto& some, std::span<const float> values) {
            const auto logits = inference.run(std::ssize(some), values);
            std::vector<std::size_t> labels;
            for (const std::int64_t item : some)
                labels.push_back(data.labels[static_cast<std::size_t>(item)]);
            losses[begin / evaluation_batch] =
                cross_entropy(classes, logits, plain_targets(labels), {}).loss_sum;
            class_probabilities(std::ssize(some), classes, logits,
                                std::span(result.probabilities).subspan(begin * data.classes));
        });
        if (together != nullptr) {
            // Each has zeros where others computed.
            constexpr int predictions_channel = 5;
            std::vector<double> space;
            join_ranks(*together, predictions_channel, std::span<double>(losses), space, add_values<double>);
            std::vector<float> rows;
            join_ranks(*together, predictions_channel, std::span<float>(result.probabilities), rows,
                       add_values<float>);
        }
        for (const double loss : losses) result.loss += loss;
        result.loss /= static_cast<double>(items.size());
        return result;
    }

    std::vector<float> features_before_head(const Network& trained,
                                            const std::vector<std::size_t>& items) const {
        std::vector<float> result;
        const auto all = [](std::size_t) { return true; };
        const auto append = [&](std::span<const float> values) {
            result.insert(result.end(), values.begin(), values.end());
        };
        if (find_features(trained).head == 1) {  // nothing lies between the boundary and the head
            if (trained.input.size() == 1 && phase().keeps_features())
                at_boundary(items, all, [&](std::size_t, const auto&, auto values) { append(values); });
            return result;
        }
        const std::optional<NetworkHalves> halves = cut_at_head(trained);
        if (!halves) return result;
        Inference inference(halves->frozen, evaluation_batch);
        at_boundary(items, all, [&](std::size_t, const auto& some, auto values) {
            append(inference.run(std::ssize(some), values));
        });
        return result;
    }

    // A unit is alive when it is so in the shards of any rank.
    void merge_layers() {
        if (link == nullptr || link->size() == 1) return;
        LayerSums seen = phase().monitor.sums();
        std::vector<double> alive;
        for (const std::string& units : seen.alive)
            for (const char unit : units) alive.push_back(unit == '1' ? 1.0 : 0.0);
        std::vector<double> space;
        constexpr int layers_channel = 3;
        join_ranks(*link, layers_channel, std::span<double>(alive), space, add_values<double>);
        auto next = alive.begin();
        for (std::string& units : seen.alive)
            for (char& unit : units) unit = *next++ > 0.0 ? '1' : '0';
        phase().monitor.restore(seen);
    }

    // The rest of an epoch whose steps are done, or whose head was solved.
    EpochResult validate(double rate) {
        const auto clock = std::chrono::steady_clock::now();
        const auto seen = static_cast<double>(std::max<std::int64_t>(1, sums.counts.total()));
        EpochResult result{.epoch = epochs_done + 1,
                           .step = steps_done,
                           .training_loss = sums.loss / seen,
                           .objective = sums.objective / seen,
                           .training = sums.counts,
                           .learning_rate = rate};
        merge_layers();
        result.layers = phase().monitor.summaries(rate);
        result.validation =
            settings.ema_decay > 0.0
                ? predict(weights.trained_with(weights.averages()), data.parts.validation, link)
                : predict(phase().halves.trained, data.parts.validation, link);
        require_finite(result.validation.loss);
        if (settings.schedule.kind == ScheduleKind::plateau)
            plateau.observe(settings.schedule, result.validation.loss);
        result.data_seconds = sums.data_seconds;
        result.compute_seconds = sums.compute_seconds;
        result.validation_seconds = seconds_since(clock);
        result.seconds = result.data_seconds + result.compute_seconds + result.validation_seconds;
        ++epochs_done;
        begin_epoch();
        return result;
    }
};

RunTrainer::RunTrainer(const TrainingData& data, Network network, std::vector<TrainingPhase> phases,
                       const Scaling& scaling, const TrainingSettings& settings, std::uint64_t seed,
                       FeaturePool* pool, ShardLink* link)
    : work_(std::make_unique<Work>(data, std::move(network), std::move(phases), scaling, settings, seed, pool,
                                   link)) {}

RunTrainer::RunTrainer(const TrainingData& data, Network network, std::size_t first_trained,
                       const Scaling& scaling, const TrainingSettings& settings, std::uint64_t seed,
                       FeaturePool* pool)
    : RunTrainer(data, std::move(network), std::vector<TrainingPhase>{{1, first_trained}}, scaling, settings,
                 seed, pool) {}

RunTrainer::~RunTrainer() = default;

const RunLength& RunTrainer::length() const {
    return work_->length;
}

std::int64_t RunTrainer::epochs_done() const {
    return work_->epochs_done;
}

bool RunTrainer::finished() const {
    return work_->epochs_done >= work_->length.validations;
}

EpochResult RunTrainer::train_epoch(const BatchProgress& progress) {
    assert(!finished());
    // After a NaN or infinite loss the weights are useless.
    TrainingState before = state();
    try {
        const std::int64_t last = work_->end_of_epoch() - 1;
        work_->learn_epoch(progress);
        return work_->validate(work_->learning_rate(last));
    } catch (const RunError&) {
        restore(before);
        throw;
    }
}

EpochResult RunTrainer::solve_head(double l2_regularisation) {
    Work& p = *work_;
    const auto clock = std::chrono::steady_clock::now();
    Node& dense = p.phase().halves.trained.nodes.back();
    assert(p.phase().halves.trained.nodes.size() == 2 && std::holds_alternative<Dense>(dense.op));
    std::vector<std::int64_t> items(p.data.parts.training.begin(), p.data.parts.training.end());
    std::vector<float> features(items.size() *
                                static_cast<std::size_t>(p.phase().features->values_per_item()));
    p.phase().features->fill(items, features);
    p.sums.data_seconds = seconds_since(clock);
    std::vector<std::size_t> labels;
    std::vector<double> weights;
    for (const std::size_t item : p.data.parts.training) {
        labels.push_back(p.data.labels[item]);
        if (!p.data.weights.empty()) weights.push_back(p.data.weights[item]);
    }
    const LogisticRegression fit = fit_logistic_regression(features, labels, weights, p.data.classes,
                                                           {.l2_regularisation = l2_regularisation});
    std::copy(fit.weight.values().begin(), fit.weight.values().end(), dense.parameters[0].values().begin());
    std::copy(fit.bias.values().begin(), fit.bias.values().end(), dense.parameters[1].values().begin());
    const Predictions seen = p.predict(p.phase().halves.trained, p.data.parts.training);
    const std::vector<std::size_t> predicted = seen.classes();
    for (std::size_t i = 0; i < labels.size(); ++i) p.sums.counts.add(labels[i], predicted[i]);
    p.sums.loss = p.sums.objective = seen.loss * static_cast<double>(labels.size());
    p.steps_done = p.length.steps;
    p.sums.compute_seconds = seconds_since(clock) - p.sums.data_seconds;
    return p.validate(0.0);
}

void RunTrainer::keep_as_best() {
    work_->best_epoch = work_->epochs_done;
    work_->best_parameters = work_->weights.kept_parameters();
}

Network RunTrainer::best_network() const {
    assert(work_->best_epoch > 0);
    Network best = work_->weights.network_with(work_->best_parameters);
    freeze_before(best, 0);
    return best;
}

Network RunTrainer::network() const {
    Network now = work_->weights.network_with(work_->weights.kept_parameters());
    freeze_before(now, 0);
    return now;
}

Predictions RunTrainer::predict_with_best(const std::vector<std::size_t>& items) const {
    return work_->predict(work_->weights.trained_with(work_->best_parameters), items);
}

std::vector<float> RunTrainer::features_with_best(const std::vector<std::size_t>& items) const {
    return work_->features_before_head(work_->weights.trained_with(work_->best_parameters), items);
}

TrainingState RunTrainer::state() const {
    Work& p = *work_;
    TrainingState state{.epochs_done = p.epochs_done,
                        .steps_done = p.steps_done,
                        .parameters = p.weights.parameters(),
                        .moments = p.weights.moments(),
                        .averages = p.weights.averages(),
                        .plateau = p.plateau,
                        .sums = p.sums,
                        .best_epoch = p.best_epoch,
                        .best_parameters = p.best_parameters};
    state.sums.layers = p.phase().monitor.sums();
    return state;
}

void RunTrainer::restore(const TrainingState& state) {
    Work& p = *work_;
    if (state.sums.counts.labelled.size() != p.data.classes)
        throw InputError("the saved state has another number of classes than this run");
    p.weights.restore(state);
    p.epochs_done = state.epochs_done;
    p.steps_done = state.steps_done;
    p.plateau = state.plateau;
    p.sums = state.sums;
    p.best_epoch = state.best_epoch;
    p.best_parameters = state.best_parameters;
    // The pass of the last step done, or of the first.
    p.weights.enter(std::max<std::int64_t>(0, state.steps_done - 1) / p.length.steps_per_epoch + 1);
    p.phase().monitor.restore(state.sums.layers);
}

}  // namespace jevrin::inline v1
