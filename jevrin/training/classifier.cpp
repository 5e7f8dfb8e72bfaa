#include "jevrin/training/classifier.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/network/inference.hpp"
#include "jevrin/network/model_file.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <cassert>

namespace jevrin {
namespace {
const std::string classes_key = "jevrin.classes";
const std::string preparation_key = "jevrin.preparation";
const std::string provenance_prefix = "jevrin.provenance.";
constexpr std::size_t inference_batch = 32;
}  // namespace

Classifier load_classifier(const std::filesystem::path& path) {
    const std::string file = printable(path.string());
    Model model = read_model(path);
    for (const std::string& key : {classes_key, preparation_key})
        if (model.metadata.count(key) == 0)
            throw InputError(fmt::format("{}: it does not say its {}; give a model written by Jevrin", file,
                                         key == classes_key ? "classes" : "preparation"));
    Classifier classifier;
    try {
        classifier.preparation = Preparation::from_json(model.metadata.at(preparation_key));
        const auto json = nlohmann::json::parse(model.metadata.at(classes_key));
        classifier.classes = json.get<std::vector<std::string>>();
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}; the file is damaged", file, error.what()));
    } catch (const nlohmann::json::exception&) {
        throw InputError(fmt::format("{}: its list of classes is not understood; the file is damaged", file));
    }
    const Shape output = infer_shapes(model.network).back();
    const Fitting& fitting = classifier.preparation.fitting;
    const Shape input = {fitting.size, fitting.size, fitting.channels};
    if (output != Shape{static_cast<std::int64_t>(classifier.classes.size())} || model.network.input != input)
        throw InputError(
            fmt::format("{}: its network takes {} and gives {}, which fits neither its {} classes nor its "
                        "preparation to {}; the file is damaged",
                        file, to_string(model.network.input), to_string(output), classifier.classes.size(),
                        to_string(input)));
    classifier.network = std::move(model.network);
    for (const auto& [key, value] : model.metadata)
        if (key.starts_with(provenance_prefix))
            classifier.provenance[key.substr(provenance_prefix.size())] = value;
    return classifier;
}

void save_classifier(const std::filesystem::path& path, const Classifier& classifier) {
    Model model{classifier.network, {}};
    model.metadata[classes_key] =
        nlohmann::json(classifier.classes).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
    model.metadata[preparation_key] = classifier.preparation.to_json();
    for (const auto& [key, value] : classifier.provenance) model.metadata[provenance_prefix + key] = value;
    write_model(path, model);
}

std::vector<float> classify(const Classifier& classifier, std::span<const std::vector<std::uint8_t>> fitted) {
    const auto classes = static_cast<std::int64_t>(classifier.classes.size());
    const Fitting& fitting = classifier.preparation.fitting;
    const ScalingTable scaling(classifier.preparation.scaling, fitting.channels);
    const auto values = static_cast<std::size_t>(fitting.values());
    Inference inference(classifier.network,
                        static_cast<std::int64_t>(std::min(inference_batch, fitted.size())));
    std::vector<float> probabilities(fitted.size() * classifier.classes.size());
    std::vector<float> batch(static_cast<std::size_t>(inference.capacity()) * values);
    for (std::size_t begin = 0; begin < fitted.size(); begin += inference_batch) {
        const std::size_t count = std::min(inference_batch, fitted.size() - begin);
        for (std::size_t i = 0; i < count; ++i) {
            assert(fitted[begin + i].size() == values);
            scaling.apply(fitted[begin + i], std::span(batch).subspan(i * values, values));
        }
        const auto logits = inference.run(static_cast<std::int64_t>(count), batch);
        softmax(static_cast<std::int64_t>(count), classes, logits,
                std::span(probabilities).subspan(begin * classifier.classes.size()));
    }
    return probabilities;
}

}  // namespace jevrin
