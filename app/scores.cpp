#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/score_report.hpp"
#include "jevrin/figures/reliability_figure.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ScoresOptions {
    PredictionOptions predictions;
    std::size_t top_k = 2;
    std::uint64_t seed = 1;
    std::filesystem::path elsewhere;
    std::filesystem::path csv;
    std::filesystem::path figure;
};

// Those that are not equal to another one for items of one label and one prediction.
constexpr Measure listed[] = {Measure::accuracy,
                              Measure::balanced_accuracy,
                              Measure::macro_precision,
                              Measure::macro_f1,
                              Measure::weighted_precision,
                              Measure::weighted_f1,
                              Measure::top_k,
                              Measure::kappa,
                              Measure::matthews,
                              Measure::roc_auc,
                              Measure::average_precision,
                              Measure::cross_entropy,
                              Measure::brier,
                              Measure::calibration_error};

ScoreReport make_report(const ScoresOptions& options, const OpenPredictions& open) {
    std::optional<double> temperature;
    if (options.elsewhere.empty())
        temperature = temperature_of(open.open.ledger, open.run, open.predictions.epoch);
    return score_report(open.table(), {.k = options.top_k}, {.seed = options.seed}, temperature);
}

std::string scores_table(const ScoreReport& report) {
    Table table({"", "score", "95 % interval", "majority", "random"}, {1, 3, 4});
    for (const Measure measure : listed) {
        const auto& interval = report.interval(measure);
        table.add({spoken_measure(measure, report.scores.k), three_decimals(report.scores[measure]),
                   interval ? fmt::format("{:.3f} to {:.3f}", interval->low, interval->high) : "",
                   three_decimals(report.majority[measure]), three_decimals(report.random[measure])});
    }
    return table.text();
}

std::string reliability_table(const ScoreReport& report) {
    Table table({"confidence", "items", "said", "right"}, {1, 2, 3});
    for (const ReliabilityBin& bin : report.bins)
        if (bin.items > 0)
            table.add({fmt::format("{:.1f} to {:.1f}", bin.low, bin.high), std::to_string(bin.items),
                       fmt::format("{:.3f}", bin.confidence), fmt::format("{:.3f}", bin.accuracy())});
    std::string text = table.text();
    if (!report.temperature) return text;
    if (*report.temperature == 1.0)
        return text +
               "the model carries no temperature: its validation part was too small or without mistakes, or "
               "it is not of the best epoch\n";
    return text + fmt::format(
                      "temperature {:.3f} (fitted on validation, kept in the model): calibration "
                      "error {:.3f}, cross-entropy {:.3f}\n",
                      *report.temperature, report.tempered[Measure::calibration_error],
                      report.tempered[Measure::cross_entropy]);
}

Json to_json(const OpenPredictions& open, const ScoreReport& report) {
    Json json = open.json();
    json["right"] = report.scores.right;
    json["k"] = report.scores.k;
    json["scores"] = Json::object();
    for (std::size_t m = 0; m < measure_count; ++m) {
        const auto measure = static_cast<Measure>(m);
        json["scores"][measure_name(measure)] = {{"value", number(report.scores[measure])},
                                                 {"interval", interval_json(report.intervals[m])},
                                                 {"majority", number(report.majority[measure])},
                                                 {"random", number(report.random[measure])}};
    }
    json["bootstrap"] = {{"resamples", report.bootstrap.resamples},
                         {"seed", report.bootstrap.seed},
                         {"confidence", report.bootstrap.confidence}};
    json["reliability"] = Json::array();
    for (const ReliabilityBin& bin : report.bins)
        json["reliability"].push_back({{"low", bin.low},
                                       {"high", bin.high},
                                       {"items", bin.items},
                                       {"confidence", bin.confidence},
                                       {"accuracy", bin.accuracy()}});
    if (report.temperature)
        json["temperature"] = {{"value", *report.temperature},
                               {"calibration_error", report.tempered[Measure::calibration_error]},
                               {"cross_entropy", report.tempered[Measure::cross_entropy]}};
    else
        json["temperature"] = nullptr;
    return json;
}

// What the size of the part allows to say.
std::string caution(const ScoreReport& report) {
    const auto& accuracy = report.interval(Measure::accuracy);
    constexpr std::int64_t few = 100;
    if (!accuracy || report.scores.items >= few) return "";
    return fmt::format("{} say little: the accuracy may be anything from {:.2f} to {:.2f}\n",
                       plural(report.scores.items, "item"), accuracy->low, accuracy->high);
}

void scores(const ScoresOptions& options) {
    OpenPredictions open = open_predictions(options.predictions);
    std::string what = open.what();
    if (!options.elsewhere.empty()) {
        const std::int64_t epoch = open.predictions.epoch;
        open.predictions = read_predictions(options.elsewhere, open.open.ledger.items(open.run.id, open.part),
                                            open.classes());
        open.predictions.epoch = epoch;
        what = fmt::format("{}, for the {} part of {}", printable(options.elsewhere.string()),
                           name_of(open.part), printable(open.run.name()));
    }
    const ScoreReport report = make_report(options, open);
    if (!options.csv.empty()) write_file(options.csv, to_csv(open.predictions, open.classes()));
    if (!options.figure.empty())
        draw_reliability(report.bins, fmt::format("{}: does it know when it is right?", what),
                         options.figure);
    if (options.predictions.ledger.json) {
        print_json(to_json(open, report));
        return;
    }
    print(fmt::format("{}: {} of {} right, {} wrong\n{}\n", what, report.scores.right, report.scores.items,
                      report.scores.items - report.scores.right, caution(report)));
    print(scores_table(report));
    print(fmt::format(
        "intervals: Wilson's for shares, those of the recalls together for balanced accuracy, {} bootstrap "
        "samples of the items\n(seed {}) for the rest; micro means equal accuracy\n\n",
        report.bootstrap.resamples, report.bootstrap.seed));
    print(reliability_table(report));
    print(fmt::format("\nnext: jevrin classes {0}, jevrin mistakes {0}\n", shell_word(open.run.name())));
    print(test_look_line(open.open));
    print_written({options.csv, options.figure});
}

}  // namespace

void add_scores(Command& command) {
    auto options = std::make_shared<ScoresOptions>();
    add_prediction_options(command, options->predictions);
    command.add_option("--top-k", options->top_k, "the k of top-k accuracy")
        .type_name("K")
        .positive()
        .capture_default_str();
    command.add_option("--seed", options->seed, "of the bootstrap samples").capture_default_str();
    command
        .add_option("--predictions", options->elsewhere,
                    "score a CSV of predictions made elsewhere for the same items")
        .type_name("FILE");
    add_table_option(command, options->csv, "write the predictions scored");
    add_picture_option(command, "--figure", options->figure, "draw the reliability");
    command.callback([options] { scores(*options); });
}

}  // namespace jevrin::app
