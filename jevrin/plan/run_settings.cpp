#include "jevrin/plan/run_settings.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/graph/descriptions.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/training/descriptions.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// Goes up when a default changes or a setting comes to mean something else; then identities are made anew.
constexpr int identity_version = 1;

Description<RunImages> describe_run_images() {
    Description<RunImages> d;
    d.include(&RunImages::plan);
    d.text("fingerprint", &RunImages::fingerprint).if_stated();
    return d;
}

std::array<double, 3> three_numbers(TableReader& reader, const std::string& key) {
    const std::vector<double> values = reader.numbers(key, -1e9, 1e9);
    reader.at(key, [&] {
        if (values.size() != 3) throw InputError("'" + key + "' needs three numbers");
    });
    return {values[0], values[1], values[2]};
}

// Numbers that were measured may differ in their last bits between compilers and processors.
Json rounded(const std::array<double, 3>& values) {
    Json json = Json::array();
    for (const double value : values) json.push_back(std::stod(fmt::format("{:.9g}", value)));
    return json;
}

Description<RunSettings> describe_run() {
    using R = RunSettings;
    Description<R> d;
    d.include(&R::candidate);
    d.text("features", &R::features).if_stated();
    d.table("images", &R::images);
    d.word("metric", &R::metric);
    d.text("backbone", &R::backbone).if_stated();
    auto& scaling = d.custom(
        "scaling", "{ mean, deviation }",
        [](TableReader& reader, const std::string& k, R& r) {
            TableReader table = *reader.table(k);
            r.scaling = {three_numbers(table, "mean"), three_numbers(table, "deviation")};
            table.finish();
        },
        [](const R& r) {
            return Json{{"mean", r.scaling.mean}, {"deviation", r.scaling.deviation}};
        });
    scaling.canonical = [](const R& r) {
        return Json{{"mean", rounded(r.scaling.mean)}, {"deviation", rounded(r.scaling.deviation)}};
    };
    return d;
}

}  // namespace

const Description<RunImages>& description_of(const RunImages&) {
    static const Description<RunImages> description = describe_run_images();
    return description;
}

const Description<RunSettings>& description_of(const RunSettings&) {
    static const Description<RunSettings> description = describe_run();
    return description;
}

RunSettings settings_of(const Plan& plan, const Candidate& candidate) {
    RunSettings settings{.candidate = candidate, .images = {.plan = plan.images}, .metric = plan.metric};
    for (const BackbonePlan& backbone : plan.backbones)
        if (backbone.name == candidate.backbone) settings.features = backbone.features;
    return settings;
}

std::string to_text(const RunSettings& settings) {
    return json_text(complete_json(settings));
}

std::string identity_of(const RunSettings& settings) {
    Json json = {{"version", identity_version}};
    json.update(canonical_json(settings));
    return json_text(json);
}

RunSettings parse_settings(std::string_view text) {
    const Json json = parse_json(text);
    if (!json.is_object()) throw InputError("the settings of a run are not JSON");
    const SettingNode node = node_of(json);
    return read_settings(TableReader(node, "settings", "a run"), RunSettings{});
}

template class Description<RunImages>;
template class Description<RunSettings>;

}  // namespace jevrin::inline v1
