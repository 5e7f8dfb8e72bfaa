#include "jevrin/results/check_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/plan/run_settings.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/training/descriptions.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <map>

namespace jevrin::inline v1 {
namespace {

Json to_json(const CandidateCheck& c, const RunSettings& settings) {
    Json layers = Json::array();
    for (const LayerRow& layer : c.layers)
        layers.push_back({{"name", layer.name},
                          {"operators", layer.operators},
                          {"shape", layer.shape},
                          {"parameters", layer.parameters},
                          {"trains", layer.trains},
                          {"multiplications", layer.multiplications},
                          {"bytes", layer.bytes}});
    return {{"candidate", c.candidate},
            {"regime", name_of(c.regime)},
            {"stages", c.stages},
            {"layers", layers},
            {"parameters", c.parameters},
            {"trainable_parameters", c.trainable_parameters},
            {"fixed_numbers", c.fixed_numbers},
            {"fixed_constants", c.fixed_constants},
            {"multiplications", c.multiplications},
            {"backbone_bytes", c.backbone_bytes},
            {"memory_bytes", c.memory_bytes},
            {"largest_batch", c.largest_batch},
            {"runs", c.runs},
            {"epochs", c.epochs},
            {"seconds_per_epoch", c.epoch.sum()},
            {"epoch_seconds",
             {{"images", c.epoch.images},
              {"frozen", c.epoch.frozen},
              {"products", c.epoch.products},
              {"passes", c.epoch.passes},
              {"validation", c.epoch.validation}}},
            {"seconds_once", c.seconds_once},
            {"settings", complete_json(settings)}};
}

// What is turned on: "flip, shift 0.1".
std::string describe(const Augmentation& augmentation) {
    std::string text;
    const auto add = [&](const std::string& what) { text += (text.empty() ? "" : ", ") + what; };
    const Json settings = complete_json(augmentation);
    for (const auto& [key, value] : settings.items()) {
        if (value.is_boolean() && value.get<bool>()) add(key);
        if (value.is_number() && value.get<double>() > 0) add(fmt::format("{} {}", key, value.get<double>()));
    }
    if (!augmentation.overlays.empty()) add(plural(std::ssize(augmentation.overlays), "overlay"));
    if (augmentation.mixing.form != MixingForm::none)
        add(fmt::format("mixing {} (alpha {})", name_of(augmentation.mixing.form),
                        augmentation.mixing.alpha));
    return text.empty() ? "none" : text;
}

// "learning_rate 0.02, momentum 0.9": a table of settings, without its name and what is turned off.
std::string describe_settings(const Json& table) {
    std::string text;
    for (const auto& [key, value] : table.items()) {
        const bool off = value == false || value == 0 || value == "none" || value == "natural" ||
                         value.is_structured() || (key == "training_fraction" && value == 1.0);
        if (key == "kind" || off) continue;
        text += fmt::format("{}{} {}", text.empty() ? "" : ", ", key,
                            value.is_string() ? printable(value.get<std::string>()) : json_text(value));
    }
    return text;
}

std::string settings_lines(const Candidate& candidate) {
    if (candidate.last_layer == LastLayer::logistic_regression)
        return fmt::format("  logistic regression on frozen features, L2 regularisation {}\n",
                           candidate.l2_regularisation);
    std::string hidden;
    for (const std::int64_t size : candidate.head.hidden) hidden += fmt::format("hidden {}, ", size);
    Json training = complete_json(candidate.training);
    Json loss = training["loss"];
    std::string loss_text = describe_settings(loss);
    if (loss["class_weights"].is_object())
        loss_text += "class weights " + describe_settings(loss["class_weights"]);
    const std::string schedule = describe_settings(training["schedule"]);
    return fmt::format("  training: {}\n  optimiser: {}, {}; schedule: {}{}; loss: cross-entropy{}\n",
                       describe_settings(training), training["optimiser"]["kind"].get<std::string>(),
                       describe_settings(training["optimiser"]),
                       training["schedule"]["kind"].get<std::string>(),
                       schedule.empty() ? "" : " (" + schedule + ")",
                       loss_text.empty() ? "" : " (" + loss_text + ")") +
           fmt::format("  augment: {}; head: {}dropout {}\n", describe(candidate.training.augmentation),
                       hidden, candidate.head.dropout);
}

TableColumn number_column(const char* head, int optional) {
    return {.key = {}, .head = head, .align = Align::right, .optional = optional};
}

// "batch norm" for "batch normalisation": the column of operators is the widest.
std::string with_short_names(std::string operators) {
    const std::string whole = "normalisation";
    for (std::size_t at; (at = operators.find(whole)) != std::string::npos;)
        operators.replace(at, whole.size(), "norm");
    return operators;
}

// Longer networks are shown by stage.
constexpr std::size_t most_layers_shown = 60;

std::string stage_lines(const CandidateCheck& c, const TextForm& form) {
    ResultTable table({{.key = {}, .head = "stage"},
                       number_column("layers", 3),
                       {.key = {}, .head = "shape"},
                       number_column("parameters", 0),
                       number_column("operations", 1),
                       number_column("memory", 2),
                       {.key = {}, .head = ""}});
    StageRow total;
    for (const StageRow& stage : stage_table(c.layers)) {
        table.add({printable(stage.stage), with_commas(stage.layers), to_string(stage.shape),
                   stage.parameters == 0 ? "" : with_commas(stage.parameters),
                   stage.multiplications == 0 ? "" : with_commas(stage.multiplications),
                   spoken_bytes(stage.bytes),
                   stage.parameters == 0 ? ""
                   : stage.frozen == 0   ? "trains"
                   : stage.trained == 0  ? "frozen"
                                         : "trains in part"});
        total.layers += stage.layers;
        total.parameters += stage.parameters;
        total.multiplications += stage.multiplications;
        total.bytes += stage.bytes;
    }
    table.add({fmt::format("total, {} trainable", with_commas(c.trainable_parameters)),
               with_commas(total.layers), "", with_commas(total.parameters),
               with_commas(total.multiplications), spoken_bytes(total.bytes), ""});
    return table.text(form.width) +
           (form.for_all.empty() ? std::string() : form.for_all + " lists every layer\n");
}

std::string notes_on_training(const CandidateCheck& c) {
    std::string text;
    if (c.head_only)
        text += "  only the head trains: no layer between the boundary and the head has weights\n";
    if (c.fixed_numbers > 0)
        text +=
            fmt::format("  fixed: {} in {} that the file computes from its weights never train ({}{})\n",
                        plural(c.fixed_numbers, "number"), plural(std::ssize(c.fixed_constants), "constant"),
                        printable(c.fixed_constants.front()), c.fixed_constants.size() > 1 ? ", ..." : "");
    return text;
}

// What an epoch spends its time on, and what would shorten the longest of it, unless features that are
// computed once take longer than all epochs.
std::string time_lines(const CandidateCheck& c) {
    struct Share {
        double seconds;
        const char* what;
        const char* cure;
    };
    const Share shares[] = {
        {c.epoch.products, "convolutions, dense (arithmetic)",
         c.regime == Regime::scratch ? "smaller images, fewer channels, or a backbone of which less trains"
                                     : "smaller images, or fewer layers that train"},
        {c.epoch.passes, "others (memory)", "smaller images, or fewer layers between the convolutions"},
        {c.epoch.frozen, "frozen layers",
         "'views' in [training], which keeps the features of so many augmented views"},
        {c.epoch.images, "images", "less augmentation"},
        {c.epoch.validation, "validation", "fewer validations ('validate_every' in [training])"}};
    const Share* longest = shares;
    std::string text;
    for (const Share& share : shares) {
        if (share.seconds > longest->seconds) longest = &share;
        const double percent = 100.0 * share.seconds / c.epoch.sum();
        if (percent >= 0.5)
            text += fmt::format("{}{:.0f} % {}", text.empty() ? "" : ", ", percent, share.what);
    }
    text = fmt::format("  epoch: {}\n", text);
    if (static_cast<double>(c.epochs) * c.epoch.sum() > c.seconds_once)
        text += fmt::format("  faster with: {}\n", longest->cure);
    return text;
}

std::string backbone_lines(const std::vector<BackboneCheck>& backbones) {
    std::string text;
    for (const BackboneCheck& backbone : backbones)
        text += fmt::format("features of {}: {}, {}{}\n", printable(backbone.file),
                            plural(backbone.width, "value"), printable(backbone.place),
                            backbone.shape == Shape{backbone.width}
                                ? std::string()
                                : fmt::format("; {} averaged over its places", to_string(backbone.shape)));
    return text;
}

std::string layer_lines(const CandidateCheck& c, std::size_t width) {
    ResultTable table({{.key = {}, .head = "layer"},
                       {.key = {}, .head = ""},
                       {.key = {}, .head = "shape"},
                       number_column("parameters", 0),
                       number_column("operations", 1),
                       number_column("memory", 2),
                       {.key = {}, .head = ""}});
    LayerRow total;
    for (const LayerRow& layer : c.layers) {
        table.add({printable(layer.name), with_short_names(layer.operators), to_string(layer.shape),
                   layer.parameters == 0 ? "" : with_commas(layer.parameters),
                   layer.multiplications == 0 ? "" : with_commas(layer.multiplications),
                   spoken_bytes(layer.bytes),
                   layer.parameters == 0 ? ""
                   : layer.trains        ? "trains"
                                         : "frozen"});
        total.parameters += layer.parameters;
        total.multiplications += layer.multiplications;
        total.bytes += layer.bytes;
    }
    table.add({"total", fmt::format("{} trainable", with_commas(c.trainable_parameters)), "",
               with_commas(total.parameters), with_commas(total.multiplications), spoken_bytes(total.bytes),
               ""});
    return table.text(width);
}

std::string candidates_table(const CheckResult& result, std::size_t width) {
    ResultTable table({{.key = {}, .head = "candidate"},
                       {.key = {}, .head = "regime"},
                       {.key = {}, .head = "backbone", .optional = 1},
                       number_column("file", 6),
                       number_column("parameters", 0),
                       number_column("trainable", 0),
                       number_column("operations", 4),
                       number_column("memory", 0),
                       number_column("batch <=", 5),
                       number_column("runs", 3),
                       number_column("epochs", 2),
                       number_column("s/epoch", 0),
                       number_column("s once", 0)});
    for (std::size_t i = 0; i < result.check.candidates.size(); ++i) {
        const CandidateCheck& c = result.check.candidates[i];
        table.add({c.candidate, name_of(c.regime), printable(result.plan.candidates[i].backbone),
                   c.backbone_bytes == 0 ? "" : spoken_bytes(c.backbone_bytes), count_cell(c.parameters),
                   count_cell(c.trainable_parameters), count_cell(c.multiplications),
                   spoken_bytes(c.memory_bytes),
                   c.largest_batch >= result.check.part_sizes[0] ? "all" : with_commas(c.largest_batch),
                   std::to_string(c.runs), std::to_string(c.epochs), two_digits(c.epoch.sum()),
                   two_digits(c.seconds_once)});
    }
    return table.text(width);
}

}  // namespace

const CandidateCheck& CheckResult::shown() const {
    std::vector<std::string> names;
    for (const CandidateCheck& c : check.candidates) {
        if (candidate.empty() || c.candidate == candidate) return c;
        names.push_back(c.candidate);
    }
    throw InputError(fmt::format("no candidate is called '{}'{}; there are {}", printable(candidate),
                                 did_you_mean(candidate, names), fmt::join(names, ", ")));
}

std::string CheckResult::figure_title() const {
    const CandidateCheck& c = shown();
    return fmt::format("{}: {} ({}), {} parameters, {} trainable", plan.name, c.candidate, name_of(c.regime),
                       with_commas(c.parameters), with_commas(c.trainable_parameters));
}

CheckResult report_check(const Materials& materials, const std::string& candidate) {
    if (!candidate.empty()) candidate_called(materials.plan, candidate);
    CheckResult result{.plan = materials.plan,
                       .classes = materials.set.classes.size(),
                       .check = check_plan(materials),
                       .notes = {},
                       .candidate = candidate};
    if (!materials.set.problems.empty())
        result.notes.push_back(plural(std::ssize(materials.set.problems), "unreadable image") +
                               " left out; 'jevrin survey' names them");
    for (const auto* notes : {&materials.set.notes, &materials.parts.notes})
        result.notes.insert(result.notes.end(), notes->begin(), notes->end());
    return result;
}

std::string to_json(const CheckResult& result) {
    const PlanCheck& check = result.check;
    Json json = {{"plan", result.plan.name}, {"runs", check.runs}, {"seconds", check.seconds}};
    json["parts"] = {{"training", check.part_sizes[0]},
                     {"validation", check.part_sizes[1]},
                     {"test", check.part_sizes[2]}};
    json["backbones"] = Json::array();
    for (const BackboneCheck& backbone : check.backbones)
        json["backbones"].push_back({{"name", backbone.name},
                                     {"file", backbone.file},
                                     {"width", backbone.width},
                                     {"shape", backbone.shape},
                                     {"features", backbone.place}});
    json["candidates"] = Json::array();
    for (std::size_t i = 0; i < check.candidates.size(); ++i)
        json["candidates"].push_back(
            to_json(check.candidates[i], settings_of(result.plan, result.plan.candidates[i])));
    return document(json);
}

std::string to_text(const CheckResult& result, const TextForm& form) {
    const PlanCheck& check = result.check;
    const Plan& plan = result.plan;
    std::string text = fmt::format("plan '{}' is valid: {}, about {} to train on this machine\n", plan.name,
                                   plural(check.runs, "run"), spoken_seconds(check.seconds));
    text += fmt::format(
        "images: {} training, {} validation, {} test, in {} classes; {} by {}, {}; compared by {}\n\n",
        check.part_sizes[0], check.part_sizes[1], check.part_sizes[2], result.classes,
        plan.images.fitting.size.text(), name_of(plan.images.fitting.fit),
        plan.images.fitting.channels == 1 ? "grey" : "colour", spoken_metric(plan.metric));
    const std::string backbones = backbone_lines(check.backbones);
    if (!backbones.empty()) text += backbones + "\n";
    text +=
        candidates_table(result, form.width) +
        "operations: multiplications forward, for one image; batch <=: the largest batch that fits in memory "
        "(all: the training part)\n";
    std::map<std::string, std::string> shown;  // the candidate that a table of layers stands at
    for (std::size_t i = 0; i < check.candidates.size(); ++i) {
        if (!result.candidate.empty() && check.candidates[i].candidate != result.candidate) continue;
        const CandidateCheck& c = check.candidates[i];
        const bool by_stage = !result.all_layers && c.layers.size() > most_layers_shown;
        const bool takes_steps = plan.candidates[i].last_layer != LastLayer::logistic_regression;
        const auto [first, is_new] =
            shown.try_emplace(by_stage ? stage_lines(c, form) : layer_lines(c, form.width), c.candidate);
        text += fmt::format("\n{}\n  layers ([frozen]): {}\n{}{}{}{}", c.candidate,
                            fmt::join(c.stages, " > "), settings_lines(plan.candidates[i]),
                            notes_on_training(c), takes_steps ? time_lines(c) : std::string(),
                            is_new ? first->first : fmt::format("  layer by layer as '{}'\n", first->second));
    }
    return text;
}

}  // namespace jevrin::inline v1
