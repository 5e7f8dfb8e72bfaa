#include "jevrin/training/run_weights.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/training/training_state.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

// Calls visit(node name, parameter index) for each parameter that trains, in the order of a pass.
template <typename Visit>
void for_trained(const Network& trained, Visit visit) {
    for (const Node& node : trained.nodes)
        for (std::size_t p = 0; p < node.parameters.size() && !node.frozen; ++p)
            if (parameter_kind(node.op, p) != ParameterKind::statistic) visit(node.name, p);
}

}  // namespace

PhaseWork::PhaseWork(NetworkHalves cut, std::size_t first, std::shared_ptr<BoundaryFeatures> shared,
                     std::int64_t batch, const TrainingSettings& settings, std::size_t classes,
                     ShardLink* link)
    : first_trained(first),
      halves(std::move(cut)),
      features(std::move(shared)),
      pass(halves.trained, settings.shards == 1 ? batch : (batch + settings.shards - 1) / settings.shards,
           settings.activations),
      step(halves.trained, pass, settings, classes, batch, link),
      optimiser(settings.optimiser, pass.parameters()),
      monitor(halves.trained, pass.parameters()) {}

RunWeights::RunWeights(const TrainingData& data, Network network, std::vector<TrainingPhase> phases,
                       const Scaling& scaling, const TrainingSettings& settings, std::int64_t batch,
                       FeaturePool& pool, ShardLink* link)
    : data_(data),
      network_(std::move(network)),
      phases_(std::move(phases)),
      scaling_(scaling),
      settings_(settings),
      batch_(batch),
      pool_(pool),
      link_(link),
      first_ever_(phases_.back().first_trained) {
    std::size_t parameters = 0;
    for (std::size_t i = 0; i < network_.nodes.size(); ++i) {
        places_[network_.nodes[i].name] = i;
        first_parameter_.push_back(parameters);
        if (i >= first_ever_) parameters += network_.nodes[i].parameters.size();
    }
    enter(1);
    if (settings_.ema_decay > 0.0) averages_ = this->parameters();
}

void RunWeights::enter(std::int64_t epoch) {
    std::size_t first_trained = phases_.front().first_trained;
    for (const TrainingPhase& p : phases_)
        if (p.first_epoch <= epoch) first_trained = p.first_trained;
    if (phase_ && phase_->first_trained == first_trained) return;
    if (phase_) collect();
    phase_.reset();
    freeze_before(network_, first_trained);
    NetworkHalves halves = cut_network(network_, cut_before(network_, first_trained));
    // Without frozen layers there is nothing to share but the images.
    auto features = halves.frozen.nodes.size() > 1
                        ? pool_.get(*data_.images, halves.frozen, scaling_)
                        : std::make_shared<BoundaryFeatures>(*data_.images, halves.frozen, scaling_);
    phase_ = std::make_unique<PhaseWork>(std::move(halves), first_trained, std::move(features), batch_,
                                         settings_, data_.classes, link_);
    std::size_t next = 0;
    for_trained(phase_->halves.trained, [&](const std::string& node, std::size_t p) {
        Moments& moments = phase_->optimiser.moments()[next++];
        if (const auto known = moments_.find({node, p});
            known != moments_.end() && known->second.first.size() == moments.first.size())
            moments = known->second;
    });
}

// Weights and moments of the phase, put where the next one finds them.
void RunWeights::collect() {
    for (const Node& node : phase_->halves.trained.nodes)
        if (const auto place = places_.find(node.name); place != places_.end() && !node.frozen)
            network_.nodes[place->second].parameters = node.parameters;
    std::size_t next = 0;
    for_trained(phase_->halves.trained, [&](const std::string& node, std::size_t p) {
        moments_[{node, p}] = phase_->optimiser.moments()[next++];
    });
}

std::vector<Tensor> RunWeights::parameters() {
    collect();
    std::vector<Tensor> all;
    for (std::size_t i = first_ever_; i < network_.nodes.size(); ++i)
        all.insert(all.end(), network_.nodes[i].parameters.begin(), network_.nodes[i].parameters.end());
    return all;
}

std::vector<Tensor> RunWeights::kept_parameters() {
    return averages_.empty() ? parameters() : averages_;
}

std::vector<Moments> RunWeights::moments() {
    collect();
    std::vector<Moments> all;
    for (std::size_t i = first_ever_; i < network_.nodes.size(); ++i)
        for (std::size_t k = 0; k < network_.nodes[i].parameters.size(); ++k) {
            const auto known = moments_.find({network_.nodes[i].name, k});
            all.push_back(known == moments_.end() ? Moments{} : known->second);
        }
    return all;
}

void RunWeights::restore(const TrainingState& state) {
    Network restored = network_with(state.parameters);
    std::map<Name, Moments> moments;
    std::size_t next = 0;
    for (std::size_t i = first_ever_; i < restored.nodes.size(); ++i)
        for (std::size_t k = 0; k < restored.nodes[i].parameters.size(); ++k, ++next) {
            const auto size = static_cast<std::size_t>(restored.nodes[i].parameters[k].size());
            const bool known = next < state.moments.size();
            const Moments saved = known ? state.moments[next] : Moments{};
            const bool has_second = settings_.optimiser.kind != OptimiserKind::sgd;
            if (!known || (!saved.first.empty() &&
                           (saved.first.size() != size || saved.second.size() != (has_second ? size : 0))))
                throw InputError("the saved optimiser state does not fit this network");
            if (!saved.first.empty()) moments[{restored.nodes[i].name, k}] = saved;
        }
    if (settings_.ema_decay > 0.0) network_with(state.averages);  // throws when they do not fit
    phase_.reset();
    network_ = std::move(restored);
    moments_ = std::move(moments);
    if (settings_.ema_decay > 0.0) averages_ = state.averages;
}

void RunWeights::average(std::int64_t steps) {
    if (settings_.ema_decay == 0.0) return;
    const double decay = settings_.ema_decay;
    const auto share =
        static_cast<float>((1.0 - decay) / (1.0 - std::pow(decay, static_cast<double>(steps))));
    for (const Node& node : phase_->halves.trained.nodes) {
        const auto place = places_.find(node.name);
        if (node.frozen || place == places_.end()) continue;
        for (std::size_t p = 0; p < node.parameters.size(); ++p) {
            float* average = averages_[first_parameter_[place->second] + p].data();
            const std::span<const float> value = node.parameters[p].values();
            for (std::size_t i = 0; i < value.size(); ++i) average[i] += share * (value[i] - average[i]);
        }
    }
}

// Into the nodes that ever train of any network with the names of ours.
void RunWeights::set_parameters(Network& target, const std::vector<Tensor>& parameters) const {
    const auto refuse = [] { throw InputError("the saved weights do not fit this network"); };
    std::size_t next = 0;
    for (std::size_t i = first_ever_; i < network_.nodes.size(); ++i)
        for (const Tensor& parameter : network_.nodes[i].parameters)
            if (next == parameters.size() || parameters[next++].shape() != parameter.shape()) refuse();
    if (next != parameters.size()) refuse();
    for (Node& node : target.nodes) {
        const auto place = places_.find(node.name);
        if (place == places_.end() || place->second < first_ever_) continue;
        for (std::size_t p = 0; p < node.parameters.size(); ++p) {
            const Tensor& from = parameters[first_parameter_[place->second] + p];
            std::copy(from.values().begin(), from.values().end(), node.parameters[p].values().begin());
        }
    }
}

Network RunWeights::trained_with(const std::vector<Tensor>& parameters) const {
    Network trained = phase_->halves.trained;
    set_parameters(trained, parameters);
    return trained;
}

Network RunWeights::network_with(const std::vector<Tensor>& parameters) const {
    Network whole = network_;
    set_parameters(whole, parameters);
    return whole;
}

}  // namespace jevrin::inline v1
