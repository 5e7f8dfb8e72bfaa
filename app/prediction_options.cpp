#include "prediction_options.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {

void add_prediction_options(Command& command, PredictionOptions& options) {
    command.add_option("RUN", options.run, "the run, as CANDIDATE/SEED").required();
    command
        .add_option("--part", options.part,
                    "training, validation, or test: this opens the sealed part and is recorded")
        .one_of({"training", "validation", "test"})
        .capture_default_str();
    command.add_option("--epoch", options.epoch, "an epoch whose model was kept (default: the best)")
        .type_name("N")
        .positive();
    add_ledger_options(command, options.ledger);
}

std::string OpenPredictions::what() const {
    return fmt::format("{}, {} part, epoch {}", printable(run.name()), name_of(part), predictions.epoch);
}

Json OpenPredictions::json() const {
    return {{"run", run.name()},
            {"part", name_of(part)},
            {"epoch", predictions.epoch},
            {"items", table().items()},
            {"test_looks", open.study.test_looks}};
}

std::string OpenPredictions::path(std::size_t item) const {
    return path_of(predictions.items[item]);
}

OpenPredictions open_predictions(const PredictionOptions& options) {
    OpenPredictions result{.open = open_study(options.ledger),
                           .run = {},
                           .part = *part_from_name(options.part),
                           .predictions = {}};
    result.run = result.open.ledger.run(result.open.study.id, options.run);
    ProgressBars bar;
    result.predictions =
        predict_part(options.ledger.directory, result.open.study.name, result.run.name(), result.part,
                     options.epoch == 0 ? std::nullopt : std::optional(options.epoch),
                     [&](std::int64_t done, std::int64_t total) { bar.show("predicting", done, total); });
    // With this look counted.
    result.open.study = result.open.ledger.study(result.open.study.name);
    return result;
}

std::size_t class_called(const std::vector<std::string>& classes, const std::string& name) {
    const auto found = std::find(classes.begin(), classes.end(), name);
    if (found == classes.end())
        throw InputError(fmt::format("no class is called '{}'{}; the classes are {}", printable(name),
                                     did_you_mean(name, classes),
                                     shortened(fmt::format("{}", fmt::join(classes, ", ")), 200)));
    return static_cast<std::size_t>(found - classes.begin());
}

std::string path_of(const std::string& id) {
    return id.substr(0, id.rfind('#'));
}

}  // namespace jevrin::app
