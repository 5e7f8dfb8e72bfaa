// The materials of a plan: prepared images and their split, the backbone, the network of each candidate. All
// errors of a plan are found here, before the first epoch.
#pragma once

#include "jevrin/images/batches.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/study/gathering.hpp"
#include "jevrin/training/run_trainer.hpp"
#include "jevrin/training/seen_images.hpp"

#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct Backbone {
    Network network;                 // without its head, for images of the plan's size
    int channels = 3;                // that it takes
    std::optional<Scaling> scaling;  // its own, when it carries one
    std::string hash;                // of what it computes with
    std::string features_hash;       // the same and where it ends: of what its features depend on
    std::string file_hash;           // of the bytes of its file
    std::int64_t bytes = 0;          // of the file
    SeenImages seen_images = {};     // that it was trained on, when it says so
    std::string feature_place;       // where its features are taken, and why there
    Shape feature_shape;             // of the value there, before it is averaged to a vector
    std::vector<std::string> notes;  // on how its file was read
    std::string unusual_features;    // what is unusual about that place; empty: nothing
};
using Backbones = std::map<std::string, Backbone>;  // by the plan's names

// InputError with the plan's file when the model cannot serve as a backbone at this image size.
Backbone load_backbone(const BackbonePlan& plan, ImageSize size);

// A candidate's network for one seed, random where it must be; what never trains is frozen.
struct CandidateNetwork {
    Network network;
    std::size_t head = 1;  // its first node
    std::vector<TrainingPhase> phases;

    // The first node that ever trains.
    std::size_t first_trained() const { return phases.back().first_trained; }
};
CandidateNetwork build_network(const Plan& plan, const Candidate& candidate, const Backbones& backbones,
                               std::size_t classes, std::uint64_t seed);

// The memory in bytes that training a candidate takes beside its images and features; InputError with a batch
// that fits when there is less.
std::int64_t require_candidate_memory(const Candidate& candidate, const CandidateNetwork& built,
                                      std::int64_t batch);

struct Materials;
// Fills images and data from everything else that is there, fitting what the store lacks.
void settle_data(Materials& materials, const ReadProgress& progress = {});

// Everything the runs of a study share. Neither copied nor moved: the training data point into it.
struct Materials {
    Plan plan;  // with what it left open settled: parts, channels
    ImageSet set;
    Parts parts;
    std::unique_ptr<ImageStore> store;
    std::unique_ptr<PreparedImages> images;
    Backbones backbones;
    TrainingData data;
    Scaling measured_scaling;  // over the training part
    // The same of its fractions and of other folds, by fold and fraction, once they were asked for.
    mutable std::map<std::pair<std::int64_t, double>, Scaling> measured_elsewhere;
    mutable std::mutex measuring;  // of it: runs of several threads ask

    Materials() = default;
    Materials(const Materials&) = delete;
    Materials& operator=(const Materials&) = delete;

    // What the plan states for the backbone or the images; otherwise a backbone that was trained brings its
    // scaling with it, and what starts random takes that of its own training items.
    Scaling scaling_for(const Candidate& candidate, std::int64_t fold = 0) const;
    // The data of a candidate's runs: with its fraction of the training part, and another fold as validation
    // unless fold is 0.
    TrainingData data_for(const Candidate& candidate, std::int64_t fold = 0) const;
    // The same for a run with this seed: where training parts are redrawn, its own sample.
    TrainingData data_for(const Candidate& candidate, std::int64_t fold, std::uint64_t seed) const;
};

}  // namespace jevrin::inline v1
