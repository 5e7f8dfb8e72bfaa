#include "jevrin/training/optimiser.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t piece_size = 16'384;

}  // namespace

const EnumNames<OptimiserKind>& names_of(OptimiserKind) {
    static const EnumNames<OptimiserKind> names(
        "optimiser kind",
        {{OptimiserKind::sgd, "sgd"}, {OptimiserKind::adam, "adam"}, {OptimiserKind::adamw, "adamw"}});
    return names;
}

OptimiserSettings OptimiserSettings::usual(OptimiserKind kind) {
    switch (kind) {
        case OptimiserKind::sgd:
            return {};
        case OptimiserKind::adam:
            return {.kind = kind, .learning_rate = 1e-3, .weight_decay = 0.0};
        case OptimiserKind::adamw:
            return {.kind = kind, .learning_rate = 1e-3, .weight_decay = 0.01};
    }
    unhandled(kind);
}

Optimiser::Optimiser(const OptimiserSettings& settings, std::span<const TrainedParameter> parameters)
    : settings_(settings) {
    for (std::size_t k = 0; k < parameters.size(); ++k) {
        const std::size_t size = parameters[k].value.size();
        Moments moments{.first = std::vector<float>(size), .second = {}};
        if (settings.kind != OptimiserKind::sgd) moments.second.resize(size);
        moments_.push_back(std::move(moments));
        for (std::size_t begin = 0; begin < size; begin += piece_size)
            pieces_.push_back({k, begin, std::min(size, begin + piece_size)});
    }
}

void Optimiser::step(std::span<TrainedParameter> parameters, const OptimiserStep& step) {
    for (Moments& moments : moments_) ++moments.steps;
    // Few numbers are not worth waking other threads for.
    if (pieces_.size() <= 4) {
        for (const Piece& piece : pieces_) step_piece(piece, parameters[piece.parameter], step);
        return;
    }
    parallel_for(std::ssize(pieces_), [&](std::int64_t k) {
        const Piece& piece = pieces_[static_cast<std::size_t>(k)];
        step_piece(piece, parameters[piece.parameter], step);
    });
}

void Optimiser::step_piece(const Piece& piece, TrainedParameter& p, const OptimiserStep& step) {
    Moments& moments = moments_[piece.parameter];
    const OptimiserSettings& s = settings_;
    const double learning_rate = step.learning_rate * static_cast<double>(p.rate_factor);
    const auto rate = static_cast<float>(learning_rate);
    const auto factor = static_cast<float>(step.gradient_factor);
    const bool decays = p.kind == ParameterKind::weight;
    const bool decoupled = s.kind == OptimiserKind::adamw || (s.kind == OptimiserKind::sgd && s.decoupled);
    const float decay = decays && !decoupled ? static_cast<float>(s.weight_decay) : 0.0F;
    const float kept = decays && decoupled ? static_cast<float>(1.0 - learning_rate * s.weight_decay) : 1.0F;
    const std::size_t count = piece.end - piece.begin;
    float* __restrict value = p.value.data() + piece.begin;
    const float* __restrict gradient = p.gradient.data() + piece.begin;
    float* __restrict first = moments.first.data() + piece.begin;
    if (s.kind == OptimiserKind::sgd) {
        const auto momentum = static_cast<float>(s.momentum);
        // The step is own * g + followed * m.
        const float own = s.nesterov ? 1.0F : 0.0F;
        const float followed = s.nesterov ? momentum : 1.0F;
        for (std::size_t i = 0; i < count; ++i) {
            const float g = factor * gradient[i] + decay * value[i];
            first[i] = momentum * first[i] + g;
            value[i] = kept * value[i] - rate * (own * g + followed * first[i]);
        }
        return;
    }
    const auto t = static_cast<double>(moments.steps);
    const auto beta1 = static_cast<float>(s.beta1);
    const auto beta2 = static_cast<float>(s.beta2);
    const auto first_correction = static_cast<float>(learning_rate / (1.0 - std::pow(s.beta1, t)));
    const auto second_correction = static_cast<float>(1.0 / (1.0 - std::pow(s.beta2, t)));
    const auto epsilon = static_cast<float>(s.epsilon);
    float* __restrict second = moments.second.data() + piece.begin;
    for (std::size_t i = 0; i < count; ++i) {
        const float g = factor * gradient[i] + decay * value[i];
        first[i] = beta1 * first[i] + (1.0F - beta1) * g;
        second[i] = beta2 * second[i] + (1.0F - beta2) * g * g;
        value[i] = kept * value[i] -
                   first_correction * first[i] / (std::sqrt(second_correction * second[i]) + epsilon);
    }
}

double sum_of_squares(std::span<const float> values) {
    double sum = 0.0;
    for (const float value : values) sum += static_cast<double>(value) * value;
    return sum;
}

double gradient_norm(std::span<const TrainedParameter> parameters) {
    double sum = 0.0;
    std::vector<double> sums;
    for (const TrainedParameter& p : parameters) {
        if (p.repeated) continue;
        const std::size_t pieces = (p.gradient.size() + piece_size - 1) / piece_size;
        sums.assign(pieces, 0.0);
        const auto add = [&](std::int64_t piece) {
            const auto k = static_cast<std::size_t>(piece);
            sums[k] = sum_of_squares(
                p.gradient.subspan(k * piece_size, std::min(piece_size, p.gradient.size() - k * piece_size)));
        };
        if (pieces <= 2)
            for (std::size_t k = 0; k < pieces; ++k) add(static_cast<std::int64_t>(k));
        else
            parallel_for(static_cast<std::int64_t>(pieces), add);
        for (const double one : sums) sum += one;
    }
    return std::sqrt(sum);
}

double clipping_factor(double norm, double limit) {
    return limit > 0.0 && norm > limit ? limit / norm : 1.0;
}

}  // namespace jevrin::inline v1
