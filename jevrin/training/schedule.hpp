// Learning-rate schedules.
#pragma once

#include "jevrin/base/enumeration.hpp"

#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

enum class ScheduleKind {
    constant,
    step,       // multiplied by `factor` after each `every` epochs
    linear,     // falls along a line to `final_fraction` of itself
    cosine,     // falls along half a cosine to `final_fraction` (Loshchilov & Hutter 2017, without restarts)
    one_cycle,  // rises to the learning rate, then falls along a half cosine (Smith & Topin 2018)
    plateau,    // multiplied by `factor` when the validation loss has not fallen for `patience` validations
};
const EnumNames<ScheduleKind>& names_of(ScheduleKind);

struct Schedule {
    ScheduleKind kind = ScheduleKind::constant;
    double warm_up = 0.0;  // epochs at the beginning in which the rate rises along a line from nearly 0
    double final_fraction = 0.0;     // of the learning rate, at the end: linear, cosine, one cycle
    std::int64_t every = 10;         // epochs: step
    double factor = 0.1;             // step, plateau
    std::int64_t patience = 3;       // validations: plateau
    double rise_fraction = 0.3;      // of all steps, in which the learning rate of one cycle rises
    double initial_fraction = 0.04;  // of the learning rate, where one cycle begins
};

// Where a run stands when it takes a step.
struct SchedulePlace {
    std::int64_t step = 0;   // from 0
    std::int64_t steps = 1;  // of the whole run
    std::int64_t steps_per_epoch = 1;
    double plateau_factor = 1.0;  // what the plateaus so far have left of the rate
};

// The rate of one step.
double learning_rate_at(const Schedule& schedule, double learning_rate, const SchedulePlace& place);

// Watches the validation loss for ScheduleKind::plateau.
struct PlateauWatch {
    double factor = 1.0;  // of the learning rate, so far
    double lowest = 0.0;  // the lowest loss, once something was seen
    bool seen = false;
    std::int64_t waited = 0;  // validations since it fell, or since the factor changed

    void observe(const Schedule& schedule, double validation_loss);
};

}  // namespace jevrin::inline v1
