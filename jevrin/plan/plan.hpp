// A plan: what is compared, on which images, on which terms. Read from TOML and checked as a whole.
//
//     Plan plan = read_plan("glaze.toml");
//     for (const Candidate& candidate : plan.candidates) ...
#pragma once

#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/network/architecture.hpp"
#include "jevrin/plan/images_plan.hpp"
#include "jevrin/training/run_trainer.hpp"

#include <nlohmann/json_fwd.hpp>

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jevrin {

// scratch: all weights start random and train. frozen: the backbone is fixed, the head trains. partial: the
// backbone trains from a boundary on, and the head.
enum class Regime { scratch, frozen, partial };
std::string regime_name(Regime regime);

struct Candidate {
    std::string name;
    Regime regime = Regime::scratch;
    std::string train_from;  // partial: the stage or layer where training begins
    HeadSettings head;
    std::optional<ResidualSettings> network;  // scratch: instead of the backbone's architecture
    TrainingSettings training;
    std::string place;  // "FILE:LINE:COLUMN", for messages
};

struct Plan {
    std::string name;
    std::filesystem::path file;
    std::vector<std::uint64_t> seeds = {1, 2, 3};
    Metric metric = Metric::balanced_accuracy;
    ImagesPlan images;
    std::optional<std::filesystem::path> backbone;  // absolute
    std::vector<Candidate> candidates;
};

// InputError with FILE:LINE:COLUMN for bad syntax, unknown keys (the nearest known one named), wrong types,
// values out of range, and settings that contradict each other.
Plan read_plan(const std::filesystem::path& file);
// The same from text; file names the plan in messages and relative paths start beside it.
Plan parse_plan(std::string_view text, const std::filesystem::path& file);

// All settings of a candidate with every default filled in: what a run's results depend on, besides its
// images, backbone weights and seed.
nlohmann::ordered_json resolved_settings(const Plan& plan, const Candidate& candidate);

}  // namespace jevrin
