#include "jevrin/training/run_trainer.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/network/inference.hpp"
#include "jevrin/network/rewrite.hpp"
#include "jevrin/network/training_pass.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/loss.hpp"

#include <algorithm>
#include <cassert>
#include <chrono>
#include <cmath>

namespace jevrin {
namespace {

constexpr std::int64_t evaluation_batch = 32;

std::vector<Tensor> parameters_of(const Network& network) {
    std::vector<Tensor> all;
    for (const Node& node : network.nodes)
        all.insert(all.end(), node.parameters.begin(), node.parameters.end());
    return all;
}

void set_parameters(Network& network, const std::vector<Tensor>& parameters) {
    std::size_t next = 0;
    for (Node& node : network.nodes)
        for (Tensor& parameter : node.parameters) {
            if (next == parameters.size() || parameters[next].shape() != parameter.shape())
                throw InputError("the saved weights do not fit this network");
            parameter = parameters[next++];
        }
    if (next != parameters.size()) throw InputError("the saved weights do not fit this network");
}

double seconds_since(std::chrono::steady_clock::time_point begin) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

}  // namespace

PassMemory run_memory(const Network& network, std::size_t first_trained) {
    const Division division = divide(network, first_trained);
    PassMemory memory = CompiledNetwork(division.trained, PassKind::training).memory();
    memory.fixed += static_cast<std::int64_t>(sizeof(float)) *
                    (parameter_count(network) + 2 * parameter_count(division.trained));
    for (const Network* part : {&division.frozen, &division.trained})
        if (part->nodes.size() > 1)
            memory.fixed += CompiledNetwork(fold_for_inference(*part), PassKind::inference)
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
    Division division;
    std::shared_ptr<BoundaryFeatures> features;
    std::int64_t batch;  // no larger than the training part
    TrainingPass pass;
    Optimiser optimiser;
    std::int64_t epochs_done = 0;
    std::int64_t best_epoch = 0;
    std::vector<Tensor> best_parameters;

    Work(const TrainingData& data_, const Network& network, std::size_t first_trained, const Scaling& scaling,
         const TrainingSettings& settings_, std::uint64_t seed_, std::shared_ptr<BoundaryFeatures> shared)
        : data(data_),
          settings(settings_),
          seed(seed_),
          division(divide(network, first_trained)),
          features(shared ? std::move(shared)
                          : std::make_shared<BoundaryFeatures>(*data.images, division.frozen, scaling)),
          batch(std::min(settings.batch, static_cast<std::int64_t>(data.parts.training.size()))),
          pass(division.trained, batch),
          optimiser(settings.optimiser, pass.parameters()) {}

    bool keeps_features() const { return division.frozen.nodes.size() > 1; }

    // The pictures of an epoch, prepared ahead; nothing when kept features stand in for them. Without frozen
    // layers a kept row would be the picture once more, as numbers.
    std::unique_ptr<BatchQueue> pictures(const std::vector<std::int64_t>& order, std::uint32_t epoch) const {
        if (keeps_features() && !settings.augmentation.changes_anything()) return nullptr;
        return std::make_unique<BatchQueue>(
            features->images(), features->scaling(),
            BatchSettings{.size = batch, .augmentation = settings.augmentation, .key = {seed, epoch}}, order,
            data.labels, data.weights);
    }

    Predictions predict(const Network& trained, const std::vector<std::size_t>& items) const {
        Predictions result{.items = items, .probabilities = std::vector<float>(items.size() * data.classes)};
        if (items.empty()) return result;
        const auto classes = static_cast<std::int64_t>(data.classes);
        Inference inference(trained, evaluation_batch);
        std::vector<float> input(static_cast<std::size_t>(evaluation_batch * features->values_per_item()));
        for (std::size_t begin = 0; begin < items.size(); begin += evaluation_batch) {
            const std::size_t count = std::min<std::size_t>(evaluation_batch, items.size() - begin);
            const std::vector<std::int64_t> some(items.begin() + static_cast<std::ptrdiff_t>(begin),
                                                 items.begin() + static_cast<std::ptrdiff_t>(begin + count));
            if (keeps_features())
                features->fill(some, input);
            else
                features->images().fill(some, features->scaling(), {}, {}, input);
            const auto logits = inference.run(static_cast<std::int64_t>(count), input);
            std::vector<std::size_t> labels;
            for (const std::int64_t item : some)
                labels.push_back(data.labels[static_cast<std::size_t>(item)]);
            result.loss += cross_entropy(classes, logits, plain_targets(labels), {}).loss_sum;
            softmax(static_cast<std::int64_t>(count), classes, logits,
                    std::span(result.probabilities).subspan(begin * data.classes));
        }
        result.loss /= static_cast<double>(items.size());
        return result;
    }
};

RunTrainer::RunTrainer(const TrainingData& data, Network network, std::size_t first_trained,
                       const Scaling& scaling, const TrainingSettings& settings, std::uint64_t seed,
                       std::shared_ptr<BoundaryFeatures> features)
    : work_(std::make_unique<Work>(data, network, first_trained, scaling, settings, seed,
                                   std::move(features))) {}

RunTrainer::~RunTrainer() = default;

std::int64_t RunTrainer::epochs_done() const {
    return work_->epochs_done;
}
std::shared_ptr<BoundaryFeatures> RunTrainer::features() const {
    return work_->features;
}

EpochResult RunTrainer::train_epoch(const BatchProgress& progress) {
    const auto begin_time = std::chrono::steady_clock::now();
    Work& p = *work_;
    const auto& training = p.data.parts.training;
    const auto total = static_cast<std::int64_t>(training.size());
    const std::int64_t batches = (total + p.batch - 1) / p.batch;
    EpochResult result{
        .epoch = p.epochs_done + 1,
        .learning_rate = learning_rate_at(p.settings.optimiser, p.epochs_done, p.settings.epochs)};
    const auto epoch = static_cast<std::uint32_t>(result.epoch);
    std::vector<std::int64_t> order;
    for (const std::int64_t place : random_order(total, p.seed, Purpose::order, epoch))
        order.push_back(static_cast<std::int64_t>(training[static_cast<std::size_t>(place)]));
    const std::unique_ptr<BatchQueue> pictures = p.pictures(order, epoch);
    std::vector<float> input(static_cast<std::size_t>(p.batch * p.features->values_per_item()));
    std::vector<float> gradient(static_cast<std::size_t>(p.batch) * p.data.classes);
    double loss = 0.0;
    std::int64_t correct = 0;
    // An interrupted epoch must leave no trace: it is trained again from its beginning.
    const auto roll_back = [&, before = state()] { restore(before); };
    const auto check_finite = [&](double value) {
        if (std::isfinite(value)) return;
        roll_back();
        throw RunError(
            "the loss is no longer a number: the learning rate is probably too high; lower it in the plan");
    };
    for (std::int64_t batch = 0; batch < batches; ++batch) {
        const std::int64_t count = std::min(p.batch, total - batch * p.batch);
        const std::span items(order.data() + batch * p.batch, static_cast<std::size_t>(count));
        std::span<const float> numbers = input;
        std::vector<Target> targets;
        if (const Batch* prepared = pictures ? pictures->next() : nullptr) {
            targets = prepared->targets;
            numbers = prepared->pictures;
            if (p.keeps_features()) {
                p.features->compute(count, prepared->pictures, input);
                numbers = input;
            }
        } else {
            targets = targets_of(items, p.data.labels, p.data.weights);
            p.features->fill(items, input);
        }
        const auto logits = p.pass.forward(count, numbers, {p.seed, epoch, items.data()});
        const BatchLoss batch_loss =
            cross_entropy(static_cast<std::int64_t>(p.data.classes), logits, targets, gradient);
        check_finite(batch_loss.loss_sum);
        loss += batch_loss.loss_sum;
        correct += batch_loss.correct;
        p.pass.backward(count, gradient);
        p.optimiser.step(p.pass.parameters(), result.learning_rate);
        if (progress && !progress(batch + 1, batches)) {
            roll_back();
            throw Interrupted("stopped; the epochs finished so far are kept");
        }
    }
    result.training_loss = loss / static_cast<double>(total);
    result.training_accuracy = static_cast<double>(correct) / static_cast<double>(total);
    ++p.epochs_done;
    result.validation = p.predict(p.division.trained, p.data.parts.validation);
    check_finite(result.validation.loss);
    result.seconds = seconds_since(begin_time);
    return result;
}

void RunTrainer::keep_as_best() {
    work_->best_epoch = work_->epochs_done;
    work_->best_parameters = parameters_of(work_->division.trained);
}

Network RunTrainer::best_network() const {
    assert(work_->best_epoch > 0);
    Network best = work_->division.trained;
    set_parameters(best, work_->best_parameters);
    return join(work_->division.frozen, best);
}

Predictions RunTrainer::predict_with_best(const std::vector<std::size_t>& items) const {
    Network best = work_->division.trained;
    set_parameters(best, work_->best_parameters);
    return work_->predict(best, items);
}

TrainingState RunTrainer::state() const {
    return {.epochs_done = work_->epochs_done,
            .parameters = parameters_of(work_->division.trained),
            .velocities = work_->optimiser.velocities(),
            .best_epoch = work_->best_epoch,
            .best_parameters = work_->best_parameters};
}

void RunTrainer::restore(const TrainingState& state) {
    auto& velocities = work_->optimiser.velocities();
    const bool fits =
        std::equal(velocities.begin(), velocities.end(), state.velocities.begin(), state.velocities.end(),
                   [](const auto& a, const auto& b) { return a.size() == b.size(); });
    if (!fits) throw InputError("the saved optimiser state does not fit this network");
    set_parameters(work_->division.trained, state.parameters);
    velocities = state.velocities;
    work_->epochs_done = state.epochs_done;
    work_->best_epoch = state.best_epoch;
    work_->best_parameters = state.best_parameters;
}

}  // namespace jevrin
