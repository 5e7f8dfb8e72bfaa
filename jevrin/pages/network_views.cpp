// The network of a run, and its activations for a picture.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/execution/activations.hpp"
#include "jevrin/figures/layer_images.hpp"
#include "jevrin/graph/layer_table.hpp"
#include "jevrin/pages/data_uri.hpp"
#include "jevrin/pages/view_functions.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_maps = 12;  // of a stage

Json activation_json(const StageActivation& stage) {
    const SheetRow row = map_images(stage, most_maps);
    Json maps = Json::array();
    for (const Image& map : row.images) maps.push_back(data_uri(map));
    return {{"stage", stage.stage},
            {"layer", stage.layer},
            {"shape", stage.values.shape()},
            {"mean", short_number(stage.mean)},
            {"deviation", short_number(stage.deviation)},
            {"zeros", short_number(stage.zeros)},
            {"silent", short_number(stage.silent)},
            {"label", row.label},
            {"maps", std::move(maps)}};
}

// Of one layer, or of every stage.
std::vector<StageActivation> wanted_activations(const Network& network, const std::string& layer,
                                                std::span<const float> input) {
    if (layer.empty()) return stage_activations(network, input);
    std::vector<std::string> names;
    for (const LayerRow& row : layer_table(network)) {
        if (row.name == layer) return {activation_at(network, row.last, input)};
        names.push_back(row.name);
    }
    throw InputError(
        fmt::format("the network has no layer '{}'{}", printable(layer), did_you_mean(layer, names)));
}

}  // namespace

Json network_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    const Classifier classifier = load_model(ledger, run);
    std::set<std::string> trained;  // what was recorded of an epoch are the layers that train
    for (const LayerSummary& layer : ledger.layers(run.id, run.epochs)) trained.insert(layer.layer);
    Json layers = Json::array();
    for (const LayerRow& row : layer_table(classifier.network))
        layers.push_back({{"layer", row.name},
                          {"stage", row.stage},
                          {"operators", row.operators},
                          {"shape", row.shape},
                          {"parameters", row.parameters},
                          {"multiplications", row.multiplications},
                          {"trains", row.parameters > 0 && (trained.empty() ? run.regime == Regime::scratch
                                                                            : trained.contains(row.name))},
                          {"reads", row.reads}});
    return {{"run", run.name()},
            {"regime", name_of(run.regime)},
            {"input", classifier.network.input},
            {"parameters", run.parameters},
            {"trainable_parameters", run.trainable_parameters},
            {"layers", std::move(layers)}};
}

Json activations_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    const Classifier classifier = load_model(ledger, run);
    const Fitting& fitting = classifier.preparation.fitting;
    const ImageSet set = items_of(study, {ledger.unsealed_item(study.id, query.required("item"))});
    const std::vector<std::uint8_t> fitted = load_fitted(set, set.items.front(), fitting);
    std::vector<float> input(fitted.size());
    ScalingTable(classifier.preparation.scaling, fitting.channels).apply(fitted, input);
    Json stages = Json::array();
    for (const StageActivation& stage : wanted_activations(classifier.network, query.text("layer"), input))
        stages.push_back(activation_json(stage));
    return {{"run", run.name()}, {"stages", std::move(stages)}};
}

}  // namespace jevrin::inline v1
