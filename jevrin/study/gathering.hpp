// Gathers the materials of a plan: the first step of checking and training it.
#pragma once

#include "jevrin/images/image_set.hpp"
#include "jevrin/plan/plan.hpp"

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>

namespace jevrin::inline v1 {

// What a plan needs before anything can train (study/materials.hpp): a plan whose open settings are settled.
struct Materials;

// what is "reading images", "comparing images" (for near-duplicates) or "preparing images".
using MaterialsProgress = std::function<void(const std::string& what, std::int64_t done, std::int64_t total)>;
// Of the step called `what`; progress must outlive it.
ReadProgress step_progress(const MaterialsProgress& progress, const std::string& what);
// Whether what was read and fitted is kept for the next time.
enum class Stores { kept, left_out };

// Reads, divides and fits the images of a plan, loads its backbones, and settles what it leaves open. With a
// ledger's directory, images keep the places that it knows, and what was read and fitted once is kept in
// its stores; without one nothing is left behind. InputError for everything that is wrong with the plan's
// images or networks.
std::shared_ptr<const Materials> gather_materials(
    const Plan& plan, const std::optional<std::filesystem::path>& ledger = std::nullopt,
    const MaterialsProgress& progress = {}, Stores kept = Stores::kept);

}  // namespace jevrin::inline v1
