// A classifier: a network with its classes and preparation, in one model file.
//
//     Classifier classifier = load_classifier("chosen.onnx");
//     const auto image = load_fitted("tile.jpg", classifier.preparation.fitting);
//     std::vector<float> probabilities = classify(classifier, {&image, 1});
#pragma once

#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/graph.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/training/out_of_distribution.hpp"
#include "jevrin/training/seen_images.hpp"

#include <filesystem>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// The metadata of model files that holds Classifier::seen_images.
inline const std::string seen_images_key = "jevrin.seen_images";

struct Classifier {
    Network network;  // its output is one logit per class
    std::vector<std::string> classes;
    Preparation preparation;
    // Logits are divided by it before they become probabilities (metrics/calibration.hpp).
    double temperature = 1.0;
    // Of the features before the head; models of earlier versions have none.
    std::optional<OutOfDistribution> out_of_distribution = {};
    std::map<std::string, std::string> provenance = {};  // where the model comes from, as text
    SeenImages seen_images = {};                         // of its training and validation part
};

// InputError when the file is no model, or does not carry classes and preparation, or they do not fit the
// network.
Classifier load_classifier(const std::filesystem::path& path);
void save_classifier(const std::filesystem::path& path, const Classifier& classifier);

// The same with the preparation inside the graph, for any reader of the format: it takes the bytes of decoded
// images [batch, height, width, 3] of any size, and gives probabilities. load_classifier() reads it as any
// other. The file is read back and its preparation held against ours; WorkError when they differ.
std::int64_t save_prepared_classifier(const std::filesystem::path& path, const Classifier& classifier);

// Probabilities [images, classes], each row summing to 1, of images fitted with fit_image() or
// load_fitted() by classifier.preparation.fitting.
std::vector<float> classify(const Classifier& classifier, std::span<const std::vector<std::uint8_t>> fitted);

// The same, with how far each image lies from what the classifier was trained on.
struct Recognition {
    std::vector<float> probabilities;  // [images, classes]
    std::vector<double> distances;     // by image, as OutOfDistribution::distance(); empty without an
                                       // out-of-distribution score
};

// A classifier made ready, for images that come one after another.
class Recogniser {
  public:
    // InputError when memory does not suffice for so many images at a time (at most 32).
    explicit Recogniser(Classifier classifier, std::size_t at_a_time = 32);

    const Classifier& classifier() const { return classifier_; }
    // Images fitted as for classify().
    Recognition recognise(std::span<const std::vector<std::uint8_t>> fitted);

  private:
    Classifier classifier_;
    std::vector<Inference> inferences_;  // of the whole network, or of its two halves
};

}  // namespace jevrin::inline v1
