#include "jevrin/study/check.hpp"

#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/network_figure.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"
#include "jevrin/training/descriptions.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jevrin::app {
namespace {

Json to_json(const Plan& plan, const PlanCheck& check) {
    Json json = {{"plan", plan.name}, {"runs", check.runs}, {"seconds", check.seconds}};
    json["parts"] = {{"training", check.part_sizes[0]},
                     {"validation", check.part_sizes[1]},
                     {"test", check.part_sizes[2]}};
    json["candidates"] = Json::array();
    for (std::size_t i = 0; i < check.candidates.size(); ++i) {
        const CandidateCheck& c = check.candidates[i];
        Json layers = Json::array();
        for (const LayerRow& layer : c.layers)
            layers.push_back({{"name", layer.name},
                              {"operators", layer.operators},
                              {"shape", layer.shape},
                              {"parameters", layer.parameters},
                              {"trains", layer.trains},
                              {"multiplications", layer.multiplications},
                              {"bytes", layer.bytes}});
        json["candidates"].push_back({{"candidate", c.candidate},
                                      {"regime", name_of(c.regime)},
                                      {"stages", c.stages},
                                      {"layers", layers},
                                      {"parameters", c.parameters},
                                      {"trainable_parameters", c.trainable_parameters},
                                      {"multiplications", c.multiplications},
                                      {"backbone_bytes", c.backbone_bytes},
                                      {"memory_bytes", c.memory_bytes},
                                      {"largest_batch", c.largest_batch},
                                      {"runs", c.runs},
                                      {"epochs", c.epochs},
                                      {"seconds_per_epoch", c.seconds_per_epoch},
                                      {"seconds_once", c.seconds_once},
                                      {"settings", complete_json(settings_of(plan, plan.candidates[i]))}});
    }
    return json;
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
    if (!augmentation.overlays.empty())
        add(plural(static_cast<std::int64_t>(augmentation.overlays.size()), "overlay"));
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
        return fmt::format("  logistic regression on frozen features, penalty {}\n", candidate.penalty);
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

struct CheckOptions {
    std::filesystem::path plan;
    std::filesystem::path ledger = "ledger";
    std::filesystem::path figure;
    std::string candidate;
    bool json = false;
    double memory = 0.0;
};

// The candidate that the user names, or the first.
const CandidateCheck& drawn_candidate(const PlanCheck& check, const std::string& name) {
    std::vector<std::string> names;
    for (const CandidateCheck& c : check.candidates) {
        if (name.empty() || c.candidate == name) return c;
        names.push_back(c.candidate);
    }
    throw InputError(fmt::format("no candidate is called '{}'{}; there are {}", printable(name),
                                 did_you_mean(name, names), fmt::join(names, ", ")));
}

std::string layer_lines(const CandidateCheck& c) {
    Table table({"layer", "", "shape", "parameters", "operations", "memory", ""}, {3, 4, 5});
    LayerRow total;
    for (const LayerRow& layer : c.layers) {
        table.add({printable(layer.name), layer.operators, to_string(layer.shape),
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
    table.add({"total", fmt::format("{} of the parameters train", with_commas(c.trainable_parameters)), "",
               with_commas(total.parameters), with_commas(total.multiplications), spoken_bytes(total.bytes),
               ""});
    return table.text();
}

void check(const CheckOptions& options) {
    const std::filesystem::path& ledger = options.ledger;
    const bool json = options.json;
    const Plan plan = read_plan(options.plan);
    // What a ledger already holds is used; none is made here.
    const bool has_ledger = std::filesystem::exists(ledger / "ledger.db");
    std::unique_ptr<Materials> materials;
    {
        ProgressBars bar;
        materials = gather_materials(plan, has_ledger ? std::optional(ledger) : std::nullopt,
                                     [&](const std::string& what, std::int64_t done, std::int64_t total) {
                                         bar.show(what, done, total);
                                     });
    }
    if (!materials->set.problems.empty())
        warn(fmt::format(
            "{} left out; 'jevrin survey' names them",
            plural(static_cast<std::int64_t>(materials->set.problems.size()), "unreadable image")));
    for (const auto* notes : {&materials->set.notes, &materials->parts.notes})
        for (const std::string& note : *notes) warn(note);
    const PlanCheck result = check_plan(materials->plan, *materials);
    if (!options.figure.empty()) {
        const CandidateCheck& c = drawn_candidate(result, options.candidate);
        draw_network(
            c.layers,
            fmt::format("{}: {} ({}), {} parameters, {} of them train", plan.name, c.candidate,
                        name_of(c.regime), with_commas(c.parameters), with_commas(c.trainable_parameters)),
            options.figure);
    }
    if (json) {
        print_json(to_json(materials->plan, result));
        return;
    }
    print(fmt::format("plan '{}' is sound: {}, about {} to train on this machine\n", plan.name,
                      plural(result.runs, "run"), spoken_seconds(result.seconds)));
    print(fmt::format(
        "images: {} training, {} validation, {} test, in {} classes; {}x{} by {}, {}; compared by {}\n\n",
        result.part_sizes[0], result.part_sizes[1], result.part_sizes[2], materials->set.classes.size(),
        plan.images.fitting.size, plan.images.fitting.size, name_of(plan.images.fitting.fit),
        materials->plan.images.fitting.channels == 1 ? "grey" : "colour", spoken_metric(plan.metric)));
    Table table({"candidate", "regime", "backbone", "file", "parameters", "trainable", "operations", "memory",
                 "batch <=", "runs", "epochs", "s/epoch", "s once"},
                {3, 4, 5, 6, 7, 8, 9, 10, 11, 12});
    for (std::size_t i = 0; i < result.candidates.size(); ++i) {
        const CandidateCheck& c = result.candidates[i];
        table.add({c.candidate, name_of(c.regime), printable(plan.candidates[i].backbone),
                   c.backbone_bytes == 0 ? "" : spoken_bytes(c.backbone_bytes), with_commas(c.parameters),
                   with_commas(c.trainable_parameters), with_commas(c.multiplications),
                   spoken_bytes(c.memory_bytes),
                   c.largest_batch >= result.part_sizes[0] ? "all" : with_commas(c.largest_batch),
                   fmt::format("{}", c.runs), fmt::format("{}", c.epochs),
                   fmt::format("{:.2f}", c.seconds_per_epoch), fmt::format("{:.2f}", c.seconds_once)});
    }
    print(table.text());
    print(
        "operations: multiplications forward, for one image; batch <=: the largest that fits the memory "
        "(all: the training part)\n");
    for (std::size_t i = 0; i < result.candidates.size(); ++i) {
        if (!options.candidate.empty() && result.candidates[i].candidate != options.candidate) continue;
        print(fmt::format("\n{}\n  layers ([frozen]): {}\n{}{}", result.candidates[i].candidate,
                          fmt::join(result.candidates[i].stages, " > "), settings_lines(plan.candidates[i]),
                          layer_lines(result.candidates[i])));
    }
}

}  // namespace

void add_check(Command& command) {
    auto options = std::make_shared<CheckOptions>();
    command.add_option("PLAN", options->plan, "the plan, a TOML file").required();
    command.add_option("--ledger", options->ledger, "use what this ledger knows, when it is there")
        .type_name("DIR")
        .capture_default_str();
    command.add_option("--candidate", options->candidate, "show the layers of this candidate only")
        .type_name("NAME");
    add_picture_option(command, "--figure", options->figure, "draw its network, or the first,");
    command.add_flag("--json", options->json, "print one JSON document");
    add_memory_option(command, options->memory);
    command.callback([options] {
        limit_memory(options->memory);
        check(*options);
    });
}

}  // namespace jevrin::app
