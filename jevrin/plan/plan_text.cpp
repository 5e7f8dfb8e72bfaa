// Writing a plan: the settings of one run as TOML.
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/plan/toml.hpp"
#include "jevrin/training/descriptions.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

Json images_table(const Plan& plan, std::int64_t fold) {
    const ImagesPlan& images = plan.images;
    Json table = complete_json(images.source);
    table.update(complete_json(images));
    if (fold > 0) table["parts"]["fold"] = fold;
    if (images.scaling) table["scaling"] = scaling_json(*images.scaling);
    return table;
}

Json training_table(const TrainingSettings& settings) {
    Json table = complete_json(settings);
    Json& overlays = table["augment"]["overlay"];
    for (std::size_t i = 0; i < settings.augmentation.overlays.size(); ++i) {
        Json overlay = {{"file", settings.augmentation.overlays[i].file.string()}};
        for (const auto& [key, value] : overlays[i].items())
            if (key != "content") overlay[key] = value;
        overlays[i] = std::move(overlay);
    }
    if (overlays.empty()) table["augment"].erase("overlay");
    return table;
}

}  // namespace

std::string source_lines(const ImageSource& source) {
    return toml_lines(complete_json(source));
}

std::string plan_of_run(const Plan& plan, const Candidate& candidate, std::uint64_t seed, std::int64_t fold) {
    std::string text =
        toml_lines({{"name", plan.name}, {"seeds", Json::array({seed})}, {"metric", name_of(plan.metric)}});
    text += "\n[images]\n" + toml_lines(images_table(plan, fold));
    for (const BackbonePlan& backbone : plan.backbones) {
        if (backbone.name != candidate.backbone) continue;
        Json table = {{"name", backbone.name}, {"file", backbone.file.string()}};
        if (!backbone.features.empty()) table["features"] = backbone.features;
        if (backbone.resample_positions) table["resample_positions"] = true;
        if (backbone.scaling) table["scaling"] = scaling_json(*backbone.scaling);
        text += "\n[backbone]\n" + toml_lines(table);
    }
    Json table = {{"name", candidate.name}};
    table.update(complete_json(candidate));
    const bool solves = candidate.last_layer == LastLayer::logistic_regression;
    if (solves || (candidate.network && !candidate.head_stated)) table.erase("head");
    table.erase("training");
    text += "\n[[candidate]]\n" + toml_lines(table);
    if (!solves) text += "\n[candidate.training]\n" + toml_lines(training_table(candidate.training));
    return text;
}

}  // namespace jevrin::inline v1
