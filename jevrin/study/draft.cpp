#include "jevrin/study/draft.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/images/near_duplicates.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/images/survey.hpp"
#include "jevrin/plan/toml.hpp"
#include "jevrin/study/materials.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

namespace jevrin::inline v1 {
namespace {

constexpr double balanced_below = 1.5;  // times the rarest class
constexpr double weighted_from = 3.0;   // likewise
constexpr std::int64_t many_images = 5000;
constexpr std::int64_t few_per_class = 300;
constexpr std::int64_t fewest_epochs = 3;
constexpr std::int64_t most_epochs = 60;
constexpr std::int64_t largest_side = 128;  // of networks that have no size of their own
constexpr double spared = 0.9;              // of the time: estimates are estimates

// As the plan names it.
std::filesystem::path path_from(const std::filesystem::path& path, const std::filesystem::path& plan) {
    if (path.empty()) return {};
    const std::filesystem::path folder = std::filesystem::absolute(plan).lexically_normal().parent_path();
    const std::filesystem::path whole = std::filesystem::absolute(path).lexically_normal();
    const std::filesystem::path relative = whole.lexically_relative(folder);
    const bool beside = !relative.empty() && *relative.begin() != "..";
    return (beside ? relative : whole).generic_string();
}

struct DraftedBackbone {
    std::string name;
    std::filesystem::path file;
    ImageSize size = 0;  // that it was made for; 0: any
    bool has_scaling = false;
    std::string last_stage;  // from which a partial candidate trains
};

// The last stage that holds a fair part of the weights, or the one before it.
std::string last_stage_of(const Network& network) {
    std::vector<std::pair<std::string, std::int64_t>> stages;
    for (const Node& node : network.nodes) {
        const std::int64_t count = parameters_of(node);
        if (count == 0) continue;
        if (stages.empty() || stages.back().first != stage_of(node)) stages.emplace_back(stage_of(node), 0);
        stages.back().second += count;
    }
    const double fair = 0.05 * static_cast<double>(parameter_count(network));
    for (std::size_t i = stages.size(); i-- > 1;)
        if (static_cast<double>(stages[i].second) >= fair) return stages[i].first;
    return stages.empty() ? std::string() : stages.back().first;
}

DraftedBackbone look_at(const std::filesystem::path& file) {
    DraftedBackbone backbone{.name = file.stem().string(), .file = file};
    constexpr std::int64_t common = 224;
    Model model;
    try {
        model = read_model(file);
        backbone.size = ImageSize(model.network.input.at(0), model.network.input.at(1));
    } catch (const InputError&) {
        model = read_model(file, {.image_size = common});  // its size is open
    } catch (const std::out_of_range&) {
        throw InputError(fmt::format("{}: it takes no images", printable(file.string())));
    }
    backbone.has_scaling = model.metadata.contains("jevrin.preparation");
    const Backbone loaded = load_backbone({.name = "backbone", .file = file},
                                          backbone.size.height > 0 ? backbone.size : ImageSize(common));
    backbone.last_stage = last_stage_of(loaded.network);
    return backbone;
}

class Drafting {
  public:
    Drafting(const DraftSettings& settings, ImageSet images)
        : settings_(settings), set_(std::move(images)), survey_(survey_images(set_)) {
        for (const std::filesystem::path& file : settings.backbones) {
            DraftedBackbone backbone = look_at(file);
            const auto same =
                std::ranges::count(settings.backbones, file.stem(), &std::filesystem::path::stem);
            if (same > 1) backbone.name += fmt::format(" {}", backbones_.size() + 1);
            backbones_.push_back(std::move(backbone));
        }
    }

    std::vector<DraftReason> reasons;
    std::vector<std::string> notes;

    std::string text(std::int64_t epochs, const std::string& epochs_reason) {
        reasons.clear();
        notes.clear();
        std::string text = fmt::format(
            "# A first plan for {}, drafted from what a survey of the images found. Every line may be "
            "changed.\n",
            printable(settings_.images.from.filename().string()));
        text += line("", "name", toml_text(settings_.file.stem().string()), "");
        text += line("", "seeds", "[1, 2, 3]",
                     "three runs of each candidate: the fewest that show how much chance there is");
        text += metric_line();
        text += "\n[images]\n" + images_lines();
        text += "\n[training]\n" + training_lines(epochs, epochs_reason);
        for (const DraftedBackbone& backbone : backbones_) text += backbone_lines(backbone);
        text += candidates();
        return text;
    }

  private:
    std::string line(const std::string& table, const std::string& key, const std::string& value,
                     const std::string& reason) {
        if (!reason.empty()) reasons.push_back({table.empty() ? key : table + "." + key, value, reason});
        return fmt::format("{} = {}{}\n", key, value, reason.empty() ? "" : "  # " + printable(reason));
    }

    std::string class_name(std::size_t label) const { return printable(set_.classes[label]); }

    std::string metric_line() {
        const bool even = survey_.imbalance < balanced_below;
        const std::string reason =
            even ? std::string("the classes have about the same number of images")
                 : fmt::format("'{}' has {:.1f} times the images of '{}': every class counts the same",
                               class_name(survey_.commonest), survey_.imbalance, class_name(survey_.rarest));
        return line("", "metric", even ? "\"accuracy\"" : "\"balanced_accuracy\"", reason);
    }

    std::string images_lines() {
        ImageSource source = settings_.images;
        for (std::filesystem::path ImageSource::*path :
             {&ImageSource::from, &ImageSource::labels, &ImageSource::validation_from,
              &ImageSource::validation_labels, &ImageSource::test_from, &ImageSource::test_labels,
              &ImageSource::corrections, &ImageSource::unlabelled})
            source.*path = path_from(source.*path, settings_.file);
        std::string text = source_lines(source);
        text += groups_line();
        text += parts_line();
        text += size_line();
        return text + fit_line();
    }

    std::string groups_line() {
        const NameGroups& names = survey_.name_groups;
        if (names.pattern.empty()) return {};
        return line("images", "group_pattern", toml_text(names.pattern),
                    fmt::format("images such as {} and {} may show one of {} objects, and stay in one part",
                                printable(names.first), printable(names.second), names.groups));
    }

    std::string parts_line() {
        const auto in_part = [&](Part part) {
            return std::ranges::any_of(set_.items, [&](const Item& item) { return item.part == part; });
        };
        if (in_part(Part::training) && in_part(Part::validation))
            return line("images", "parts", "\"given\"", "the images come divided into parts");
        if (in_part(Part::training))
            return line("images", "parts", "{ given = true, validation = 0.2 }",
                        "the images come with a test part; a fifth of training becomes validation");
        const auto count = static_cast<double>(set_.items.size());
        const bool many = std::ssize(set_.items) >= many_images;
        const double share = many ? 0.1 : 0.2;
        const double error = 100.0 * std::sqrt(0.25 / std::max(1.0, share * count));
        return line(
            "images", "parts",
            many ? "{ training = 0.8, validation = 0.1, test = 0.1 }"
                 : "{ training = 0.6, validation = 0.2, test = 0.2 }",
            fmt::format("of {}: {:.0f} validate, which leaves a score uncertain by up to {:.1f} points",
                        plural(std::ssize(set_.items), "image"), share * count, error));
    }

    ImageSize size() const {
        if (!backbones_.empty() && backbones_.front().size.height > 0) return backbones_.front().size;
        const double side = std::min(survey_.width.median, survey_.height.median);
        std::int64_t best = std::clamp<std::int64_t>(std::llround(side), smallest_side, 32);
        for (const std::int64_t candidate : {48, 64, 96, 128, 160, 192, 224})
            if (static_cast<double>(candidate) <= side && (candidate <= largest_side || !backbones_.empty()))
                best = candidate;
        return best;
    }

    std::string size_line() {
        const ImageSize chosen = size();
        const std::string value = chosen.is_square() ? std::to_string(chosen.height)
                                                     : fmt::format("[{}, {}]", chosen.height, chosen.width);
        const double side = std::min(survey_.width.median, survey_.height.median);
        const bool own = !backbones_.empty() && backbones_.front().size.height > 0;
        if (own && static_cast<double>(chosen.height) > 2.0 * side)
            notes.push_back(fmt::format(
                "the images are {:.0f} pixels high or wide and the backbone was made for {}: they are "
                "enlarged",
                side, chosen.text()));
        return line(
            "images", "size", value,
            own ? fmt::format("what {} was made for; the images have a median side of {:.0f}",
                              printable(backbones_.front().file.filename().string()), side)
                : fmt::format("not above the images' median side of {:.0f}, nor what costs much time", side));
    }

    std::string fit_line() {
        const Spread& aspect = survey_.aspect;
        const bool alike = aspect.largest / std::max(1e-9, aspect.smallest) < 1.05;
        const double wanted = static_cast<double>(size().width) / static_cast<double>(size().height);
        if (alike && std::abs(aspect.median / wanted - 1.0) < 0.05)
            return line("images", "fit", "\"stretch\"",
                        "all images have this shape: nothing is cut and nothing added");
        return line("images", "fit", "\"pad\"",
                    fmt::format("width to height goes from {:.2f} to {:.2f}: nothing is cut off or distorted",
                                aspect.smallest, aspect.largest));
    }

    std::string training_lines(std::int64_t epochs, const std::string& epochs_reason) {
        std::string text = line("training", "epochs", std::to_string(epochs), epochs_reason);
        text += line("training", "batch", "32", "");
        text += line("training", "schedule", "{ kind = \"cosine\", warm_up = 1 }",
                     "the learning rate falls towards zero, however many epochs there are");
        const std::int64_t rarest = survey_.counts[survey_.rarest];
        const auto each = std::ssize(set_.items) / std::ssize(set_.classes);
        const bool few = each < few_per_class;
        text += line("training", "augment", few ? "\"medium\"" : "\"light\"",
                     fmt::format("about {} a class; look at augmented images before training, and turn off "
                                 "what changes a class",
                                 plural(each, "image")));
        if (survey_.imbalance >= weighted_from)
            text +=
                line("training", "loss", "{ class_weights = \"balanced\" }",
                     fmt::format("'{}' has only {}", class_name(survey_.rarest), plural(rarest, "image")));
        return text;
    }

    std::string backbone_lines(const DraftedBackbone& backbone) {
        std::string text = backbones_.size() > 1 ? "\n[[backbone]]\n" : "\n[backbone]\n";
        text += line("backbone", "name", toml_text(backbone.name), "");
        text += line("backbone", "file", toml_text(path_from(backbone.file, settings_.file).string()), "");
        if (!backbone.has_scaling) {
            text += line("backbone", "scaling", "\"training\"",
                         "the file does not say how its images were scaled; put the mean and deviation it "
                         "was trained with here");
            notes.push_back(
                fmt::format("{} stores no input normalisation: set 'scaling' to what it was trained with, or "
                            "its candidates are put at a disadvantage",
                            printable(backbone.file.filename().string())));
        }
        return text;
    }

    std::string candidate(const std::string& name, const std::string& regime, const DraftedBackbone* backbone,
                          const std::string& settings, const std::string& rates) const {
        const bool several = backbones_.size() > 1 && backbone != nullptr;
        return fmt::format(
            "\n[[candidate]]\nname = {}\nregime = \"{}\"\n{}{}vary.training.optimiser.learning_rate = [{}]\n",
            toml_text(several ? name + ", " + backbone->name : name), regime,
            several ? fmt::format("backbone = {}\n", toml_text(backbone->name)) : std::string(), settings,
            rates);
    }

    // Two variants of each regime, so that none has more tries than another.
    std::string candidates() {
        reasons.push_back({"candidate", backbones_.empty() ? "scratch" : "scratch, frozen, partial",
                           "two learning rates of each: no regime has more tries than another"});
        std::string text = "\n# Two learning rates of each: no regime has more tries than another.\n";
        if (backbones_.empty()) {
            text += candidate("small network", "scratch", nullptr,
                              "network = { family = \"residual\", widths = [16, 32, 64] }\n", "0.02, 0.1");
            text += candidate("larger network", "scratch", nullptr,
                              "network = { family = \"residual\", widths = [32, 64, 128], blocks = 2 }\n",
                              "0.02, 0.1");
            notes.emplace_back(
                "without a pretrained backbone there is only training from scratch; give one to compare "
                "the three regimes");
            return text;
        }
        for (const DraftedBackbone& backbone : backbones_) {
            text += candidate("from scratch", "scratch", &backbone, "", "0.02, 0.1");
            text += candidate("new head", "frozen", &backbone, "", "0.02, 0.1");
            text +=
                candidate("last stage", "partial", &backbone,
                          fmt::format("train_from = {}\n", toml_text(backbone.last_stage)), "0.005, 0.02");
        }
        return text;
    }

    const DraftSettings& settings_;
    ImageSet set_;
    Survey survey_;
    std::vector<DraftedBackbone> backbones_;
};

}  // namespace

PlanDraft draft_plan(const DraftSettings& settings, const MaterialsProgress& progress) {
    ImageSet set = read_image_set(settings.images, step_progress(progress, "reading images"));
    near_duplicates(set, step_progress(progress, "comparing images"));
    Drafting drafting(settings, std::move(set));
    const auto drafted = [&](std::int64_t epochs, const std::string& reason) {
        PlanDraft draft{
            .text = drafting.text(epochs, reason), .plan = {}, .reasons = {}, .check = {}, .notes = {}};
        draft.plan = parse_plan(draft.text, settings.file);
        return draft;
    };
    // What an epoch takes does not depend on their number.
    const auto materials =
        gather_materials(drafted(fewest_epochs, "").plan, std::nullopt, progress, Stores::left_out);
    const PlanCheck trial = check_plan(*materials);
    double once = 0.0;
    double each = 0.0;
    for (const CandidateCheck& candidate : trial.candidates) {
        once += candidate.seconds_once;
        each += static_cast<double>(candidate.runs) * candidate.epoch.sum();
    }
    const double allowed = spared * settings.hours * 3600.0;
    const auto fitting = static_cast<std::int64_t>((allowed - once) / std::max(1e-9, each));
    const std::int64_t epochs = std::clamp(fitting, fewest_epochs, most_epochs);
    const double seconds = once + each * static_cast<double>(epochs);
    PlanDraft draft = drafted(epochs, fmt::format("{} take about {} on this machine",
                                                  plural(trial.runs, "run"), spoken_seconds(seconds)));
    draft.check = trial;
    draft.check.seconds = seconds;
    for (CandidateCheck& candidate : draft.check.candidates) candidate.epochs = epochs;
    draft.reasons = drafting.reasons;
    draft.notes = drafting.notes;
    if (fitting < fewest_epochs)
        draft.notes.push_back(
            fmt::format("{} epochs take about {}, more than the {:.3g} hours that were given: use smaller "
                        "images, fewer seeds or candidates",
                        fewest_epochs, spoken_seconds(seconds), settings.hours));
    return draft;
}

}  // namespace jevrin::inline v1
