#include "jevrin/evaluation/run_matrices.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

std::vector<RunRecord> runs_with_matrices(const Ledger& ledger, const StudyRecord& study,
                                          const std::vector<std::string>& names) {
    std::vector<RunRecord> found = runs_called(ledger, study, names);
    std::erase_if(found, [&](const RunRecord& run) {
        const bool named = std::find(names.begin(), names.end(), run.name()) != names.end();
        if (named && !run.best)
            throw InputError(
                fmt::format("run '{}' has no finished epoch yet; train it first", printable(run.name())));
        return !named && run.state != RunState::finished;
    });
    if (found.empty()) throw InputError("none of these runs is finished yet; train them first");
    return found;
}

RunMatrix matrix_of(const Ledger& ledger, const StudyRecord& study, const RunRecord& run, Part part,
                    std::optional<std::int64_t> epoch, const PredictionProgress& progress) {
    if (part != Part::validation) {
        const PartPredictions predictions = predict_part(ledger, study, run, part, epoch, progress);
        return {predictions.matrix(), predictions.epoch};
    }
    const std::int64_t wanted = epoch.value_or(run.best ? run.best->epoch : 0);
    for (RecordedEpoch& recorded : ledger.epochs(run.id, {wanted, wanted}))
        return {std::move(recorded.validation), wanted};
    throw InputError(fmt::format("run '{}' has the epochs 1 to {}, not {}", run.name(), run.epochs, wanted));
}

RunMatrix sum_of_matrices(const Ledger& ledger, const StudyRecord& study, const std::vector<RunRecord>& runs,
                          Part part, std::optional<std::int64_t> epoch, const PredictionProgress& progress) {
    RunMatrix sum = matrix_of(ledger, study, runs.at(0), part, epoch, progress);
    for (std::size_t i = 1; i < runs.size(); ++i)
        sum.matrix.add(matrix_of(ledger, study, runs[i], part, epoch, progress).matrix);
    return sum;
}

}  // namespace jevrin::inline v1
