#include "jevrin/results/run_predictions.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

namespace jevrin::inline v1 {

std::string RunPredictions::what() const {
    if (!source.empty())
        return fmt::format("{}, for the {} part of {}", printable(source), name_of(part),
                           printable(run.name()));
    return fmt::format("{}, {} part, epoch {}", printable(run.name()), name_of(part), predictions.epoch);
}

RunPredictions open_predictions(const Ledger& ledger, const StudyRecord& study, const PredictionQuery& query,
                                const PredictionProgress& progress) {
    RunPredictions result{.context = {},
                          .run = ledger.run(study.id, query.run),
                          .part = query.part,
                          .predictions = {},
                          .source = {}};
    result.predictions = predict_part(ledger, study, result.run, query.part, query.epoch, progress);
    result.context = context_of(ledger, study);
    return result;
}

RunPredictions open_predictions_from(const std::filesystem::path& file, const Ledger& ledger,
                                     const StudyRecord& study, const PredictionQuery& query,
                                     const PredictionProgress& progress) {
    RunPredictions result = open_predictions(ledger, study, query, progress);
    const std::int64_t epoch = result.predictions.epoch;
    result.predictions = read_predictions(file, ledger.items(result.run.id, result.part), result.classes());
    result.predictions.epoch = epoch;
    result.source = file.string();
    return result;
}

std::size_t class_called(const std::vector<std::string>& classes, const std::string& name) {
    const auto found = std::find(classes.begin(), classes.end(), name);
    if (found == classes.end())
        throw InputError(fmt::format("no class is called '{}'{}; the classes are {}", printable(name),
                                     did_you_mean(name, classes),
                                     shortened_text(fmt::format("{}", fmt::join(classes, ", ")), 200)));
    return static_cast<std::size_t>(found - classes.begin());
}

}  // namespace jevrin::inline v1
