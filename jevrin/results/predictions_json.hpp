// What the JSON of every result of one run's predictions begins with.
#pragma once

#include "jevrin/results/json_values.hpp"
#include "jevrin/results/run_predictions.hpp"

namespace jevrin::inline v1 {

// run, part, epoch, items, test_looks.
inline Json head_json(const RunPredictions& of) {
    return {{"run", of.run.name()},
            {"part", name_of(of.part)},
            {"epoch", of.predictions.epoch},
            {"items", of.table().items()},
            {"test_looks", of.context.looks.size()}};
}

}  // namespace jevrin::inline v1
