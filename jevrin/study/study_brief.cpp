#include "jevrin/study/study_brief.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_store.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <mutex>
#include <utility>

namespace jevrin::inline v1 {
namespace {

Json parts_json(const PartsSettings& settings) {
    return {{"by", static_cast<int>(settings.by)},
            {"training", settings.training},
            {"validation", settings.validation},
            {"test", settings.test},
            {"folds", settings.folds},
            {"fold", settings.fold},
            {"seed", std::to_string(settings.seed)},
            {"group_near_duplicates", settings.group_near_duplicates}};
}

PartsSettings parts_settings_from(const Json& json) {
    return {.by = static_cast<PartsBy>(json.at("by").get<int>()),
            .training = json.at("training").get<double>(),
            .validation = json.at("validation").get<double>(),
            .test = json.at("test").get<double>(),
            .folds = json.at("folds").get<std::int64_t>(),
            .fold = json.at("fold").get<std::int64_t>(),
            .seed = std::stoull(json.at("seed").get<std::string>()),
            .group_near_duplicates = json.at("group_near_duplicates").get<bool>()};
}

Json items_json(const std::vector<Item>& items) {
    Json json = Json::array();
    for (const Item& item : items) json.push_back({item.path, item.label, item.content.text(), item.weight});
    return json;
}

std::vector<Item> items_from(const Json& json) {
    std::vector<Item> items;
    for (const Json& entry : json) {
        Item item;
        item.path = entry.at(0).get<std::string>();
        item.label = entry.at(1).get<std::size_t>();
        item.content = ContentHash::from_text(entry.at(2).get<std::string>()).value();
        item.id = item.path + "#" + item.content.text();
        item.weight = entry.at(3).get<double>();
        items.push_back(std::move(item));
    }
    return items;
}

Parts parts_from(const Json& json) {
    const auto indices = [&](const char* key) { return json.at(key).get<std::vector<std::size_t>>(); };
    return {.training = indices("training"),
            .validation = indices("validation"),
            .test = indices("test"),
            .folds = json.at("folds").get<std::vector<std::int64_t>>(),
            .units = indices("units")};
}

Backbone backbone_here(const BackbonePlan& plan, const Json& stated, ImageSize size, const Supplies& supplies,
                       Supplied& supplied) {
    const auto hash = stated.at("hash").get<std::string>();
    std::error_code ignored;
    if (std::filesystem::is_regular_file(plan.file, ignored)) try {
            Backbone backbone = load_backbone(plan, size);
            if (backbone.hash == hash) return backbone;
        } catch (const InputError&) {
            // Another one stands there.
        }
    const StagingDirectory staging(std::filesystem::temp_directory_path());
    BackbonePlan copy = plan;
    copy.file = staging.path() / plan.file.filename();
    write_file(copy.file, supplies.backbone(plan.name));
    ++supplied.backbones;
    std::string reason = "its weights are others";
    try {
        Backbone backbone = load_backbone(copy, size);
        if (backbone.hash == hash) return backbone;
    } catch (const InputError& error) {
        reason = error.reason();
    }
    throw InputError(fmt::format(
        "{}: this machine has not the backbone of the study, and a copy of its file alone does not do ({}); "
        "copy it here with all files that belong to it",
        printable(plan.file.string()), reason));
}

// Puts every image into the store that it lacks: those of this machine first.
std::int64_t fill_store(ImageStore& store, const ImageSet& set, const Supplies& supplies) {
    const Fitting& fitting = store.fitting();
    const auto values = static_cast<std::size_t>(fitting.values());
    std::error_code ignored;
    const bool has_root = std::filesystem::exists(set.root, ignored);
    std::vector<std::size_t> missing;
    std::mutex mutex;
    parallel_for(std::ssize(set.items), [&](std::int64_t i) {
        const Item& item = set.items[static_cast<std::size_t>(i)];
        std::vector<std::uint8_t> pixels(values);
        if (store.read(item.content, pixels)) return;
        if (has_root) try {
                store.put(item.content, load_fitted(set, item, fitting));
                return;
            } catch (const InputError&) {
                // Missing here, or another version.
            }
        const std::lock_guard lock(mutex);
        missing.push_back(static_cast<std::size_t>(i));
    });
    std::sort(missing.begin(), missing.end());
    constexpr std::size_t bytes_at_once = std::size_t{1} << 23;
    const std::size_t at_once = std::max<std::size_t>(1, bytes_at_once / values);
    for (std::size_t begin = 0; begin < missing.size(); begin += at_once) {
        const std::vector<std::size_t> some(
            missing.begin() + static_cast<std::ptrdiff_t>(begin),
            missing.begin() + static_cast<std::ptrdiff_t>(std::min(missing.size(), begin + at_once)));
        const std::string pixels = supplies.images(some);
        if (pixels.size() != some.size() * values) throw WorkError("images that were asked for are missing");
        for (std::size_t i = 0; i < some.size(); ++i)
            store.put(set.items[some[i]].content,
                      {reinterpret_cast<const std::uint8_t*>(pixels.data()) + i * values, values});
    }
    return std::ssize(missing);
}

}  // namespace

Json study_brief(const Materials& materials, const StudyOptions& options) {
    const Plan& plan = materials.plan;
    if (plan.text.empty())
        throw InputError("a study is spread over several processes only when its plan was read from a file");
    const Parts& parts = materials.parts;
    Json backbones = Json::object();
    for (const auto& [name, backbone] : materials.backbones) backbones[name] = {{"hash", backbone.hash}};
    const Scaling& scaling = materials.measured_scaling;
    return {{"plan", plan.text},
            {"file", std::filesystem::absolute(plan.file).string()},
            {"channels", plan.images.fitting.channels},
            {"parts_settings", parts_json(*plan.images.parts)},
            {"classes", materials.set.classes},
            {"root", std::filesystem::absolute(materials.set.root).string()},
            {"items", items_json(materials.set.items)},
            {"fingerprint", materials.set.fingerprint},
            {"parts",
             {{"training", parts.training},
              {"validation", parts.validation},
              {"test", parts.test},
              {"folds", parts.folds},
              {"units", parts.units}}},
            {"scaling", {{"mean", scaling.mean}, {"deviation", scaling.deviation}}},
            {"backbones", backbones},
            {"keep_epochs", options.keep_epochs},
            {"stores", options.stores == Stores::kept},
            {"at_once", options.at_once}};
}

std::shared_ptr<const Materials> materials_from(const Json& brief,
                                                const std::optional<std::filesystem::path>& stores,
                                                const Supplies& supplies, Supplied& supplied) {
    auto materials = std::make_unique<Materials>();
    materials->plan = parse_plan(brief.at("plan").get<std::string>(), brief.at("file").get<std::string>());
    Plan& plan = materials->plan;
    plan.images.fitting.channels = brief.at("channels").get<int>();
    plan.images.parts = parts_settings_from(brief.at("parts_settings"));
    for (const BackbonePlan& backbone : plan.backbones)
        materials->backbones.emplace(backbone.name,
                                     backbone_here(backbone, brief.at("backbones").at(backbone.name),
                                                   plan.images.fitting.size, supplies, supplied));
    ImageSet& set = materials->set;
    set.source = plan.images.source;
    set.root = brief.at("root").get<std::string>();
    set.classes = brief.at("classes").get<std::vector<std::string>>();
    set.items = items_from(brief.at("items"));
    set.fingerprint = brief.at("fingerprint").get<std::string>();
    materials->parts = parts_from(brief.at("parts"));
    materials->store = std::make_unique<ImageStore>(stores, plan.images.fitting, std::ssize(set.items));
    supplied.images = fill_store(*materials->store, set, supplies);
    const Json& scaling = brief.at("scaling");
    materials->measured_scaling = {scaling.at("mean").get<std::array<double, 3>>(),
                                   scaling.at("deviation").get<std::array<double, 3>>()};
    settle_data(*materials);
    return materials;
}

}  // namespace jevrin::inline v1
