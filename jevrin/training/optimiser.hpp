// How gradients change weights: stochastic gradient descent with momentum, and Adam.
//
//     Optimiser optimiser({.kind = OptimiserKind::adamw, .learning_rate = 1e-3}, pass.parameters());
//     ... pass.backward(batch, gradient) ...
//     optimiser.step(pass.parameters(), {.learning_rate = 1e-3});
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/execution/training_pass.hpp"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jevrin {

// sgd:   g += weight_decay * value;  m = momentum * m + g;  value -= rate * m
//        (Polyak 1964), or with nesterov  value -= rate * (g + momentum * m)  (Sutskever 2013).
// adam:  g += weight_decay * value;  m = beta1 * m + (1 - beta1) * g;  v = beta2 * v + (1 - beta2) * g * g;
//        value -= rate * (m / (1 - beta1^t)) / (sqrt(v / (1 - beta2^t)) + epsilon)   (Kingma & Ba 2015,
//        algorithm 1), t counted from 1 for each parameter since it began to train.
// adamw: adam without decay in g; instead  value -= rate * weight_decay * value  before the step
//        (Loshchilov & Hutter 2019).
enum class OptimiserKind { sgd, adam, adamw };
const EnumNames<OptimiserKind>& names_of(OptimiserKind);

struct OptimiserSettings {
    OptimiserKind kind = OptimiserKind::sgd;
    double learning_rate = 0.05;
    double momentum = 0.9;  // sgd: 0 <= momentum < 1
    bool nesterov = false;  // sgd
    double beta1 = 0.9;     // adam, adamw
    double beta2 = 0.999;
    double epsilon = 1e-8;
    double weight_decay = 5e-4;  // of weights only: biases and normalisation do not decay
    bool decoupled = false;      // sgd: decay as adamw does it

    // With the learning rate and weight decay that are usual for the kind.
    static OptimiserSettings usual(OptimiserKind kind);
};

// What an optimiser remembers about one parameter; as long as the parameter, or empty before its first step.
struct Moments {
    std::vector<float> first;   // m
    std::vector<float> second;  // v; empty for sgd
    std::int64_t steps = 0;     // t
};

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

}  // namespace jevrin
