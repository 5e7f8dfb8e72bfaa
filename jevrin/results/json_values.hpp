// What the JSON of several results shares.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/ledger/records.hpp"
#include "jevrin/metrics/intervals.hpp"
#include "jevrin/training/prediction_cost.hpp"

#include <cmath>
#include <optional>
#include <string>

namespace jevrin::inline v1 {

// The document of a result.
inline std::string document(const Json& json) {
    return json_text(json, 2);
}

// null when the value is NaN or infinite.
inline Json number(double value) {
    return std::isfinite(value) ? Json(value) : Json();
}

template <class T>
Json or_null(const std::optional<T>& value) {
    return value ? Json(*value) : Json();
}

// null when it was not measured.
inline Json prediction_json(const std::optional<PredictionCost>& cost) {
    if (!cost) return {};
    return {{"milliseconds", cost->milliseconds},
            {"batch_milliseconds", cost->batch_milliseconds},
            {"bytes", cost->bytes}};
}

// null when the run was trained by this library.
inline Json external_json(const std::optional<ExternalOrigin>& external) {
    if (!external) return {};
    return {{"program", external->program}, {"hardware", external->hardware}};
}

// [low, high].
inline Json interval_json(const std::optional<Interval>& interval) {
    return interval ? Json::array({interval->low, interval->high}) : Json();
}

}  // namespace jevrin::inline v1
