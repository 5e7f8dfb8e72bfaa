// Stochastic gradient descent with momentum and weight decay, and its learning-rate schedules.
#pragma once

#include "jevrin/network/training_pass.hpp"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin {

// The learning rate over the epochs of a run: constant, or falling along half a cosine to nearly zero
// (Loshchilov & Hutter 2017, without restarts).
enum class Schedule { constant, cosine };
std::string schedule_name(Schedule schedule);
// InputError names the words.
Schedule schedule_from_name(const std::string& name);

struct OptimiserSettings {
    double learning_rate = 0.05;
    double momentum = 0.9;       // 0 <= momentum < 1
    double weight_decay = 5e-4;  // of weights only: biases and normalisation do not decay
    Schedule schedule = Schedule::constant;
};

// The rate in epoch (from 0) of epochs.
double learning_rate_at(const OptimiserSettings& settings, std::int64_t epoch, std::int64_t epochs);

// velocity = momentum * velocity + gradient + weight_decay * value;  value -= learning_rate * velocity
// (Polyak 1964; the form of Sutskever 2013 with the rate outside).
class Optimiser {
  public:
    // Velocities start at zero, one per parameter.
    Optimiser(const OptimiserSettings& settings, std::span<const TrainedParameter> parameters);

    void step(std::span<TrainedParameter> parameters, double learning_rate);

    // The state a checkpoint must hold.
    std::vector<std::vector<float>>& velocities() { return velocities_; }
    const std::vector<std::vector<float>>& velocities() const { return velocities_; }

  private:
    OptimiserSettings settings_;
    std::vector<std::vector<float>> velocities_;
};

}  // namespace jevrin
