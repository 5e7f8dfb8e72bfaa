#include "jevrin/results/layers_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// For images of that shape, scaled to 0 to 1.
Preparation plain_preparation(const Network& network, const std::filesystem::path& file) {
    const Shape& input = network.input;
    if (input.size() != 3 || (input[2] != 1 && input[2] != 3))
        throw InputError(fmt::format("{}: it takes {}; only grey or colour images can be shown",
                                     printable(file.string()), to_string(input)));
    Preparation preparation;
    preparation.fitting.size = {input[0], input[1]};
    preparation.fitting.channels = static_cast<int>(input[2]);
    return preparation;
}

}  // namespace

std::string LayersResult::title() const {
    return fmt::format("{}: {}", printable(query.model.filename().string()), printable(query.image.string()));
}

LayersResult report_layers(const LayersQuery& query) {
    ReadSettings settings;
    settings.image_size = query.size;
    Model model = read_model(query.model, settings);
    LayersResult result{
        .query = query, .network = std::move(model.network), .preparation = {}, .fitted = {}, .stages = {}};
    const auto stored = model.metadata.find("jevrin.preparation");
    result.carries_preparation = stored != model.metadata.end();
    result.preparation = result.carries_preparation ? Preparation::from_json(stored->second)
                                                    : plain_preparation(result.network, query.model);
    const Fitting& fitting = result.preparation.fitting;
    if (result.network.input != Shape{fitting.size.height, fitting.size.width, fitting.channels})
        throw InputError(fmt::format("{}: its network takes {} and its preparation gives {}x{}",
                                     printable(query.model.string()), to_string(result.network.input),
                                     fitting.size.text(), fitting.channels));
    result.fitted = load_fitted(query.image, fitting);
    std::vector<float> input(result.fitted.size());
    ScalingTable(result.preparation.scaling, fitting.channels).apply(result.fitted, input);
    result.stages = stage_activations(result.network, input);
    return result;
}

std::string to_json(const LayersResult& result) {
    Json json = Json::array();
    for (const StageActivation& s : result.stages)
        json.push_back({{"stage", s.stage},
                        {"layer", s.layer},
                        {"shape", s.values.shape()},
                        {"mean", s.mean},
                        {"deviation", s.deviation},
                        {"zeros", s.zeros},
                        {"silent", s.silent}});
    return document(json);
}

std::string to_text(const LayersResult& result, const TextForm& form) {
    ResultTable table({"stage", "layer", "shape", "mean", "deviation", "zeros", "silent"}, {3, 4, 5, 6});
    for (const StageActivation& s : result.stages)
        table.add({printable(s.stage), printable(s.layer), to_string(s.values.shape()),
                   fmt::format("{:.4f}", s.mean), fmt::format("{:.4f}", s.deviation),
                   fmt::format("{:.1f} %", 100.0 * s.zeros), fmt::format("{:.1f} %", 100.0 * s.silent)});
    return table.text(form.width) +
           "zeros: values that are exactly 0; silent: channels that are 0 everywhere in this image\n";
}

}  // namespace jevrin::inline v1
