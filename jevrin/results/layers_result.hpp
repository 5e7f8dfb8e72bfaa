// The activations of each stage of a model for one image.
#pragma once

#include "jevrin/execution/activations.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/results/form.hpp"

#include <filesystem>

namespace jevrin::inline v1 {

struct LayersQuery {
    std::filesystem::path model;  // ONNX
    std::filesystem::path image;
    std::optional<ImageSize> size = std::nullopt;  // for models that leave it open
};

struct LayersResult {
    LayersQuery query;
    Network network;
    Preparation preparation;
    bool carries_preparation = false;  // otherwise the image is scaled to 0 to 1
    std::vector<std::uint8_t> fitted;  // the image as it is fitted, [height, width, channels]
    std::vector<StageActivation> stages;

    std::string title() const;
};
// InputError for a model that takes no square grey or colour images, or one that its preparation does not
// fit.
LayersResult report_layers(const LayersQuery& query);

std::string to_json(const LayersResult& result);
std::string to_text(const LayersResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
