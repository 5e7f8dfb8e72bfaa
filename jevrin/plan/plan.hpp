// A plan: what is compared, on which images, on which terms. Read from TOML and checked as a whole.
//
//     Plan plan = read_plan("glaze.toml");
//     for (const Candidate& candidate : plan.candidates) ...
#pragma once

#include "jevrin/graph/architecture.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/plan/images_plan.hpp"
#include "jevrin/plan/regime.hpp"
#include "jevrin/plan/varied_setting.hpp"
#include "jevrin/training/training_settings.hpp"

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {

// How the last layer is found: by training, or on frozen features by logistic regression solved to
// convergence.
enum class LastLayer { trained, logistic_regression };
const EnumNames<LastLayer>& names_of(LastLayer);

// What normalisation by batch does in the part that trains of a backbone: follow the batches, or keep the
// statistics it came with.
enum class NormalisationMode { adapting, fixed };
const EnumNames<NormalisationMode>& names_of(NormalisationMode);

// From an epoch on, training begins at this stage or layer of the backbone.
struct Unfreezing {
    std::int64_t epoch = 1;
    std::string from;
};

struct Candidate {
    std::string name;
    // Of the candidate in the plan that this is a variant of, and what is varied; the same as name without
    // variants.
    std::string origin;
    std::vector<VariedSetting> varied;
    Regime regime = Regime::scratch;
    std::string backbone;  // its name; empty: no backbone
    // partial, where training begins: a stage or layer, or so many weighted layers of the backbone from its
    // end, or the smallest number of its last layers that holds this fraction of its parameters.
    std::string train_from;
    std::int64_t train_last = 0;
    double train_fraction = 0.0;
    std::int64_t head_only_epochs = 0;   // partial: epochs at the beginning in which only the head trains
    std::vector<Unfreezing> unfreezing;  // partial, instead of one place; epochs rise
    NormalisationMode normalisation = NormalisationMode::adapting;
    std::vector<std::pair<std::string, double>> rate_factors;  // of stages or layers
    HeadSettings head;
    bool head_stated = false;
    std::optional<Architecture> network;  // scratch: instead of the backbone's architecture
    LastLayer last_layer = LastLayer::trained;
    // Logistic regression: l2_regularisation / 2 times the squared weights is added to the summed
    // cross-entropy, on standardised features.
    double l2_regularisation = 1.0;
    TrainingSettings training;
    std::string place;  // "FILE:LINE:COLUMN", for messages
};

struct BackbonePlan {
    std::string name;
    std::filesystem::path file;            // absolute
    std::string features;                  // the node whose value is the feature; empty: found by itself
    bool resample_positions = false;       // of a transformer, to images of another size
    std::optional<StatedScaling> scaling;  // instead of its own
    std::string place;
};

struct Plan {
    std::string name;
    std::filesystem::path file;
    std::string text;  // that it was read from
    std::vector<std::uint64_t> seeds = {1, 2, 3};
    Metric metric = Metric::balanced_accuracy;
    double margin = 0.01;         // the smallest difference of the metric that matters
    std::int64_t most_seeds = 0;  // up to which seeds may be added until a difference is clear; 0: not stated
    ImagesPlan images;
    std::vector<BackbonePlan> backbones;
    std::vector<Candidate> candidates;
};

// InputError with FILE:LINE:COLUMN for bad syntax, unknown keys (the nearest known one named), wrong types,
// values out of range, and settings that contradict each other.
Plan read_plan(const std::filesystem::path& file);
// The same from text; file names the plan in messages and relative paths start beside it.
Plan parse_plan(std::string_view text, const std::filesystem::path& file);

// The candidate of this name; InputError names the nearest one.
const Candidate& candidate_called(const Plan& plan, const std::string& name);

// The keys of [images] that say where images come from, as TOML lines.
std::string source_lines(const ImageSource& source);

// A plan with nothing but one run of this one, every default filled in, paths absolute: TOML that
// parse_plan() reads. fold is 0 without folds.
std::string plan_of_run(const Plan& plan, const Candidate& candidate, std::uint64_t seed, std::int64_t fold);

}  // namespace jevrin::inline v1
