#include "jevrin/training/classifier.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/training/preparation_graph.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>
#include <utility>

namespace jevrin::inline v1 {
namespace {
const std::string classes_key = "jevrin.classes";
const std::string preparation_key = "jevrin.preparation";
const std::string temperature_key = "jevrin.temperature";
const std::string out_of_distribution_key = "jevrin.out_of_distribution";
const std::string former_out_of_distribution_key = "jevrin.familiarity";
const std::string provenance_prefix = "jevrin.provenance.";
constexpr std::size_t inference_batch = 32;

// Temperature and out-of-distribution score; a model may have neither.
void read_certainty(const Model& model, const std::string& file, Classifier& classifier) {
    if (const auto stored = model.metadata.find(temperature_key); stored != model.metadata.end()) {
        const auto json = parse_json(stored->second);
        if (!json.is_number() || !(json.get<double>() > 0.0))
            throw InputError(
                fmt::format("{}: its temperature is not a positive number; the file is damaged", file));
        classifier.temperature = json.get<double>();
    }
    auto stored = model.metadata.find(out_of_distribution_key);
    if (stored == model.metadata.end()) stored = model.metadata.find(former_out_of_distribution_key);
    if (stored == model.metadata.end()) return;
    try {
        classifier.out_of_distribution = OutOfDistribution::from_text(stored->second);
        const std::optional<NetworkHalves> halves = cut_at_head(classifier.network);
        if (!halves ||
            element_count(infer_shapes(halves->frozen).back()) != classifier.out_of_distribution->width)
            throw InputError("its out-of-distribution data do not fit its network");
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}; the file is damaged", file, error.what()));
    }
}

}  // namespace

Classifier load_classifier(const std::filesystem::path& path) {
    const std::string file = printable(path.string());
    Model model = read_model(path);
    for (const std::string& key : {classes_key, preparation_key})
        if (model.metadata.count(key) == 0)
            throw InputError(fmt::format("{}: it has no {}; use a model written by Jevrin", file,
                                         key == classes_key ? "classes" : "preparation"));
    Classifier classifier;
    try {
        classifier.preparation = Preparation::from_json(model.metadata.at(preparation_key));
        const auto json = parse_json(model.metadata.at(classes_key));
        classifier.classes = json.get<std::vector<std::string>>();
        if (const auto seen = model.metadata.find(seen_images_key); seen != model.metadata.end())
            classifier.seen_images = SeenImages::from_text(seen->second);
    } catch (const JsonError&) {
        throw InputError(fmt::format("{}: its list of classes is invalid; the file is damaged", file));
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}; the file is damaged", file, error.what()));
    }
    const Shape output = infer_shapes(model.network).back();
    const Fitting& fitting = classifier.preparation.fitting;
    const Shape input = {fitting.size.height, fitting.size.width, fitting.channels};
    if (output != Shape{static_cast<std::int64_t>(classifier.classes.size())} || model.network.input != input)
        throw InputError(
            fmt::format("{}: its network takes {} and gives {}, which fits neither its {} classes nor its "
                        "preparation to {}; the file is damaged",
                        file, to_string(model.network.input), to_string(output), classifier.classes.size(),
                        to_string(input)));
    classifier.network = std::move(model.network);
    read_certainty(model, file, classifier);
    for (const auto& [key, value] : model.metadata)
        if (key.starts_with(provenance_prefix))
            classifier.provenance[key.substr(provenance_prefix.size())] = value;
    return classifier;
}

namespace {

Model model_of(const Classifier& classifier) {
    Model model{classifier.network, {}};
    model.metadata[classes_key] = json_text(Json(classifier.classes));
    model.metadata[preparation_key] = classifier.preparation.to_json();
    if (classifier.temperature != 1.0)
        model.metadata[temperature_key] = json_text(Json(classifier.temperature));
    if (classifier.out_of_distribution)
        model.metadata[out_of_distribution_key] = classifier.out_of_distribution->to_text();
    if (!classifier.seen_images.empty()) model.metadata[seen_images_key] = classifier.seen_images.to_text();
    for (const auto& [key, value] : classifier.provenance) model.metadata[provenance_prefix + key] = value;
    return model;
}

// Images of several shapes, through the file and through our own code.
void check_preparation(const std::filesystem::path& file, const Preparation& preparation) {
    const Fitting& fitting = preparation.fitting;
    const ScalingTable table(preparation.scaling, fitting.channels);
    for (const auto& [height, width] :
         {std::pair<std::int64_t, std::int64_t>{37, 53}, {61, 19}, {64, 64}, {1, 5}}) {
        Image image(width, height);
        for (std::size_t i = 0; i < image.pixels.size(); ++i)
            image.pixels[i] = static_cast<std::uint8_t>((i * i * 7 + i * 13 + i / 11) % 256);
        const std::vector<float> theirs = prepared_by_file(file, image.pixels, height, width);
        const std::vector<std::uint8_t> fitted = fit_image(image, fitting);
        std::vector<float> ours(fitted.size());
        table.apply(fitted, ours);
        const auto channels = static_cast<std::size_t>(fitting.channels);
        const std::size_t pixels = ours.size() / channels;
        bool is_equal = theirs.size() == ours.size();
        for (std::size_t i = 0; is_equal && i < ours.size(); ++i)
            is_equal = theirs[i % channels * pixels + i / channels] == ours[i];
        if (!is_equal)
            throw WorkError(
                fmt::format("{}: read back, it prepares an image of {} x {} otherwise than "
                            "'classify'; this is an error of Jevrin",
                            printable(file.string()), width, height));
    }
}

}  // namespace

void save_classifier(const std::filesystem::path& path, const Classifier& classifier) {
    write_model(path, model_of(classifier));
}

std::int64_t save_prepared_classifier(const std::filesystem::path& path, const Classifier& classifier) {
    const Model model = model_of(classifier);
    const Surroundings surroundings =
        preparation_graph(classifier.preparation, classifier.temperature, model.network.nodes.front().name,
                          model.network.nodes.back().name);
    const StagingDirectory staging(is_stream(path)          ? std::filesystem::temp_directory_path()
                                   : path.has_parent_path() ? path.parent_path()
                                                            : ".");
    const std::filesystem::path file = staging.path() / "model.onnx";
    write_model(file, model, &surroundings);
    check_preparation(file, classifier.preparation);
    load_classifier(file);
    const std::vector<std::byte> bytes = read_file(file);
    write_file(path, bytes);
    return std::ssize(bytes);
}

namespace {

std::size_t capacity_for(std::size_t images) {
    return std::clamp<std::size_t>(images, 1, inference_batch);
}

// Runs one network after another on batches of images; after(first image, count, outputs of each).
template <typename After>
void run_batches(const Preparation& preparation, std::span<Inference> networks,
                 std::span<const std::vector<std::uint8_t>> fitted, const After& after) {
    const ScalingTable scaling(preparation.scaling, preparation.fitting.channels);
    const auto values = static_cast<std::size_t>(preparation.fitting.values());
    const auto capacity = static_cast<std::size_t>(networks.front().capacity());
    std::vector<float> batch(std::min(capacity, fitted.size()) * values);
    for (std::size_t begin = 0; begin < fitted.size(); begin += capacity) {
        const std::size_t count = std::min(capacity, fitted.size() - begin);
        for (std::size_t i = 0; i < count; ++i) {
            assert(fitted[begin + i].size() == values);
            scaling.apply(fitted[begin + i], std::span(batch).subspan(i * values, values));
        }
        std::vector<std::span<const float>> outputs;
        for (Inference& network : networks)
            outputs.push_back(network.run(static_cast<std::int64_t>(count),
                                          outputs.empty() ? std::span<const float>(batch) : outputs.back()));
        after(begin, count, outputs);
    }
}

void fill_probabilities(const Classifier& classifier, std::size_t begin, std::size_t count,
                        std::span<const float> logits, std::vector<float>& probabilities) {
    const std::size_t classes = classifier.classes.size();
    std::vector<float> cooled(logits.begin(), logits.end());
    if (classifier.temperature != 1.0)
        for (float& logit : cooled) logit = static_cast<float>(logit / classifier.temperature);
    class_probabilities(static_cast<std::int64_t>(count), static_cast<std::int64_t>(classes), cooled,
                        std::span(probabilities).subspan(begin * classes));
}

}  // namespace

std::vector<float> classify(const Classifier& classifier, std::span<const std::vector<std::uint8_t>> fitted) {
    std::vector<float> probabilities(fitted.size() * classifier.classes.size());
    Inference inference(classifier.network, static_cast<std::int64_t>(capacity_for(fitted.size())));
    run_batches(classifier.preparation, {&inference, 1}, fitted,
                [&](std::size_t begin, std::size_t count, const auto& outputs) {
                    fill_probabilities(classifier, begin, count, outputs.back(), probabilities);
                });
    return probabilities;
}

Recogniser::Recogniser(Classifier classifier, std::size_t at_a_time) : classifier_(std::move(classifier)) {
    const auto capacity = static_cast<std::int64_t>(capacity_for(at_a_time));
    const std::optional<NetworkHalves> halves =
        classifier_.out_of_distribution ? cut_at_head(classifier_.network) : std::nullopt;
    if (halves) {
        inferences_.emplace_back(halves->frozen, capacity);
        inferences_.emplace_back(halves->trained, capacity);
    } else {
        inferences_.emplace_back(classifier_.network, capacity);
    }
}

Recognition Recogniser::recognise(std::span<const std::vector<std::uint8_t>> fitted) {
    Recognition result;
    result.probabilities.resize(fitted.size() * classifier_.classes.size());
    run_batches(classifier_.preparation, inferences_, fitted,
                [&](std::size_t begin, std::size_t count, const auto& outputs) {
                    fill_probabilities(classifier_, begin, count, outputs.back(), result.probabilities);
                    if (inferences_.size() == 1) return;
                    const auto width = static_cast<std::size_t>(classifier_.out_of_distribution->width);
                    for (std::size_t i = 0; i < count; ++i)
                        result.distances.push_back(
                            classifier_.out_of_distribution->distance(outputs[0].subspan(i * width, width)));
                });
    return result;
}

}  // namespace jevrin::inline v1
