// Curves of runs that nobody trained.
#pragma once

#include "jevrin/comparison/curves.hpp"

namespace jevrin::test {

inline const CurveView accuracy_view = {.quantities = {CurveQuantity::loss, CurveQuantity::accuracy}};

inline std::vector<RunCurves> curves_of(const std::vector<std::string>& candidates, int seeds, int epochs) {
    std::vector<RunCurves> all;
    for (std::size_t c = 0; c < candidates.size(); ++c)
        for (int seed = 1; seed <= seeds; ++seed) {
            RunCurves run;
            run.run.candidate = candidates[c];
            run.run.seed = seed;
            run.run.epochs = epochs;
            for (int e = 1; e <= epochs; ++e) {
                ConfusionMatrix matrix(2);
                matrix.add(0, 0, 5 + e);
                matrix.add(1, 0, 5);
                const RecordedEpoch epoch = recorded_epoch({.epoch = e,
                                                            .training_loss = 2.0 / e,
                                                            .validation_loss = 2.5 / e + 0.1 * seed,
                                                            .validation_scores = {}},
                                                           matrix);
                run.epochs.push_back(epoch);
                run.run.best = epoch;
            }
            all.push_back(run);
        }
    return all;
}

}  // namespace jevrin::test
