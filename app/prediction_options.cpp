#include "prediction_options.hpp"

namespace jevrin::app {

PredictionQuery PredictionOptions::query() const {
    return {.run = run, .part = *part_from_name(part), .epoch = stated_epoch(epoch)};
}

void add_part_option(Command& command, std::string& part) {
    command
        .add_option("--part", part,
                    "training, validation, or test: this opens the sealed part and is recorded")
        .one_of({"training", "validation", "test"})
        .capture_default_str();
}

void add_epoch_option(Command& command, std::int64_t& epoch, const std::string& what) {
    command.add_option("--epoch", epoch, what).type_name("N").positive();
}

std::optional<std::int64_t> stated_epoch(std::int64_t epoch) {
    return epoch > 0 ? std::optional(epoch) : std::nullopt;
}

void add_prediction_options(Command& command, PredictionOptions& options) {
    command.add_option("RUN", options.run, "the run, as CANDIDATE/SEED").required();
    add_part_option(command, options.part);
    add_epoch_option(command, options.epoch, "an epoch whose model was kept (default: the best)");
    add_ledger_options(command, options.ledger);
}

RunPredictions open_predictions(const OpenStudy& open, const PredictionOptions& options) {
    ProgressBars bar;
    return jevrin::open_predictions(open.ledger, open.study, options.query(), bar.of("predicting"));
}

}  // namespace jevrin::app
