#include "jevrin/study/materials.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/network/model_file.hpp"
#include "jevrin/network/rewrite.hpp"

#include <fmt/format.h>

namespace jevrin {

Backbone load_backbone(const std::filesystem::path& file, std::int64_t size) {
    Model model = read_model(file);
    Backbone backbone;
    backbone.hash = content_hash(read_file(file));
    try {
        if (model.network.input.size() != 3 || model.network.input[2] != 3)
            throw InputError("it does not take colour images");
        if (const auto stored = model.metadata.find("jevrin.preparation"); stored != model.metadata.end())
            backbone.scaling = Preparation::from_json(stored->second).scaling;
        model.network.input = {size, size, 3};
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
    const std::int64_t size = plan.images.size;
    try {
        CandidateNetwork built;
        built.network = candidate.network ? residual_backbone(*candidate.network, {size, size, 3})
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

const Scaling& Materials::scaling_for(const Candidate& candidate) const {
    const bool pretrained = candidate.regime != Regime::scratch;
    return pretrained && backbone && backbone->scaling ? *backbone->scaling : measured_scaling;
}

std::unique_ptr<Materials> gather_materials(const Plan& plan, const MaterialsProgress& progress) {
    auto materials = std::make_unique<Materials>();
    if (plan.backbone) materials->backbone = load_backbone(*plan.backbone, plan.images.size);
    const auto report = [&](const char* what) {
        return [&progress, what](std::int64_t done, std::int64_t total) {
            if (progress) progress(what, done, total);
        };
    };
    materials->set = read_image_set(plan.images.from, report("reading images"));
    materials->parts = divide_into_parts(materials->set, plan.images.parts, plan.images.division_seed);
    for (const Candidate& candidate : plan.candidates)
        build_network(plan, candidate, materials->backbone, materials->set.classes.size(),
                      plan.seeds.front());
    materials->images = std::make_unique<PreparedImages>(materials->set, plan.images.size, plan.images.fit,
                                                         report("preparing images"));
    materials->measured_scaling = materials->images->scaling_of(materials->parts.training);
    TrainingData& data = materials->data;
    data.images = materials->images.get();
    data.classes = materials->set.classes.size();
    data.parts = materials->parts;
    for (const Item& item : materials->set.items) data.labels.push_back(item.label);
    return materials;
}

}  // namespace jevrin
