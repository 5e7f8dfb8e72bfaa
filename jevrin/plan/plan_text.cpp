// Writing a plan: the settings of one run as TOML.
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/training/descriptions.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

// TOML's basic strings are those of JSON, but for one more character that must be escaped.
std::string quoted(const std::string& text) {
    std::string result;
    for (const char c : json_text(Json(text))) result += c == '\x7f' ? "\\u007f" : std::string(1, c);
    return result;
}

std::string key_text(const std::string& key) {
    const bool bare = !key.empty() && std::all_of(key.begin(), key.end(), [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' ||
               c == '-';
    });
    return bare ? key : quoted(key);
}

std::string value_text(const Json& value) {
    if (value.is_string()) return quoted(value.get<std::string>());
    if (!value.is_structured()) return json_text(value);
    std::vector<std::string> inner;
    for (const Json& element : value) inner.push_back(value_text(element));
    for (const auto& [key, element] : value.items())
        inner.push_back(key_text(key) + " = " + value_text(element));
    const std::string text = fmt::format("{}", fmt::join(inner, ", "));
    if (value.is_array()) return "[" + text + "]";
    return text.empty() ? "{}" : "{ " + text + " }";
}

std::string lines_of(const Json& table) {
    std::string text;
    for (const auto& [key, value] : table.items())
        text += fmt::format("{} = {}\n", key_text(key), value_text(value));
    return text;
}

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

std::string plan_of_run(const Plan& plan, const Candidate& candidate, std::uint64_t seed, std::int64_t fold) {
    std::string text =
        lines_of({{"name", plan.name}, {"seeds", Json::array({seed})}, {"metric", name_of(plan.metric)}});
    text += "\n[images]\n" + lines_of(images_table(plan, fold));
    for (const BackbonePlan& backbone : plan.backbones) {
        if (backbone.name != candidate.backbone) continue;
        Json table = {{"name", backbone.name}, {"file", backbone.file.string()}};
        if (!backbone.features.empty()) table["features"] = backbone.features;
        if (backbone.resample_positions) table["resample_positions"] = true;
        if (backbone.scaling) table["scaling"] = scaling_json(*backbone.scaling);
        text += "\n[backbone]\n" + lines_of(table);
    }
    Json table = {{"name", candidate.name}};
    table.update(complete_json(candidate));
    const bool solves = candidate.last_layer == LastLayer::logistic_regression;
    if (solves || (candidate.network && !candidate.head_stated)) table.erase("head");
    table.erase("training");
    text += "\n[[candidate]]\n" + lines_of(table);
    if (!solves) text += "\n[candidate.training]\n" + lines_of(training_table(candidate.training));
    return text;
}

}  // namespace jevrin::inline v1
