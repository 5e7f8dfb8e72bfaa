// Checks a plan before training: the network, memory and cost of each candidate.
#pragma once

#include "jevrin/graph/layer_table.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/study/gathering.hpp"

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Seconds of an epoch, by what they are spent on.
struct EpochTimes {
    double images = 0.0;      // augmenting and scaling them
    double frozen = 0.0;      // layers before the boundary, unless their features are kept
    double products = 0.0;    // convolutions, dense layers and matrix products, which the arithmetic bounds
    double passes = 0.0;      // all other layers that train, which the memory bounds
    double validation = 0.0;  // of the validation part

    double sum() const { return images + frozen + products + passes + validation; }
};

// What one candidate costs. Times come from a short measured run of one real batch on this machine.
struct CandidateCheck {
    std::string candidate;
    Regime regime = Regime::scratch;
    std::vector<std::string> stages;  // "stem 32x32x16", frozen ones in brackets
    std::vector<LayerRow> layers;
    std::int64_t parameters = 0;
    std::int64_t trainable_parameters = 0;
    // Numbers in constants that the backbone's file computes from its weights, and that never train; and the
    // names of these constants.
    std::int64_t fixed_numbers = 0;
    std::vector<std::string> fixed_constants;
    bool head_only = false;            // fine-tuned in part, and yet nothing but the head trains
    std::int64_t multiplications = 0;  // forward, for one image
    std::int64_t backbone_bytes = 0;   // of its file; 0 without one
    std::int64_t memory_bytes = 0;     // of training, beside the images themselves
    std::int64_t largest_batch = 0;    // that fits the memory
    std::int64_t runs = 0;             // seeds and folds
    std::int64_t epochs = 0;           // validations of each
    EpochTimes epoch;
    double seconds_once = 0.0;  // before the first epoch: boundary features that are computed once
};

// Where the features of a backbone are.
struct BackboneCheck {
    std::string name;  // empty: the only one
    std::string file;
    std::int64_t width = 0;  // of the vector
    Shape shape;             // of the value, before it is averaged over its places
    std::string place;       // where, and why there
};

struct PlanCheck {
    std::vector<BackboneCheck> backbones;
    std::vector<CandidateCheck> candidates;
    std::int64_t runs = 0;
    double seconds = 0.0;                  // of all runs
    std::vector<std::int64_t> part_sizes;  // training, validation, test
};

// Builds the network of each candidate of the plan and times one real batch of it. InputError names the
// candidate, and what to change, when one does not fit the images, the backbone or the memory.
PlanCheck check_plan(const Materials& materials);

}  // namespace jevrin::inline v1
