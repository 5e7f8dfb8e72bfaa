#include "jevrin/training/run_trainer.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/network/freezing.hpp"
#include "jevrin/network/inference.hpp"
#include "jevrin/network/rewrite.hpp"
#include "jevrin/network/training_pass.hpp"
#include "jevrin/training/boundary_features.hpp"
#include "jevrin/training/logistic_regression.hpp"
#include "jevrin/training/loss.hpp"

#include <algorithm>
#include <cassert>
#include <chrono>
#include <cmath>
#include <map>

namespace jevrin {
namespace {

constexpr std::int64_t evaluation_batch = 32;

double seconds_since(std::chrono::steady_clock::time_point begin) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

}  // namespace

PassMemory run_memory(const Network& network, std::size_t first_trained) {
    Network frozen = network;
    freeze_before(frozen, first_trained);
    const Division division = divide(frozen, cut_before(frozen, first_trained));
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

namespace {

// A network cut for one phase, with what training it takes.
struct Phase {
    std::size_t first_trained;
    Division division;
    std::shared_ptr<BoundaryFeatures> features;
    TrainingPass pass;
    Optimiser optimiser;

    Phase(Division cut, std::size_t first, std::shared_ptr<BoundaryFeatures> shared, std::int64_t batch,
          const OptimiserSettings& settings)
        : first_trained(first),
          division(std::move(cut)),
          features(std::move(shared)),
          pass(division.trained, batch),
          optimiser(settings, pass.parameters()) {}

    bool keeps_features() const { return division.frozen.nodes.size() > 1; }
};

// Calls visit(node name, parameter index) for each parameter that trains, in the order of a pass.
template <typename Visit>
void for_trained(const Network& trained, Visit visit) {
    for (const Node& node : trained.nodes)
        for (std::size_t p = 0; p < node.parameters.size() && !node.frozen; ++p)
            if (parameter_kind(node.op, p) != ParameterKind::statistic) visit(node.name, p);
}

}  // namespace

struct RunTrainer::Work {
    const TrainingData& data;
    Network network;  // nodes that train now are up to date only after collect()
    std::vector<TrainingPhase> phases;
    Scaling scaling;
    TrainingSettings settings;
    std::uint64_t seed;
    FeaturePool* pool;
    FeaturePool own_pool;
    std::int64_t batch;                         // no larger than the training part
    std::size_t first_ever;                     // the first node that ever trains
    std::map<std::string, std::size_t> places;  // of the nodes by name
    std::map<std::pair<std::string, std::size_t>, std::vector<float>> velocities;
    std::unique_ptr<Phase> phase;
    std::int64_t epochs_done = 0;
    std::int64_t best_epoch = 0;
    std::vector<Tensor> best_parameters;

    Work(const TrainingData& data_, Network network_, std::vector<TrainingPhase> phases_,
         const Scaling& scaling_, const TrainingSettings& settings_, std::uint64_t seed_, FeaturePool* pool_)
        : data(data_),
          network(std::move(network_)),
          phases(std::move(phases_)),
          scaling(scaling_),
          settings(settings_),
          seed(seed_),
          pool(pool_ != nullptr ? pool_ : &own_pool),
          batch(std::min(settings.batch, static_cast<std::int64_t>(data.parts.training.size()))),
          first_ever(phases.back().first_trained) {
        for (std::size_t i = 0; i < network.nodes.size(); ++i) places[network.nodes[i].name] = i;
        enter(1);
    }

    // The phase to which an epoch belongs.
    void enter(std::int64_t epoch) {
        std::size_t first_trained = phases.front().first_trained;
        for (const TrainingPhase& p : phases)
            if (p.first_epoch <= epoch) first_trained = p.first_trained;
        if (phase && phase->first_trained == first_trained) return;
        if (phase) collect();
        phase.reset();
        freeze_before(network, first_trained);
        Division division = divide(network, cut_before(network, first_trained));
        const auto make = [&] {
            return std::make_shared<BoundaryFeatures>(*data.images, division.frozen, scaling);
        };
        // Without frozen layers there is nothing to share but the pictures.
        auto features =
            division.frozen.nodes.size() > 1 ? pool->get(division.frozen.nodes.back().name, make) : make();
        phase = std::make_unique<Phase>(std::move(division), first_trained, std::move(features), batch,
                                        settings.optimiser);
        give_velocities();
    }

    // Weights and velocities of the phase, put where the next one finds them.
    void collect() {
        for (const Node& node : phase->division.trained.nodes)
            if (const auto place = places.find(node.name); place != places.end() && !node.frozen)
                network.nodes[place->second].parameters = node.parameters;
        std::size_t next = 0;
        for_trained(phase->division.trained, [&](const std::string& node, std::size_t p) {
            velocities[{node, p}] = phase->optimiser.velocities()[next++];
        });
    }
    void give_velocities() {
        std::size_t next = 0;
        for_trained(phase->division.trained, [&](const std::string& node, std::size_t p) {
            std::vector<float>& velocity = phase->optimiser.velocities()[next++];
            if (const auto known = velocities.find({node, p});
                known != velocities.end() && known->second.size() == velocity.size())
                velocity = known->second;
        });
    }

    std::vector<Tensor> trained_parameters() {
        collect();
        std::vector<Tensor> all;
        for (std::size_t i = first_ever; i < network.nodes.size(); ++i)
            all.insert(all.end(), network.nodes[i].parameters.begin(), network.nodes[i].parameters.end());
        return all;
    }
    // Into the nodes that ever train of any network with the names of ours.
    void set_parameters(Network& target, const std::vector<Tensor>& parameters) const {
        std::size_t next = 0;
        std::map<std::string, std::vector<Tensor>> by_name;
        for (std::size_t i = first_ever; i < network.nodes.size(); ++i)
            for (const Tensor& parameter : network.nodes[i].parameters) {
                if (next == parameters.size() || parameters[next].shape() != parameter.shape())
                    throw InputError("the saved weights do not fit this network");
                by_name[network.nodes[i].name].push_back(parameters[next++]);
            }
        if (next != parameters.size()) throw InputError("the saved weights do not fit this network");
        for (Node& node : target.nodes)
            if (const auto found = by_name.find(node.name); found != by_name.end())
                for (std::size_t p = 0; p < node.parameters.size(); ++p)
                    std::copy(found->second[p].values().begin(), found->second[p].values().end(),
                              node.parameters[p].values().begin());
    }

    // The pictures of an epoch, prepared ahead; nothing when kept features stand in for them. Without frozen
    // layers a kept row would be the picture once more, as numbers.
    std::unique_ptr<BatchQueue> pictures(const std::vector<std::int64_t>& order, std::uint32_t epoch) const {
        if (phase->keeps_features() && !settings.augmentation.changes_anything()) return nullptr;
        return std::make_unique<BatchQueue>(
            phase->features->images(), phase->features->scaling(),
            BatchSettings{.size = batch, .augmentation = settings.augmentation, .key = {seed, epoch}}, order,
            data.labels, data.weights);
    }

    Predictions predict(const Network& trained, const std::vector<std::size_t>& items) const {
        Predictions result{.items = items, .probabilities = std::vector<float>(items.size() * data.classes)};
        if (items.empty()) return result;
        const std::shared_ptr<BoundaryFeatures>& features = phase->features;
        const auto classes = static_cast<std::int64_t>(data.classes);
        Inference inference(trained, evaluation_batch);
        std::vector<float> input(static_cast<std::size_t>(evaluation_batch * features->values_per_item()));
        for (std::size_t begin = 0; begin < items.size(); begin += evaluation_batch) {
            const std::size_t count = std::min<std::size_t>(evaluation_batch, items.size() - begin);
            const std::vector<std::int64_t> some(items.begin() + static_cast<std::ptrdiff_t>(begin),
                                                 items.begin() + static_cast<std::ptrdiff_t>(begin + count));
            if (phase->keeps_features())
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

RunTrainer::RunTrainer(const TrainingData& data, Network network, std::vector<TrainingPhase> phases,
                       const Scaling& scaling, const TrainingSettings& settings, std::uint64_t seed,
                       FeaturePool* pool)
    : work_(std::make_unique<Work>(data, std::move(network), std::move(phases), scaling, settings, seed,
                                   pool)) {}

RunTrainer::RunTrainer(const TrainingData& data, Network network, std::size_t first_trained,
                       const Scaling& scaling, const TrainingSettings& settings, std::uint64_t seed,
                       FeaturePool* pool)
    : RunTrainer(data, std::move(network), std::vector<TrainingPhase>{{1, first_trained}}, scaling, settings,
                 seed, pool) {}

RunTrainer::~RunTrainer() = default;

std::int64_t RunTrainer::epochs_done() const {
    return work_->epochs_done;
}

EpochResult RunTrainer::train_epoch(const BatchProgress& progress) {
    const auto begin_time = std::chrono::steady_clock::now();
    Work& p = *work_;
    // An interrupted epoch must leave no trace: it is trained again from its beginning.
    const auto roll_back = [&, before = state()] { restore(before); };
    p.enter(p.epochs_done + 1);
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
    std::vector<float> input(static_cast<std::size_t>(p.batch * p.phase->features->values_per_item()));
    std::vector<float> gradient(static_cast<std::size_t>(p.batch) * p.data.classes);
    double loss = 0.0;
    std::int64_t correct = 0;
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
            if (p.phase->keeps_features()) {
                p.phase->features->compute(count, prepared->pictures, input);
                numbers = input;
            }
        } else {
            targets = targets_of(items, p.data.labels, p.data.weights);
            p.phase->features->fill(items, input);
        }
        const auto logits = p.phase->pass.forward(count, numbers, {p.seed, epoch, items.data()});
        const BatchLoss batch_loss =
            cross_entropy(static_cast<std::int64_t>(p.data.classes), logits, targets, gradient);
        check_finite(batch_loss.loss_sum);
        loss += batch_loss.loss_sum;
        correct += batch_loss.correct;
        p.phase->pass.backward(count, gradient);
        p.phase->optimiser.step(p.phase->pass.parameters(), result.learning_rate);
        if (progress && !progress(batch + 1, batches)) {
            roll_back();
            throw Interrupted("stopped; the epochs finished so far are kept");
        }
    }
    result.training_loss = loss / static_cast<double>(total);
    result.training_accuracy = static_cast<double>(correct) / static_cast<double>(total);
    ++p.epochs_done;
    result.validation = p.predict(p.phase->division.trained, p.data.parts.validation);
    check_finite(result.validation.loss);
    result.seconds = seconds_since(begin_time);
    return result;
}

EpochResult RunTrainer::solve_head(double penalty) {
    const auto begin_time = std::chrono::steady_clock::now();
    Work& p = *work_;
    Node& dense = p.phase->division.trained.nodes.back();
    assert(p.phase->division.trained.nodes.size() == 2 && std::holds_alternative<Dense>(dense.op));
    std::vector<std::int64_t> items(p.data.parts.training.begin(), p.data.parts.training.end());
    std::vector<float> features(items.size() *
                                static_cast<std::size_t>(p.phase->features->values_per_item()));
    p.phase->features->fill(items, features);
    std::vector<std::size_t> labels;
    std::vector<double> weights;
    for (const std::size_t item : p.data.parts.training) {
        labels.push_back(p.data.labels[item]);
        if (!p.data.weights.empty()) weights.push_back(p.data.weights[item]);
    }
    const LogisticRegression fit =
        fit_logistic_regression(features, labels, weights, p.data.classes, {.penalty = penalty});
    std::copy(fit.weight.values().begin(), fit.weight.values().end(), dense.parameters[0].values().begin());
    std::copy(fit.bias.values().begin(), fit.bias.values().end(), dense.parameters[1].values().begin());
    const Predictions seen = p.predict(p.phase->division.trained, p.data.parts.training);
    const std::vector<std::size_t> predicted = seen.classes();
    std::int64_t correct = 0;
    for (std::size_t i = 0; i < labels.size(); ++i) correct += predicted[i] == labels[i] ? 1 : 0;
    ++p.epochs_done;
    EpochResult result{.epoch = p.epochs_done,
                       .training_loss = seen.loss,
                       .training_accuracy = static_cast<double>(correct) / static_cast<double>(labels.size()),
                       .validation = p.predict(p.phase->division.trained, p.data.parts.validation)};
    result.seconds = seconds_since(begin_time);
    return result;
}

void RunTrainer::keep_as_best() {
    work_->best_epoch = work_->epochs_done;
    work_->best_parameters = work_->trained_parameters();
}

Network RunTrainer::best_network() const {
    assert(work_->best_epoch > 0);
    Network best = work_->network;
    work_->set_parameters(best, work_->best_parameters);
    freeze_before(best, 0);
    return best;
}

Predictions RunTrainer::predict_with_best(const std::vector<std::size_t>& items) const {
    Network best = work_->phase->division.trained;
    work_->set_parameters(best, work_->best_parameters);
    return work_->predict(best, items);
}

TrainingState RunTrainer::state() const {
    Work& p = *work_;
    TrainingState state{.epochs_done = p.epochs_done,
                        .parameters = p.trained_parameters(),
                        .best_epoch = p.best_epoch,
                        .best_parameters = p.best_parameters};
    for (std::size_t i = p.first_ever; i < p.network.nodes.size(); ++i)
        for (std::size_t k = 0; k < p.network.nodes[i].parameters.size(); ++k) {
            const auto known = p.velocities.find({p.network.nodes[i].name, k});
            state.velocities.push_back(known == p.velocities.end() ? std::vector<float>() : known->second);
        }
    return state;
}

void RunTrainer::restore(const TrainingState& state) {
    Work& p = *work_;
    Network restored = p.network;
    p.set_parameters(restored, state.parameters);
    std::map<std::pair<std::string, std::size_t>, std::vector<float>> velocities;
    std::size_t next = 0;
    for (std::size_t i = p.first_ever; i < restored.nodes.size(); ++i)
        for (std::size_t k = 0; k < restored.nodes[i].parameters.size(); ++k, ++next) {
            if (next >= state.velocities.size() ||
                (!state.velocities[next].empty() &&
                 std::ssize(state.velocities[next]) != restored.nodes[i].parameters[k].size()))
                throw InputError("the saved optimiser state does not fit this network");
            if (!state.velocities[next].empty())
                velocities[{restored.nodes[i].name, k}] = state.velocities[next];
        }
    p.phase.reset();
    p.network = std::move(restored);
    p.velocities = std::move(velocities);
    p.epochs_done = state.epochs_done;
    p.best_epoch = state.best_epoch;
    p.best_parameters = state.best_parameters;
    p.enter(std::max<std::int64_t>(1, state.epochs_done));
}

}  // namespace jevrin
