// A classifier: a network with its classes and preparation, in one model file.
//
//     Classifier classifier = load_classifier("chosen.onnx");
//     const auto picture = load_fitted("tile.jpg", classifier.preparation.fitting);
//     std::vector<float> probabilities = classify(classifier, {&picture, 1});
#pragma once

#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/network/graph.hpp"

#include <filesystem>
#include <map>
#include <span>
#include <string>
#include <vector>

namespace jevrin {

struct Classifier {
    Network network;  // its output is one logit per class
    std::vector<std::string> classes;
    Preparation preparation;
    std::map<std::string, std::string> provenance;  // where the model comes from, in words
};

// InputError when the file is no model, or does not carry classes and preparation, or they do not fit the
// network.
Classifier load_classifier(const std::filesystem::path& path);
void save_classifier(const std::filesystem::path& path, const Classifier& classifier);

// Probabilities [pictures, classes], each row summing to 1, of pictures fitted with fit_picture() or
// load_fitted() by classifier.preparation.fitting.
std::vector<float> classify(const Classifier& classifier, std::span<const std::vector<std::uint8_t>> fitted);

}  // namespace jevrin
