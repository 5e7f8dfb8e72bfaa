#include "jevrin/study/check.hpp"

#include "jevrin/execution/inference.hpp"
#include "jevrin/execution/training_pass.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/run_memory.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <numeric>
#include <set>

namespace jevrin::inline v1 {
namespace {

// The shortest of a few measured calls, in seconds.
template <typename Work>
double measure(Work work) {
    double best = 1e30;
    for (int i = 0; i < 3; ++i) {
        const auto begin = std::chrono::steady_clock::now();
        work();
        best =
            std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count());
    }
    return best;
}

std::vector<std::string> describe_stages(const Network& network) {
    const std::vector<Shape> shapes = infer_shapes(network);
    std::vector<std::string> stages;
    for (std::size_t i = 1; i < network.nodes.size(); ++i) {
        const bool last_of_stage =
            i + 1 == network.nodes.size() || stage_of(network.nodes[i]) != stage_of(network.nodes[i + 1]);
        if (!last_of_stage) continue;
        const std::string text = fmt::format("{} {}", stage_of(network.nodes[i]), to_string(shapes[i]));
        stages.push_back(network.nodes[i].frozen ? fmt::format("[{}]", text) : text);
    }
    return stages;
}

void note_what_trains(CandidateCheck& check, const CandidateNetwork& built) {
    for (const Node& node : built.network.nodes)
        if (const auto* constant = std::get_if<operators::Constant>(&node.op);
            constant != nullptr && constant->stored) {
            check.fixed_numbers += node.parameters[0].size();
            check.fixed_constants.push_back(node.name);
        }
    if (check.regime != Regime::partial) return;
    std::int64_t before_head = 0;
    for (std::size_t i = built.first_trained(); i < built.head; ++i)
        before_head += parameters_of(built.network.nodes[i]);
    check.head_only = before_head == 0;
}

// The share of a step that goes into products of matrices, large enough that arithmetic bounds them.
double share_of_products(const Network& network, std::span<const double> node_seconds) {
    double products = 0.0;
    double sum = 0.0;
    for (std::size_t n = 0; n < network.nodes.size(); ++n) {
        const auto& op = network.nodes[n].op;
        const auto* convolution = std::get_if<operators::Convolution>(&op);
        const bool is_product = (convolution != nullptr && convolution->groups == 1) ||
                                std::holds_alternative<operators::Dense>(op) ||
                                std::holds_alternative<operators::MatrixProduct>(op);
        if (is_product) products += node_seconds[n];
        sum += node_seconds[n];
    }
    return sum > 0.0 ? products / sum : 0.0;
}

std::vector<BackboneCheck> check_backbones(const Materials& materials) {
    std::vector<BackboneCheck> checks;
    for (const BackbonePlan& stated : materials.plan.backbones) {
        const Backbone& backbone = materials.backbones.at(stated.name);
        checks.push_back({.name = stated.name,
                          .file = stated.file.filename().string(),
                          .width = infer_shapes(backbone.network).back().back(),
                          .shape = backbone.feature_shape,
                          .place = backbone.feature_place});
    }
    return checks;
}

}  // namespace

PlanCheck check_plan(const Materials& materials) {
    const Plan& plan = materials.plan;
    PlanCheck check;
    const TrainingData& data = materials.data;
    for (const Part part : all_parts)
        check.part_sizes.push_back(static_cast<std::int64_t>(data.parts.of(part).size()));
    check.backbones = check_backbones(materials);
    const std::size_t folds = std::max<std::size_t>(1, plan.images.folds.size());
    for (const Candidate& candidate : plan.candidates) {
        CandidateNetwork built =
            build_network(plan, candidate, materials.backbones, data.classes, plan.seeds.front());
        set_winograd(built.network, candidate.training.winograd);
        const std::size_t cut = cut_before(built.network, built.first_trained());
        NetworkHalves halves = cut_network(built.network, cut);
        const TrainingData own =
            materials.data_for(candidate, plan.images.folds.size() > 1 ? plan.images.folds.front() : 0);
        const std::int64_t batch =
            std::min(candidate.training.batch, static_cast<std::int64_t>(own.parts.training.size()));
        const auto backbone = materials.backbones.find(candidate.network ? "" : candidate.backbone);
        CandidateCheck result{
            .candidate = candidate.name,
            .regime = candidate.regime,
            .stages = describe_stages(built.network),
            .layers = layer_table(built.network),
            .parameters = parameter_count(built.network),
            .trainable_parameters = trainable_parameter_count(built.network),
            .multiplications = multiplication_count(built.network),
            .backbone_bytes = backbone == materials.backbones.end() ? 0 : backbone->second.bytes};
        note_what_trains(result, built);
        const PassMemory memory =
            run_memory(built.network, built.first_trained(), candidate.training.activations);
        result.largest_batch = fitting_batch(memory);
        result.memory_bytes =
            require_candidate_memory(candidate, built, items_at_once(candidate.training, batch));

        std::vector<std::int64_t> items(own.parts.training.begin(), own.parts.training.begin() + batch);
        std::vector<float> images(static_cast<std::size_t>(batch * data.images->values_per_image()));
        const ScalingTable scaling(materials.scaling_for(candidate), data.images->fitting().channels);
        const double fill_seconds = measure([&] {
            data.images->fill(items, scaling, candidate.training.augmentation, {plan.seeds.front(), 1},
                              images);
        });
        Inference frozen(halves.frozen, batch);
        const double frozen_seconds = measure([&] { frozen.run(batch, images); });
        const auto features = frozen.run(batch, images);
        const std::vector<float> input(features.begin(), features.end());

        TrainingPass pass(halves.trained, batch, candidate.training.activations);
        std::vector<std::size_t> labels;
        for (const std::int64_t item : items) labels.push_back(data.labels[static_cast<std::size_t>(item)]);
        const std::vector<Target> targets = plain_targets(labels);
        std::vector<float> gradient(static_cast<std::size_t>(batch) * data.classes);
        const auto step = [&] {
            const auto logits = pass.forward(batch, input, {plan.seeds.front(), 1, items.data()});
            cross_entropy(static_cast<std::int64_t>(data.classes), logits, targets, gradient);
            pass.backward(batch, gradient);
        };
        const double step_seconds = measure(step);
        pass.measure_nodes();
        step();
        const double products = share_of_products(halves.trained, pass.node_seconds());
        Inference trained(halves.trained, batch);
        const double validation_seconds = measure([&] { trained.run(batch, input); });

        const TrainingSettings& training = candidate.training;
        const bool features_kept =
            cut > 1 && (!training.augmentation.changes_anything() || training.views > 0);
        const auto training_items = static_cast<std::int64_t>(own.parts.training.size());
        const RunLength length = run_length(training, training_items);
        const auto batches = static_cast<double>(training_items) / static_cast<double>(batch);
        const double validation_batches =
            static_cast<double>(own.parts.validation.size()) / static_cast<double>(batch);
        // Of the training part, between two validations.
        const double passes = batches * static_cast<double>(length.steps) /
                              static_cast<double>(length.steps_per_epoch * length.validations);
        result.epochs = length.validations;
        result.epoch = {.images = features_kept ? 0.0 : passes * fill_seconds,
                        .frozen = features_kept ? 0.0 : passes * frozen_seconds,
                        .products = passes * step_seconds * products,
                        .passes = passes * step_seconds * (1.0 - products),
                        .validation = validation_batches * validation_seconds};
        if (cut > 1) {
            const auto views = static_cast<double>(std::max<std::int64_t>(1, training.views));
            result.seconds_once = (validation_batches + (features_kept ? views * batches : 0.0)) *
                                  (fill_seconds + frozen_seconds);
        }
        result.runs = static_cast<std::int64_t>(plan.seeds.size() * folds);
        check.seconds +=
            static_cast<double>(result.runs * result.epochs) * result.epoch.sum() + result.seconds_once;
        check.runs += result.runs;
        check.candidates.push_back(std::move(result));
    }
    return check;
}

}  // namespace jevrin::inline v1
