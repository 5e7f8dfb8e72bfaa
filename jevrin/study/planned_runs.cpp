#include "jevrin/study/planned_runs.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/graph/freezing.hpp"
#include "jevrin/plan/run_settings.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

RunSettings run_settings(const Materials& materials, const Candidate& candidate, std::int64_t fold) {
    RunSettings settings = settings_of(materials.plan, candidate);
    if (fold > 0) settings.images.plan.parts->fold = fold;
    settings.images.fingerprint = materials.set.fingerprint;
    if (!candidate.network) settings.backbone = materials.backbones.at(candidate.backbone).hash;
    settings.scaling = materials.scaling_for(candidate, fold);
    return settings;
}

// The first versions knew a backbone by the bytes of its file.
std::vector<std::string> former_identities(const Materials& materials, RunSettings settings) {
    if (settings.backbone.empty()) return {};
    settings.backbone = materials.backbones.at(settings.candidate.backbone).file_hash;
    return {identity_of(settings)};
}

// Forwards and backwards through what trains, three times a forward pass; through what is frozen once for
// each item, or in each epoch when the images change.
void estimate_cost(PlannedRun& run, const CandidateNetwork& built, const TrainingData& data) {
    const TrainingSettings& settings = run.candidate->training;
    const RunLength length = run_length(settings, static_cast<std::int64_t>(data.parts.training.size()));
    run.epochs = length.validations;
    const auto items = static_cast<double>(data.parts.training.size());
    const auto validated = static_cast<double>(data.parts.validation.size());
    const auto trained = static_cast<double>(multiplication_count(built.network, built.first_trained()));
    const double frozen = static_cast<double>(multiplication_count(built.network)) - trained;
    const bool kept = !settings.augmentation.changes_anything() || settings.views > 0;
    const double passes = static_cast<double>(length.steps) / static_cast<double>(length.steps_per_epoch);
    const double once =
        frozen * (items + validated) * static_cast<double>(std::max<std::int64_t>(1, settings.views));
    const double each = 3.0 * trained * items + (kept ? 0.0 : frozen * items);
    const auto epochs = static_cast<double>(run.epochs);
    run.epoch_operations = each * passes / epochs + trained * validated;
    run.operations = run.epoch_operations * epochs + (frozen > 0.0 ? once : 0.0);
}

bool is_called(const PlannedRun& run, const std::string& name) {
    return run.candidate->name == name || run.candidate->origin == name || run.name() == name;
}

void require_name(const std::vector<PlannedRun>& runs, const std::string& name) {
    std::vector<std::string> names;
    for (const PlannedRun& run : runs) {
        if (is_called(run, name)) return;
        for (const std::string& own : {run.candidate->origin, run.candidate->name, run.name()})
            if (std::find(names.begin(), names.end(), own) == names.end()) names.push_back(own);
    }
    throw InputError(fmt::format("no candidate or run of the plan is called '{}'{}", printable(name),
                                 did_you_mean(name, names)));
}

}  // namespace

std::string PlannedRun::name() const {
    return RunRecord{.candidate = identity.candidate, .seed = identity.seed, .fold = fold}.name();
}

std::vector<PlannedRun> plan_runs(const Materials& materials) {
    const Plan& plan = materials.plan;
    const std::vector<std::int64_t> folds =
        plan.images.folds.size() > 1 ? plan.images.folds : std::vector<std::int64_t>{0};
    std::vector<PlannedRun> runs;
    for (const Candidate& candidate : plan.candidates) {
        const CandidateNetwork built = build_network(plan, candidate, materials.backbones,
                                                     materials.set.classes.size(), plan.seeds.front());
        PlannedRun run{.candidate = &candidate};
        run.identity = {.candidate = candidate.name,
                        .origin = candidate.origin,
                        .varied = candidate.varied,
                        .regime = candidate.regime,
                        .batch = candidate.training.batch,
                        .training_fraction = candidate.training.fraction,
                        .parameters = parameter_count(built.network),
                        .trainable_parameters = trainable_parameter_count(built.network),
                        .multiplications = multiplication_count(built.network)};
        for (const std::int64_t fold : folds) {
            run.fold = run.identity.fold = fold;
            estimate_cost(run, built, materials.data_for(candidate, fold));
            run.identity.planned_epochs = run.epochs;
            const RunSettings settings = run_settings(materials, candidate, fold);
            run.identity.settings = to_text(settings);
            run.identity.identity = identity_of(settings);
            run.identity.former = former_identities(materials, settings);
            for (const std::uint64_t seed : plan.seeds) {
                run.seed = seed;
                run.identity.seed = static_cast<std::int64_t>(seed);
                runs.push_back(run);
            }
        }
    }
    std::stable_sort(runs.begin(), runs.end(),
                     [](const PlannedRun& a, const PlannedRun& b) { return a.operations < b.operations; });
    return runs;
}

std::vector<std::int64_t> require_memory_of(const Materials& materials, const std::vector<PlannedRun>& runs) {
    std::vector<std::int64_t> bytes;
    for (std::size_t i = 0; i < runs.size(); ++i) {
        const PlannedRun& run = runs[i];
        // Runs of one candidate follow each other.
        if (i > 0 && runs[i - 1].candidate == run.candidate) {
            bytes.push_back(bytes.back());
            continue;
        }
        const auto items = std::ssize(materials.data_for(*run.candidate, run.fold).parts.training);
        bytes.push_back(require_candidate_memory(
            *run.candidate,
            build_network(materials.plan, *run.candidate, materials.backbones, materials.set.classes.size(),
                          run.seed),
            items_at_once(run.candidate->training,
                          std::min<std::int64_t>(run.candidate->training.batch, items))));
    }
    return bytes;
}

std::vector<std::size_t> validation_items(const Materials& materials, const PlannedRun& run) {
    return materials.data_for(*run.candidate, run.fold).parts.validation;
}

std::vector<std::string> item_ids(const Materials& materials, const std::vector<std::size_t>& items) {
    std::vector<std::string> ids;
    for (const std::size_t item : items) ids.push_back(materials.set.items[item].id);
    return ids;
}

std::vector<PlannedRun> select_runs(std::vector<PlannedRun> runs, const Selection& selection) {
    for (const std::string& name : selection.only) require_name(runs, name);
    if (!selection.until.empty()) {
        require_name(runs, selection.until);
        const auto last = std::find_if(runs.rbegin(), runs.rend(), [&](const PlannedRun& run) {
            return is_called(run, selection.until);
        });
        runs.erase(last.base(), runs.end());
    }
    if (!selection.only.empty())
        std::erase_if(runs, [&](const PlannedRun& run) {
            return std::none_of(selection.only.begin(), selection.only.end(),
                                [&](const std::string& name) { return is_called(run, name); });
        });
    return runs;
}

}  // namespace jevrin::inline v1
