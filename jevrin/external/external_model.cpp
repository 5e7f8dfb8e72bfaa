#include "jevrin/external/external_model.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/metrics/calibration.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <variant>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_images = 256;
constexpr double most_differing = 0.05;

// A network of another program, whose preparation is stated.
Classifier foreign_classifier(const std::filesystem::path& file, const Preparation& preparation,
                              const std::vector<std::string>& classes) {
    const std::string name = printable(file.string());
    Network network = read_model(file, {.image_size = preparation.fitting.size}).network;
    if (std::holds_alternative<operators::Softmax>(network.nodes.back().op)) network.nodes.pop_back();
    const Fitting& fitting = preparation.fitting;
    const Shape input = {fitting.size.height, fitting.size.width, fitting.channels};
    const Shape output = infer_shapes(network).back();
    if (network.input != input)
        throw InputError(fmt::format("{}: it takes {}; 'preparation' gives {}", name,
                                     to_string(network.input), to_string(input)));
    if (output != Shape{static_cast<std::int64_t>(classes.size())})
        throw InputError(fmt::format("{}: it gives {}; the study has {} classes", name, to_string(output),
                                     classes.size()));
    return {.network = std::move(network), .classes = classes, .preparation = preparation};
}

// Predictions evenly spread over the part.
std::vector<PredictionRecord> some_of(const std::vector<PredictionRecord>& predictions) {
    const std::size_t step = (predictions.size() + most_images - 1) / most_images;
    std::vector<PredictionRecord> some;
    for (std::size_t i = 0; i < predictions.size(); i += step) some.push_back(predictions[i]);
    return some;
}

void require_same_predictions(const Classifier& classifier, const std::filesystem::path& file,
                              const StudyRecord& study, const std::vector<PredictionRecord>& predictions) {
    const std::vector<PredictionRecord> some = some_of(predictions);
    std::vector<ItemRecord> records;
    for (const PredictionRecord& one : some) records.push_back({one.item, one.label});
    const ImageSet set = items_of(study, records);
    std::vector<std::vector<std::uint8_t>> fitted;
    for (const Item& item : set.items)
        fitted.push_back(load_fitted(set, item, classifier.preparation.fitting));
    const std::vector<float> probabilities = classify(classifier, fitted);
    const std::size_t classes = study.classes.size();
    std::size_t differing = 0;
    std::string example;
    for (std::size_t i = 0; i < some.size(); ++i) {
        const auto row = probabilities.begin() + static_cast<std::ptrdiff_t>(i * classes);
        const auto called =
            static_cast<std::size_t>(std::max_element(row, row + static_cast<std::ptrdiff_t>(classes)) - row);
        if (called == some[i].predicted) continue;
        if (differing++ == 0)
            example = fmt::format("it calls '{}' '{}', the predictions say '{}'",
                                  printable(path_of_item(some[i].item)), printable(study.classes[called]),
                                  printable(study.classes[some[i].predicted]));
    }
    if (static_cast<double>(differing) > std::max(1.0, most_differing * static_cast<double>(some.size())))
        throw InputError(
            fmt::format("{}: {} of {} validation images get another class than the predictions say ({}); is "
                        "the preparation, or the "
                        "order of the classes, another one, or is it the model of another epoch?",
                        printable(file.string()), differing, some.size(), example));
}

}  // namespace

Classifier read_external_model(const std::filesystem::path& file, const Ledger& ledger, const RunRecord& run,
                               const RunStatement& statement) {
    const StudyRecord study = ledger.study(run.study);
    const std::vector<PredictionRecord> predictions = ledger.predictions(run.id, Part::validation);
    if (predictions.empty())
        throw InputError(fmt::format("{}: a model is held against predictions; add those of '{}' first",
                                     printable(file.string()), printable(run.name())));
    Classifier classifier =
        statement.preparation
            ? foreign_classifier(file, *statement.preparation,
                                 statement.classes.empty() ? study.classes : statement.classes)
            : load_classifier(file);
    if (classifier.classes != study.classes)
        throw InputError(fmt::format("{}: its classes are not those of the study in their order",
                                     printable(file.string())));
    // What it was given elsewhere is not known to hold of these images.
    classifier.temperature = 1.0;
    classifier.out_of_distribution.reset();
    require_same_predictions(classifier, file, study, predictions);
    PredictionTable table{.classes = study.classes.size(), .labels = {}, .probabilities = {}};
    std::vector<ContentHash> seen;
    for (const PredictionRecord& one : predictions) {
        table.labels.push_back(one.label);
        table.probabilities.insert(table.probabilities.end(), one.probabilities.begin(),
                                   one.probabilities.end());
    }
    classifier.temperature = fit_temperature(table);
    for (const PlacedItem& item : ledger.placed_items(run.split))
        if (item.part && *item.part != Part::test)
            if (const auto content =
                    ContentHash::from_text(std::string_view(item.id).substr(item.id.rfind('#') + 1)))
                seen.push_back(*content);
    classifier.seen_images = SeenImages(seen);
    classifier.provenance = {{"study", run.study},
                             {"run", run.name()},
                             {"regime", name_of(run.regime)},
                             {"image_set", ledger.image_fingerprint(run.id)},
                             {"program", statement.program}};
    return classifier;
}

StoredModel store_external_model(const std::filesystem::path& file, const Ledger& ledger,
                                 const RunRecord& run) {
    const RunStatement statement =
        read_run_statement(parse_json(ledger.external_statement(run.id)), run.name());
    const Classifier classifier = read_external_model(file, ledger, run, statement);
    StoredModel stored{.hash = {},
                       .cost = statement.prediction_cost ? *statement.prediction_cost
                                                         : measure_prediction(classifier.network)};
    save_classifier(ledger.model_file(run.id), classifier);
    stored.hash = content_hash_of_file(ledger.model_file(run.id));
    return stored;
}

}  // namespace jevrin::inline v1
