#include "jevrin/evaluation/run_features.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/training/classifier.hpp"
#include "jevrin/training/logistic_regression.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t images_at_a_time = 64;

double length_of(std::span<const float> values) {
    double squares = 0.0;
    for (const float v : values) squares += static_cast<double>(v) * static_cast<double>(v);
    return std::sqrt(squares);
}

// By item, from 0; each class is dealt out in an order of its own.
std::vector<std::int64_t> deal_into_folds(const std::vector<ItemRecord>& items, std::size_t classes,
                                          std::int64_t folds, std::uint64_t seed) {
    std::vector<std::int64_t> result(items.size());
    std::vector<std::int64_t> dealt(classes, 0);
    for (const std::int64_t place : random_order(std::ssize(items), seed, Purpose::split, 0)) {
        const auto i = static_cast<std::size_t>(place);
        result[i] = dealt[items[i].label]++ % folds;
    }
    return result;
}

}  // namespace

RunFeatures features_of_run(const Ledger& ledger, const StudyRecord& study, const RunRecord& run,
                            const std::vector<ItemRecord>& items, const PredictionProgress& progress) {
    const Classifier classifier = load_model(ledger, run);
    const std::optional<NetworkHalves> halves = cut_at_head(classifier.network);
    if (!halves)
        throw InputError(
            fmt::format("the network of '{}' has no vector of features before its head", run.name()));
    const Fitting& fitting = classifier.preparation.fitting;
    const ScalingTable scaling(classifier.preparation.scaling, fitting.channels);
    const auto values = static_cast<std::size_t>(fitting.values());
    Inference inference(halves->frozen, images_at_a_time);
    const ImageSet set = items_of(study, items);
    RunFeatures result{.items = items, .width = inference.output_size(), .values = {}};
    std::vector<float> images(images_at_a_time * values);
    for (std::size_t begin = 0; begin < items.size(); begin += images_at_a_time) {
        const std::size_t count = std::min(images_at_a_time, items.size() - begin);
        parallel_for(static_cast<std::int64_t>(count), [&](std::int64_t i) {
            const auto place = static_cast<std::size_t>(i);
            scaling.apply(load_fitted(set, set.items[begin + place], fitting),
                          std::span(images).subspan(place * values, values));
        });
        const auto rows = inference.run(static_cast<std::int64_t>(count), images);
        result.values.insert(result.values.end(), rows.begin(), rows.end());
        if (progress) progress(static_cast<std::int64_t>(begin + count), std::ssize(items));
    }
    return result;
}

std::vector<Neighbour> nearest_items(const RunFeatures& features, std::size_t item, std::size_t most) {
    const auto own = features.row(item);
    const double own_length = length_of(own);
    std::vector<Neighbour> result;
    for (std::size_t i = 0; i < features.items.size(); ++i) {
        if (i == item) continue;
        const auto other = features.row(i);
        double product = 0.0;
        for (std::size_t f = 0; f < own.size(); ++f)
            product += static_cast<double>(own[f]) * static_cast<double>(other[f]);
        const double lengths = own_length * length_of(other);
        result.push_back({i, lengths > 0.0 ? product / lengths : 0.0});
    }
    std::stable_sort(result.begin(), result.end(),
                     [](const Neighbour& a, const Neighbour& b) { return a.similarity > b.similarity; });
    result.resize(std::min(result.size(), most));
    return result;
}

PartPredictions out_of_fold_predictions(const RunFeatures& features, std::size_t classes, std::int64_t folds,
                                        std::uint64_t seed) {
    const std::size_t items = features.items.size();
    PartPredictions result;
    result.table.classes = classes;
    result.table.probabilities.resize(items * classes);
    for (const ItemRecord& item : features.items) {
        result.items.push_back(item.id);
        result.table.labels.push_back(item.label);
    }
    const std::vector<std::int64_t> fold_of = deal_into_folds(features.items, classes, folds, seed);
    parallel_for(folds, [&](std::int64_t fold) {
        std::vector<float> rows;
        std::vector<std::size_t> labels;
        for (std::size_t i = 0; i < items; ++i) {
            if (fold_of[i] == fold) continue;
            rows.insert(rows.end(), features.row(i).begin(), features.row(i).end());
            labels.push_back(features.items[i].label);
        }
        const LogisticRegression fit =
            fit_logistic_regression(rows, labels, {}, classes, {.l2_regularisation = 1.0});
        const auto width = static_cast<std::size_t>(features.width);
        for (std::size_t i = 0; i < items; ++i) {
            if (fold_of[i] != fold) continue;
            const auto row = features.row(i);
            std::vector<float> logits(fit.bias.values().begin(), fit.bias.values().end());
            for (std::size_t f = 0; f < width; ++f)
                for (std::size_t c = 0; c < classes; ++c)
                    logits[c] += row[f] * fit.weight.values()[f * classes + c];
            class_probabilities(1, static_cast<std::int64_t>(classes), logits,
                                std::span(result.table.probabilities).subspan(i * classes, classes));
        }
    });
    return result;
}

}  // namespace jevrin::inline v1
