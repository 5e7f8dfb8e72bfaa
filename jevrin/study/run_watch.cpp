#include "jevrin/study/run_watch.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr double exploding_update = 0.3;
constexpr double vanishing_share = 1e-5;
constexpr double dying_share = 0.9;

}  // namespace

std::vector<std::string> RunWatch::observe(const EpochRecord& epoch,
                                           const std::vector<LayerSummary>& layers) {
    if (epoch.epoch == 1) first_loss_ = epoch.training_loss;
    if (lowest_epoch_ == 0 || epoch.validation_loss < lowest_validation_) {
        lowest_validation_ = epoch.validation_loss;
        lowest_epoch_ = epoch.epoch;
    }
    std::vector<std::string> messages;
    const auto say = [&](const char* what, const std::string& message) {
        if (said_.insert(what).second) messages.push_back(message);
    };
    double liveliest = 0.0;
    for (const LayerSummary& layer : layers) liveliest = std::max(liveliest, layer.update_ratio);
    for (const LayerSummary& layer : layers) {
        const std::string name = printable(layer.layer);
        if (epoch.epoch >= 2 && layer.update_ratio > exploding_update)
            say("exploding",
                fmt::format(
                    "a step changes the weights of '{}' by {:.0f} % of themselves (gradient norm {:.3g}): "
                    "gradients explode; lower the learning rate, or hold them with 'gradient_clipping'",
                    name, 100.0 * layer.update_ratio, layer.gradient_norm));
        if (liveliest > 0.0 && layer.learning_rate > 0.0 && layer.update_ratio < vanishing_share * liveliest)
            say("vanishing",
                fmt::format(
                    "'{}' hardly moves: a step changes it by {:.1e} of itself, and another layer by {:.1e}: "
                    "gradients vanish before they reach it; use normalisation, a shallower network, or "
                    "another activation",
                    name, layer.update_ratio, liveliest));
        if (layer.dead_fraction >= dying_share)
            say("dead", fmt::format("{:.0f} % of the units after '{}' are always 0 (dead); lower the "
                                    "learning rate, or use another activation",
                                    100.0 * layer.dead_fraction, name));
    }
    const bool learned = epoch.training_scores[Metric::accuracy] >= majority_share_ + 0.02;
    if (epoch.epoch >= 3 && !learned && epoch.training_loss > 0.98 * first_loss_)
        say("nothing",
            fmt::format(
                "nothing has been learned: training accuracy is {:.3f} and the largest class alone has "
                "{:.3f}; look at the learning rate, the scaling of the images and the labels",
                epoch.training_scores[Metric::accuracy], majority_share_));
    if (learned && epoch.epoch >= lowest_epoch_ + 3 &&
        epoch.validation_loss > 2.0 * epoch.training_loss + 0.1 &&
        epoch.validation_loss > 1.2 * lowest_validation_)
        say("overfitting",
            fmt::format(
                "validation loss ({:.3f}) is far above training loss ({:.3f}) and was lowest at epoch {}: it "
                "overfits; stop earlier with 'patience', augment, or train less of the network",
                epoch.validation_loss, epoch.training_loss, lowest_epoch_));
    return messages;
}

}  // namespace jevrin::inline v1
