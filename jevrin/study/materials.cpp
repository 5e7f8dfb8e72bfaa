#include "jevrin/study/materials.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/content_cache.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/network/model_file.hpp"
#include "jevrin/network/rewrite.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin {

Backbone load_backbone(const std::filesystem::path& file, std::int64_t size) {
    Model model = read_model(file);
    Backbone backbone;
    backbone.hash = content_hash(read_file(file));
    try {
        const Shape& input = model.network.input;
        if (input.size() != 3 || (input[2] != 1 && input[2] != 3))
            throw InputError("it does not take grey or colour images");
        backbone.channels = static_cast<int>(input[2]);
        if (const auto stored = model.metadata.find("jevrin.preparation"); stored != model.metadata.end())
            backbone.scaling = Preparation::from_json(stored->second).scaling;
        model.network.input = {size, size, backbone.channels};
        backbone.network = without_head(model.network);
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: it cannot serve as a backbone for images of {}x{}: {}",
                                     printable(file.string()), size, size, error.what()));
    }
    return backbone;
}

CandidateNetwork build_network(const Plan& plan, const Candidate& candidate,
                               const std::optional<Backbone>& backbone, std::size_t classes,
                               std::uint64_t seed) {
    const Fitting& fitting = plan.images.fitting;
    try {
        CandidateNetwork built;
        built.network = candidate.network ? residual_backbone(*candidate.network,
                                                              {fitting.size, fitting.size, fitting.channels})
                                          : backbone.value().network;
        const std::size_t head = built.network.nodes.size();
        append_head(built.network, candidate.head, static_cast<std::int64_t>(classes));
        if (candidate.regime == Regime::scratch) {
            initialise(built.network, 0, seed);
            return built;
        }
        initialise(built.network, head, seed);
        built.first_trained =
            candidate.regime == Regime::frozen ? head : find_boundary(built.network, candidate.train_from);
        static_cast<void>(
            divide(built.network, built.first_trained));  // refuses a boundary that cannot be cut
        return built;
    } catch (const InputError& error) {
        throw InputError(
            fmt::format("{}: candidate '{}': {}", candidate.place, candidate.name, error.what()));
    }
}

std::int64_t require_candidate_memory(const Candidate& candidate, const CandidateNetwork& built,
                                      std::int64_t batch) {
    const PassMemory memory = run_memory(built.network, built.first_trained);
    try {
        require_memory(memory, batch);
    } catch (const InputError& error) {
        throw InputError(fmt::format("candidate '{}': {}", printable(candidate.name), error.what()));
    }
    return memory.total(batch);
}

Scaling Materials::scaling_for(const Candidate& candidate) const {
    if (plan.images.scaling == ScalingKind::unit) return {};
    if (plan.images.scaling == ScalingKind::stated) return plan.images.stated_scaling;
    const bool pretrained = candidate.regime != Regime::scratch;
    const bool own = !plan.images.scaling && pretrained && backbone && backbone->scaling;
    return own ? *backbone->scaling : measured_scaling;
}

namespace {

// The plan's word, then the backbone's, then what the pictures are.
int settle_channels(const Plan& plan, const std::optional<Backbone>& backbone, const ImageSet& set) {
    if (backbone) {
        if (plan.images.channels && *plan.images.channels != backbone->channels)
            throw InputError(
                fmt::format("{}: 'channels' is {}, but {} takes {}; leave 'channels' out, or bring another "
                            "backbone",
                            printable(plan.file.string()), *plan.images.channels,
                            printable(plan.backbone->string()), backbone->channels));
        return backbone->channels;
    }
    if (plan.images.channels) return *plan.images.channels;
    const bool all_grey = std::all_of(set.items.begin(), set.items.end(),
                                      [](const Item& item) { return item.facts.channels <= 2; });
    return all_grey ? 1 : 3;
}

PartsSettings settle_parts(const ImagesPlan& images, const ImageSet& set) {
    const bool given = std::any_of(set.items.begin(), set.items.end(),
                                   [](const Item& item) { return item.part.has_value(); });
    PartsSettings parts = images.parts.value_or(given ? PartsSettings{.by = PartsBy::given, .validation = 0.0}
                                                      : PartsSettings{});
    parts.seed = images.division_seed;
    parts.near_duplicates_together = images.near_duplicates_together;
    return parts;
}

KnownPlaces places_in(const std::optional<std::filesystem::path>& ledger, const PartsSettings& parts) {
    if (!ledger || !std::filesystem::exists(*ledger / "ledger.db")) return {};
    return Ledger::open(*ledger).known_places(parts.key());
}

// What was read is worth keeping, but not worth failing for.
void save_contents(ContentCache& cache, const std::filesystem::path& stores) {
    try {
        make_directory(stores);
        cache.save();
    } catch (const WorkError&) {
    }
}

}  // namespace

std::unique_ptr<Materials> gather_materials(const Plan& stated,
                                            const std::optional<std::filesystem::path>& ledger,
                                            const MaterialsProgress& progress) {
    auto materials = std::make_unique<Materials>();
    Plan& plan = materials->plan = stated;
    ImageSet& set = materials->set;
    if (plan.backbone) materials->backbone = load_backbone(*plan.backbone, plan.images.fitting.size);
    const auto report = [&](const char* what) {
        return [&progress, what](std::int64_t done, std::int64_t total) {
            if (progress) progress(what, done, total);
        };
    };
    std::optional<std::filesystem::path> stores;
    if (ledger) stores = Ledger::stores(*ledger);
    ContentCache contents(stores ? *stores / "contents" : std::filesystem::path());
    set = read_image_set(plan.images.source, report("reading images"), stores ? &contents : nullptr);
    plan.images.fitting.channels = settle_channels(plan, materials->backbone, set);
    plan.images.parts = settle_parts(plan.images, set);
    materials->parts = divide_into_parts(set, *plan.images.parts, places_in(ledger, *plan.images.parts));
    for (const Candidate& candidate : plan.candidates)
        build_network(plan, candidate, materials->backbone, set.classes.size(), plan.seeds.front());
    if (stores) save_contents(contents, *stores);
    materials->store = std::make_unique<PictureStore>(stores, plan.images.fitting,
                                                      static_cast<std::int64_t>(set.items.size()));
    materials->images = std::make_unique<PreparedImages>(set, plan.images.fitting, materials->store.get(),
                                                         report("preparing images"));
    materials->measured_scaling = materials->images->scaling_of(materials->parts.training);
    TrainingData& data = materials->data;
    data.images = materials->images.get();
    data.classes = set.classes.size();
    data.parts = materials->parts;
    for (const Item& item : set.items) data.labels.push_back(item.label);
    if (std::any_of(set.items.begin(), set.items.end(), [](const Item& item) { return item.weight != 1.0; }))
        for (const Item& item : set.items) data.weights.push_back(item.weight);
    return materials;
}

}  // namespace jevrin
