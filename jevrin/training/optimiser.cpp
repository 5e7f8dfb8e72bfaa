#include "jevrin/training/optimiser.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <numbers>

namespace jevrin {
namespace {
const std::array<std::string, 2> schedule_names = {"constant", "cosine"};
}

std::string schedule_name(Schedule schedule) {
    return schedule_names.at(static_cast<std::size_t>(schedule));
}

Schedule schedule_from_name(const std::string& name) {
    for (std::size_t i = 0; i < schedule_names.size(); ++i)
        if (schedule_names[i] == name) return static_cast<Schedule>(i);
    throw InputError(fmt::format("schedule is '{}'{}; it may be constant or cosine", printable(name),
                                 did_you_mean(name, schedule_names)));
}

double learning_rate_at(const OptimiserSettings& settings, std::int64_t epoch, std::int64_t epochs) {
    if (settings.schedule == Schedule::constant) return settings.learning_rate;
    const double share = static_cast<double>(epoch) / static_cast<double>(epochs);
    return settings.learning_rate * 0.5 * (1.0 + std::cos(std::numbers::pi * share));
}

Optimiser::Optimiser(const OptimiserSettings& settings, std::span<const TrainedParameter> parameters)
    : settings_(settings) {
    for (const TrainedParameter& p : parameters) velocities_.emplace_back(p.value.size(), 0.0F);
}

void Optimiser::step(std::span<TrainedParameter> parameters, double learning_rate) {
    const auto momentum = static_cast<float>(settings_.momentum);
    parallel_for(static_cast<std::int64_t>(parameters.size()), [&](std::int64_t k) {
        TrainedParameter& p = parameters[static_cast<std::size_t>(k)];
        const auto rate = static_cast<float>(learning_rate) * p.rate_factor;
        float* velocity = velocities_[static_cast<std::size_t>(k)].data();
        float* value = p.value.data();
        const float* gradient = p.gradient.data();
        const float decay =
            p.kind == ParameterKind::weight ? static_cast<float>(settings_.weight_decay) : 0.0F;
        for (std::size_t i = 0; i < p.value.size(); ++i) {
            velocity[i] = momentum * velocity[i] + gradient[i] + decay * value[i];
            value[i] -= rate * velocity[i];
        }
    });
}

}  // namespace jevrin
