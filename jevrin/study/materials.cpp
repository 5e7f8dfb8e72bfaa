#include "jevrin/study/materials.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/graph/feature_place.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/graph/shared_parameters.hpp"
#include "jevrin/graph/stages.hpp"
#include "jevrin/images/content_cache.hpp"
#include "jevrin/images/image_store.hpp"
#include "jevrin/images/near_duplicates.hpp"
#include "jevrin/images/survey.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/training/classifier.hpp"
#include "jevrin/training/loss.hpp"
#include "jevrin/training/run_memory.hpp"
#include "jevrin/training/sampling.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

namespace jevrin::inline v1 {

namespace {

// Of the file, of every weight, wherever it lies, and of which weights are one parameter.
std::string hash_of_backbone(const std::filesystem::path& file, const Network& network) {
    std::string parts = content_hash_of_file(file);
    for (const Node& node : network.nodes)
        for (std::size_t p = 0; p < node.parameters.size(); ++p)
            parts += hash_of(std::as_bytes(node.parameters[p].values())).text() + shared_name(node, p);
    return content_hash(parts);
}

}  // namespace

Backbone load_backbone(const BackbonePlan& plan, ImageSize size) {
    const Model model = read_model(
        plan.file,
        {.image_size = size, .resample_positions = plan.resample_positions, .output = plan.features});
    Backbone backbone;
    try {
        const Shape& input = model.network.input;
        if (input.size() != 3 || (input[2] != 1 && input[2] != 3))
            throw InputError("its input is neither grey nor colour");
        backbone.channels = static_cast<int>(input[2]);
        if (const auto stored = model.metadata.find("jevrin.preparation"); stored != model.metadata.end())
            backbone.scaling = Preparation::from_json(stored->second).scaling;
        if (const auto seen = model.metadata.find(seen_images_key); seen != model.metadata.end())
            backbone.seen_images = SeenImages::from_text(seen->second);
        const FeaturePlace features =
            plan.features.empty()
                ? find_features(model.network)
                : FeaturePlace{.node = model.network.nodes.size() - 1,
                               .why = fmt::format("'{}', as 'features' says", plan.features)};
        backbone.network = without_head(model.network, features);
        backbone.feature_place = features.why;
        backbone.feature_shape = infer_shapes(model.network)[features.node];
        backbone.unusual_features = features.unusual;
        backbone.notes = model.notes;
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: it cannot be a backbone for images of {}: {}",
                                     printable(plan.file.string()), size.text(), error.what()));
    }
    backbone.hash = hash_of_backbone(plan.file, backbone.network);
    std::string layers = backbone.hash;
    for (const Node& node : backbone.network.nodes) layers += '\n' + node.name;
    backbone.features_hash = content_hash(layers);
    backbone.file_hash = content_hash_of_file(plan.file);
    backbone.bytes = static_cast<std::int64_t>(std::filesystem::file_size(plan.file));
    return backbone;
}

namespace {

// Whether a candidate's network is a list of layers that makes the classes itself.
bool makes_classes(const Candidate& candidate) {
    const auto* list = candidate.network ? std::get_if<LayerList>(&*candidate.network) : nullptr;
    return list != nullptr && list->ends_in_dense() && !candidate.head_stated;
}

Network own_network(const Candidate& candidate, const Shape& image, std::size_t classes) {
    if (!makes_classes(candidate)) return build_backbone(*candidate.network, image);
    LayerList whole = std::get<LayerList>(*candidate.network);
    Layer& last = whole.layers.back();
    const auto wanted = static_cast<std::int64_t>(classes);
    if (last.width != 0 && last.width != wanted)
        throw InputError::in_file(
            last.place,
            fmt::format("layer '{}' (dense) gives {} and the images have {} classes; leave its 'width' "
                        "out, or add a 'head' after it",
                        last.name.empty() ? fmt::format("layer{}", whole.layers.size()) : last.name,
                        plural(last.width, "value"), wanted));
    last.width = wanted;
    return layer_network(whole, image);
}

std::vector<TrainingPhase> phases_of(const Candidate& candidate, const Network& network, std::size_t head) {
    if (candidate.regime == Regime::scratch) return {{1, 1}};
    if (candidate.regime == Regime::frozen) return {{1, head}};
    std::vector<TrainingPhase> phases;
    const auto place = [&](const std::string& from) {
        const std::size_t boundary = find_boundary(network, from);
        if (boundary >= head)
            throw InputError(fmt::format(
                "'{}' is the head, which trains anyway; name a stage of the backbone", printable(from)));
        return boundary;
    };
    if (!candidate.unfreezing.empty()) {
        for (const Unfreezing& step : candidate.unfreezing) phases.push_back({step.epoch, place(step.from)});
        if (phases.front().first_epoch > 1) phases.insert(phases.begin(), {1, head});
        for (std::size_t i = 1; i < phases.size(); ++i)
            if (phases[i].first_trained >= phases[i - 1].first_trained)
                throw InputError(fmt::format(
                    "'unfreeze' must go from the head towards the image, and '{}' does not lie before what "
                    "trains already",
                    printable(network.nodes[phases[i].first_trained].name)));
        return phases;
    }
    std::size_t boundary = head;
    if (!candidate.train_from.empty()) boundary = place(candidate.train_from);
    if (candidate.train_last > 0) boundary = boundary_of_last(network, head, candidate.train_last);
    if (candidate.train_fraction > 0) boundary = boundary_of_share(network, head, candidate.train_fraction);
    if (candidate.head_only_epochs > 0) phases.push_back({1, head});
    phases.push_back({candidate.head_only_epochs + 1, boundary});
    return phases;
}

// Rounded values have no slope: what lies before them cannot learn.
void require_slopes(const CandidateNetwork& built) {
    for (std::size_t i = built.first_trained(); i < built.head; ++i)
        if (is_activation(built.network.nodes[i].op, FunctionKind::round))
            throw InputError(fmt::format(
                "the backbone is quantised, which training cannot change (it rounds at '{}'); use "
                "regime = \"frozen\", or a backbone that was not quantised",
                printable(built.network.nodes[i].name)));
}

}  // namespace

CandidateNetwork build_network(const Plan& plan, const Candidate& candidate, const Backbones& backbones,
                               std::size_t classes, std::uint64_t seed) {
    const Fitting& fitting = plan.images.fitting;
    try {
        CandidateNetwork built;
        built.network =
            candidate.network
                ? own_network(candidate, {fitting.size.height, fitting.size.width, fitting.channels}, classes)
                : backbones.at(candidate.backbone).network;
        built.head = built.network.nodes.size();
        if (!makes_classes(candidate))
            append_head(built.network, candidate.head, static_cast<std::int64_t>(classes));
        const bool scratch = candidate.regime == Regime::scratch;
        initialise(built.network, scratch ? 0 : built.head, seed);
        built.phases = phases_of(candidate, built.network, built.head);
        require_slopes(built);
        freeze_before(built.network, built.first_trained());
        if (candidate.normalisation == NormalisationMode::fixed)
            fix_statistics(built.network, built.first_trained(), built.head);
        for (const auto& [stage, factor] : candidate.rate_factors)
            set_rate_factor(built.network, stage, factor);
        return built;
    } catch (const InputError& error) {
        if (error.place() == ErrorPlace::file) throw;
        throw InputError(
            fmt::format("{}: candidate '{}': {}", candidate.place, candidate.name, error.what()));
    }
}

std::int64_t require_candidate_memory(const Candidate& candidate, const CandidateNetwork& built,
                                      std::int64_t batch) {
    const PassMemory memory =
        run_memory(built.network, built.first_trained(), candidate.training.activations);
    try {
        require_memory(memory, batch);
    } catch (const InputError& error) {
        throw InputError(fmt::format("candidate '{}': {}", printable(candidate.name), error.what()));
    }
    return memory.total(batch);
}

namespace {

const BackbonePlan* backbone_of(const Plan& plan, const Candidate& candidate) {
    for (const BackbonePlan& backbone : plan.backbones)
        if (!candidate.network && backbone.name == candidate.backbone) return &backbone;
    return nullptr;
}

// The scaling that the plan sets for a candidate; nothing when it sets none.
std::optional<StatedScaling> stated_scaling(const Plan& plan, const Candidate& candidate) {
    const BackbonePlan* backbone = backbone_of(plan, candidate);
    const bool pretrained = candidate.regime != Regime::scratch;
    if (pretrained && backbone != nullptr && backbone->scaling) return backbone->scaling;
    return plan.images.scaling;
}

}  // namespace

Scaling Materials::scaling_for(const Candidate& candidate, std::int64_t fold) const {
    const auto stated = stated_scaling(plan, candidate);
    if (stated && stated->kind == ScalingKind::unit) return {};
    if (stated && stated->kind == ScalingKind::stated) return stated->numbers;
    const auto backbone = backbones.find(candidate.backbone);
    const bool pretrained = candidate.regime != Regime::scratch && backbone != backbones.end();
    if (!stated && pretrained && backbone->second.scaling) return *backbone->second.scaling;
    const double fraction = candidate.training.fraction;
    if (fold == 0 && fraction >= 1.0) return measured_scaling;
    const std::lock_guard lock(measuring);
    const auto [place, is_new] = measured_elsewhere.try_emplace({fold, fraction});
    if (is_new) place->second = images->scaling_of(data_for(candidate, fold).parts.training);
    return place->second;
}

TrainingData Materials::data_for(const Candidate& candidate, std::int64_t fold, std::uint64_t seed) const {
    TrainingData own = data_for(candidate, fold);
    if (candidate.training.redraw)
        own.parts.training = stratified_bootstrap(own.parts.training, own.labels, own.parts.units, seed);
    return own;
}

TrainingData Materials::data_for(const Candidate& candidate, std::int64_t fold) const {
    TrainingData own = data;
    if (fold > 0) own.parts = parts.with_fold(fold);
    own.parts.training =
        stratified_share(own.parts.training, own.labels, candidate.training.fraction, plan.images.split_seed);
    return own;
}

namespace {

// A backbone that came with other numbers than it gets would only seem to be a bad one.
void require_scaling(const Plan& plan, const Backbones& backbones) {
    for (const Candidate& candidate : plan.candidates) {
        if (candidate.regime == Regime::scratch || stated_scaling(plan, candidate)) continue;
        if (backbones.at(candidate.backbone).scaling) continue;
        const BackbonePlan& backbone = *backbone_of(plan, candidate);
        throw InputError(fmt::format(
            "{}: {} stores no input normalisation; set scaling = {{ mean = [..], deviation = "
            "[..] }} of red, green and blue between 0 and 1, or \"unit\", or \"training\" for those of the "
            "training part",
            backbone.place, printable(backbone.file.string())));
    }
}

// The plan's channels, else the backbones', else those of the images.
int settle_channels(const Plan& plan, const Backbones& backbones, const ImageSet& set) {
    std::optional<int> needed = plan.images.channels;
    std::string by = "'channels' of [images]";
    for (const BackbonePlan& stated : plan.backbones) {
        const int channels = backbones.at(stated.name).channels;
        if (needed && *needed != channels)
            throw InputError(fmt::format(
                "{}: {} takes {}, and {} sets {}; use backbones with the "
                "same",
                stated.place, printable(stated.file.string()), plural(channels, "channel"), by, *needed));
        needed = channels;
        by = printable(stated.file.string());
    }
    if (needed) return *needed;
    const bool all_grey = std::all_of(set.items.begin(), set.items.end(),
                                      [](const Item& item) { return item.facts.channels <= 2; });
    return all_grey ? 1 : 3;
}

void require_class_names(const Candidate& candidate, const ImageSet& set) {
    try {
        settle_class_weights(candidate.training.loss, set.classes, {});
    } catch (const InputError& error) {
        throw InputError(
            fmt::format("{}: candidate '{}': {}", candidate.place, candidate.name, error.what()));
    }
}

PartsSettings settle_parts(const ImagesPlan& images, const ImageSet& set) {
    const bool given = std::any_of(set.items.begin(), set.items.end(),
                                   [](const Item& item) { return item.part.has_value(); });
    const bool has_validation = std::any_of(set.items.begin(), set.items.end(),
                                            [](const Item& item) { return item.part == Part::validation; });
    // What comes divided into training and test alone is not read to be without validation.
    PartsSettings parts = images.parts.value_or(
        given ? PartsSettings{.by = PartsBy::given, .validation = has_validation ? 0.0 : 0.2}
              : PartsSettings{});
    parts.seed = images.split_seed;
    parts.group_near_duplicates = images.group_near_duplicates;
    return parts;
}

KnownPlaces places_in(const std::optional<std::filesystem::path>& ledger, const PartsSettings& parts) {
    if (!ledger || !Ledger::exists(*ledger)) return {};
    return Ledger::open(*ledger).known_places(parts.key());
}

// The items of a part that are among some, and the path of the first.
struct SomeItems {
    std::int64_t count = 0;
    std::string first;
};
template <typename IsAmong>
SomeItems items_among(const Materials& materials, Part part, const IsAmong& is_among) {
    SomeItems some;
    for (const std::size_t place : materials.parts.of(part)) {
        const Item& item = materials.set.items[place];
        if (is_among(item.content) && some.count++ == 0) some.first = printable(item.path);
    }
    return some;
}

// Images that somebody looked at as test images and that are used for training or choosing now.
void note_looked_at(Materials& materials, const std::optional<std::filesystem::path>& ledger) {
    if (!ledger || !Ledger::exists(*ledger)) return;
    const std::vector<ContentHash> looked = Ledger::open(*ledger).looked_at();
    const std::set<ContentHash> known(looked.begin(), looked.end());
    for (const Part part : {Part::training, Part::validation}) {
        const SomeItems some =
            items_among(materials, part, [&](const ContentHash& image) { return known.contains(image); });
        if (some.count > 0)
            materials.parts.notes.push_back(fmt::format(
                "{} of the {} part {} looked at as test images before (the first: {}); what was learned from "
                "their scores may be in this plan",
                plural(some.count, "image"), name_of(part), some.count == 1 ? "was" : "were", some.first));
    }
}

// Images of the test or validation part that a backbone was trained on.
void note_seen_images(Materials& materials) {
    for (const auto& [name, backbone] : materials.backbones)
        for (const Part part : {Part::test, Part::validation}) {
            const SomeItems some = items_among(materials, part, [&](const ContentHash& image) {
                return backbone.seen_images.contains(image);
            });
            // Single ones may be chance: the backbone knows images by 32 bits of their hash.
            const std::size_t all = materials.parts.of(part).size();
            if (some.count == 0 || static_cast<std::size_t>(some.count) * 1000 < all) continue;
            materials.parts.notes.push_back(fmt::format(
                "the backbone{} was trained on {} of the {} images of the {} part (the first: {}): scores of "
                "candidates that use it are too good there",
                name.empty() ? "" : " '" + printable(name) + "'", some.count, all, name_of(part),
                some.first));
        }
}

// What the images and their names give reason to suspect.
void note_images(Materials& materials) {
    const std::string dark = nearly_black_note(brightest_value(materials.set));
    if (!dark.empty() && materials.plan.images.fitting.value_range == ValueRange{})
        materials.parts.notes.push_back(dark);
    if (const std::string names = name_groups_note(find_name_groups(materials.set)); !names.empty())
        materials.parts.notes.push_back(names);
}

// How backbones were read, and features that may be taken at the wrong place.
void note_reading(Materials& materials) {
    for (const BackbonePlan& plan : materials.plan.backbones) {
        const Backbone& backbone = materials.backbones.at(plan.name);
        for (const std::string& note : backbone.notes)
            materials.parts.notes.push_back(printable(plan.file.filename().string()) + ": " + note);
        if (backbone.unusual_features.empty()) continue;
        materials.parts.notes.push_back(fmt::format(
            "{}: its features are {}; that is unusual: {}. Name the layer with 'features' if it is another",
            printable(plan.file.filename().string()), backbone.feature_place, backbone.unusual_features));
    }
}

// What was read is worth keeping, but not worth failing for.
void save_contents(ContentCache& cache, const std::filesystem::path& stores) {
    try {
        make_directory(stores);
        cache.save();
    } catch (const WorkError&) {
    }
}

// Said before anything is read, with the place of the path in the plan.
void require_files(const Plan& plan) {
    const auto require = [&](const std::filesystem::path& path, const char* key, const char* cure) {
        std::error_code error;
        if (!std::filesystem::exists(path, error))
            throw InputError(fmt::format("{}: {} names {}, which does not exist; {}",
                                         printable(plan.file.string()), key, printable(path.string()), cure));
    };
    require(plan.images.source.from, "'from' under [images]", "paths begin at the plan's folder");
    for (const BackbonePlan& backbone : plan.backbones)
        require(backbone.file, "'file' under [backbone]",
                "paths begin at the plan's folder; 'jevrin demo' makes a small backbone to begin with");
}

}  // namespace

void settle_data(Materials& materials, const ReadProgress& progress) {
    const ImageSet& set = materials.set;
    materials.images =
        std::make_unique<PreparedImages>(set, materials.plan.images.fitting, materials.store.get(), progress);
    TrainingData& data = materials.data;
    data.images = materials.images.get();
    data.classes = set.classes.size();
    data.class_names = set.classes;
    data.parts = materials.parts;
    for (const Item& item : set.items) data.labels.push_back(item.label);
    if (std::any_of(set.items.begin(), set.items.end(), [](const Item& item) { return item.weight != 1.0; }))
        for (const Item& item : set.items) data.weights.push_back(item.weight);
}

ReadProgress step_progress(const MaterialsProgress& progress, const std::string& what) {
    return [&progress, what](std::int64_t done, std::int64_t total) {
        if (progress) progress(what, done, total);
    };
}

std::shared_ptr<const Materials> gather_materials(const Plan& stated,
                                                  const std::optional<std::filesystem::path>& ledger,
                                                  const MaterialsProgress& progress, Stores kept) {
    auto materials = std::make_unique<Materials>();
    Plan& plan = materials->plan = stated;
    ImageSet& set = materials->set;
    require_files(plan);
    for (const BackbonePlan& backbone : plan.backbones)
        materials->backbones.emplace(backbone.name, load_backbone(backbone, plan.images.fitting.size));
    require_scaling(plan, materials->backbones);
    std::optional<std::filesystem::path> stores;
    if (ledger && kept == Stores::kept) stores = Ledger::stores(*ledger);
    ContentCache contents(stores ? *stores / "contents" : std::filesystem::path());
    set = read_image_set(plan.images.source, step_progress(progress, "reading images"),
                         stores ? &contents : nullptr);
    plan.images.fitting.channels = settle_channels(plan, materials->backbones, set);
    plan.images.parts = settle_parts(plan.images, set);
    for (const Candidate& candidate : plan.candidates) {
        build_network(plan, candidate, materials->backbones, set.classes.size(), plan.seeds.front());
        require_class_names(candidate, set);
    }
    if (plan.images.group_near_duplicates) near_duplicates(set, step_progress(progress, "comparing images"));
    materials->parts = split_into_parts(set, *plan.images.parts, places_in(ledger, *plan.images.parts));
    note_looked_at(*materials, ledger);
    note_seen_images(*materials);
    note_images(*materials);
    note_reading(*materials);
    if (stores) save_contents(contents, *stores);
    materials->store = std::make_unique<ImageStore>(stores, plan.images.fitting,
                                                    static_cast<std::int64_t>(set.items.size()));
    settle_data(*materials, step_progress(progress, "preparing images"));
    materials->measured_scaling = materials->images->scaling_of(materials->parts.training);
    return materials;
}

}  // namespace jevrin::inline v1
