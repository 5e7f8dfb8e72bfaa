// Optimisers: stochastic gradient descent with momentum, Adam and AdamW.
//
//     Optimiser optimiser({.kind = OptimiserKind::adamw, .learning_rate = 1e-3}, pass.parameters());
//     ... pass.backward(batch, gradient) ...
//     optimiser.step(pass.parameters(), {.learning_rate = 1e-3});
#pragma once

#include "jevrin/execution/training_pass.hpp"
#include "jevrin/training/optimiser_settings.hpp"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct OptimiserStep {
    double learning_rate = 0.0;
    double gradient_factor = 1.0;  // gradients are multiplied by this first
};

class Optimiser {
  public:
    // Moments start at zero, one for each parameter.
    Optimiser(const OptimiserSettings& settings, std::span<const TrainedParameter> parameters);

    // The parameters of the constructor, with their gradients.
    void step(std::span<TrainedParameter> parameters, const OptimiserStep& step);

    // The state a checkpoint must hold.
    std::vector<Moments>& moments() { return moments_; }
    const std::vector<Moments>& moments() const { return moments_; }

  private:
    struct Piece {
        std::size_t parameter = 0;
        std::size_t begin = 0;
        std::size_t end = 0;
    };
    void step_piece(const Piece& piece, TrainedParameter& parameter, const OptimiserStep& step);

    OptimiserSettings settings_;
    std::vector<Moments> moments_;
    std::vector<Piece> pieces_;  // of at most so many numbers each
};

// In double, from the first to the last.
double sum_of_squares(std::span<const float> values);

// The Euclidean norm of all gradients together. The same bits for any number of threads.
double gradient_norm(std::span<const TrainedParameter> parameters);

// What gradients must be multiplied by so that their norm is at most `limit` (Pascanu 2013); 1 when it is, or
// limit is 0.
double clipping_factor(double norm, double limit);

}  // namespace jevrin::inline v1
