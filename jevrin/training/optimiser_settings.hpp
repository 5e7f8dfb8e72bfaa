// The settings and the state of an optimiser.
#pragma once

#include "jevrin/base/enumeration.hpp"

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

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

}  // namespace jevrin::inline v1
