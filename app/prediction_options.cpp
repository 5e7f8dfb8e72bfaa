#include "prediction_options.hpp"

namespace jevrin::app {

PredictionQuery PredictionOptions::query() const {
    return {.run = run, .part = *part_from_name(part), .epoch = stated_epoch(epoch)};
}

Option add_part_option(Command& command, std::string& part) {
    return command
        .add_option("--part", part,
                    "training, validation, or test, which opens the sealed test part; the ledger records it")
        .one_of({"training", "validation", "test"})
        .capture_default_str();
}

Option add_epoch_option(Command& command, std::int64_t& epoch, const std::string& what) {
    return command.add_option("--epoch", epoch, what).type_name("N").positive();
}

Option add_recorded_epoch_option(Command& command, std::int64_t& epoch) {
    return add_epoch_option(command, epoch, "an epoch whose model was kept (default: the best)");
}

std::optional<std::int64_t> stated_epoch(std::int64_t epoch) {
    return epoch > 0 ? std::optional(epoch) : std::nullopt;
}

void add_prediction_options(Command& command, PredictionOptions& options) {
    add_run_option(command, options.run);
    add_part_option(command, options.part);
    add_recorded_epoch_option(command, options.epoch);
    add_ledger_options(command, options.ledger);
}

RunPredictions open_predictions(const OpenStudy& open, const PredictionOptions& options) {
    ProgressBars bar;
    return jevrin::open_predictions(open.ledger, open.study, options.query(), bar.of("predicting"));
}

}  // namespace jevrin::app
