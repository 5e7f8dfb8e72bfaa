// The JSON of a prediction for one image, as commands and the service write it.
#pragma once

#include "jevrin/results/json_values.hpp"
#include "jevrin/results/model_results.hpp"

#include <cstddef>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// image, top (class, probability; so many), unknown, distance, sure.
inline Json answer_json(const std::vector<std::string>& classes, std::size_t top, const ImageAnswer& answer) {
    Json json = {{"image", answer.file}, {"top", Json::array()}};
    for (std::size_t k = 0; k < top; ++k)
        json["top"].push_back(
            {{"class", classes[answer.order[k]]}, {"probability", answer.probabilities[answer.order[k]]}});
    json["unknown"] = answer.distance ? Json(answer.unknown()) : Json();
    json["distance"] = or_null(answer.distance);
    json["sure"] = answer.sure;
    return json;
}

}  // namespace jevrin::inline v1
