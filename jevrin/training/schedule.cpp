#include "jevrin/training/schedule.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace jevrin::inline v1 {
namespace {

// From 1 to 0 along half a cosine while share goes from 0 to 1.
double half_cosine(double share) {
    return 0.5 * (1.0 + std::cos(std::numbers::pi * share));
}

double between(double from, double to, double share) {
    return from + (to - from) * share;
}

// What is left of the learning rate when so much of the run, warm-up left out, is done.
double share_of_rate(const Schedule& s, const SchedulePlace& place, double done) {
    switch (s.kind) {
        case ScheduleKind::constant:
            return 1.0;
        case ScheduleKind::step:
            return std::pow(s.factor, static_cast<double>(place.step / place.steps_per_epoch / s.every));
        case ScheduleKind::linear:
            return between(1.0, s.final_fraction, done);
        case ScheduleKind::cosine:
            return between(s.final_fraction, 1.0, half_cosine(done));
        case ScheduleKind::one_cycle:
            return done < s.rise_fraction
                       ? between(1.0, s.initial_fraction, half_cosine(done / s.rise_fraction))
                       : between(s.final_fraction, 1.0,
                                 half_cosine((done - s.rise_fraction) / (1.0 - s.rise_fraction)));
        case ScheduleKind::plateau:
            return place.plateau_factor;
    }
    return 1.0;
}

}  // namespace

const EnumNames<ScheduleKind>& names_of(ScheduleKind) {
    static const EnumNames<ScheduleKind> names("schedule", {{ScheduleKind::constant, "constant"},
                                                            {ScheduleKind::step, "step"},
                                                            {ScheduleKind::linear, "linear"},
                                                            {ScheduleKind::cosine, "cosine"},
                                                            {ScheduleKind::one_cycle, "one cycle"},
                                                            {ScheduleKind::plateau, "plateau"}});
    return names;
}

double learning_rate_at(const Schedule& schedule, double learning_rate, const SchedulePlace& place) {
    const double rising = schedule.warm_up * static_cast<double>(place.steps_per_epoch);
    const auto step = static_cast<double>(place.step);
    if (step < rising) return learning_rate * std::min(1.0, (step + 1.0) / (rising + 1.0));
    const double falling = std::max(1.0, static_cast<double>(place.steps) - rising);
    return learning_rate * share_of_rate(schedule, place, std::min(1.0, (step - rising) / falling));
}

void PlateauWatch::observe(const Schedule& schedule, double validation_loss) {
    if (!seen || validation_loss < lowest) {
        seen = true;
        lowest = validation_loss;
        waited = 0;
    } else if (++waited >= schedule.patience) {
        factor *= schedule.factor;
        waited = 0;
    }
}

}  // namespace jevrin::inline v1
