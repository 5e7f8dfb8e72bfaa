// The loss function: softmax cross-entropy, with class weights, label smoothing and focal loss.
#pragma once

#include "jevrin/images/augmentation.hpp"

#include <cstddef>
#include <cstdint>
#include <map>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct LossSettings {
    // Of the wanted distribution, spread evenly over all classes (Szegedy 2016).
    double label_smoothing = 0.0;
    // Focal loss gamma: -(1 - p)^gamma log p (Lin 2017); 0 is cross-entropy.
    double focal_gamma = 0.0;
    // Weights of the classes such that all count the same: items / (classes * items of the class).
    bool balanced_classes = false;
    // Or stated ones, by the classes' names; those without one count 1.
    std::map<std::string, double> named_weights = {};
    // What comes of either, by class; empty: 1 each. An item of class c counts class_weights[c] times.
    std::vector<double> class_weights = {};
};

// The labels of a batch.
struct BatchLoss {
    // What is minimised, summed over the batch: with class weights, label smoothing and focal loss.
    double objective_sum = 0.0;
    // Of -(share log p(label) + (1 - share) log p(other)), natural logarithm: -log p(label) without mixing.
    // It can be compared whatever the settings.
    double loss_sum = 0.0;
    std::int64_t correct = 0;  // predictions of the first label
};

// logits [batch, classes]; gradient (same shape, may be empty) receives that of objective_sum / batch with
// respect to the logits; of a shard, `items` is those of the whole batch (0: the batch has no others).
// predicted (batch, may be empty) receives the class with the largest logit; ties go
// to the first. Sums are in double.
BatchLoss cross_entropy(std::int64_t classes, std::span<const float> logits, std::span<const Target> targets,
                        std::span<float> gradient, const LossSettings& settings = {},
                        std::span<std::size_t> predicted = {}, std::int64_t items = 0);

// Targets of unmixed images of weight 1.
std::vector<Target> plain_targets(std::span<const std::size_t> labels);

// LossSettings::class_weights of a training part with these labels. InputError for a name that is no class.
std::vector<double> settle_class_weights(const LossSettings& settings,
                                         std::span<const std::string> class_names,
                                         std::span<const std::size_t> labels);

// The weights of LossSettings::balanced_classes; 0 for classes that have no item.
std::vector<double> balanced_weights(std::span<const std::size_t> labels, std::size_t classes);

}  // namespace jevrin::inline v1
