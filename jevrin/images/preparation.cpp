#include "jevrin/images/preparation.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>

namespace jevrin {
namespace {

const std::array<std::string, 3> fit_names = {"stretch", "crop", "pad"};

// The middle [width, height] of an image; where the image is smaller its edge is repeated.
Image centred(const Image& image, std::int64_t width, std::int64_t height) {
    Image result(width, height);
    const std::int64_t left = (image.width - width) / 2;
    const std::int64_t top = (image.height - height) / 2;
    for (std::int64_t y = 0; y < height; ++y)
        for (std::int64_t x = 0; x < width; ++x) {
            const std::int64_t from_x = std::clamp<std::int64_t>(x + left, 0, image.width - 1);
            const std::int64_t from_y = std::clamp<std::int64_t>(y + top, 0, image.height - 1);
            std::copy_n(image.at(from_x, from_y), 3, result.at(x, y));
        }
    return result;
}

std::int64_t scaled(std::int64_t length, std::int64_t size, std::int64_t reference) {
    return std::max<std::int64_t>(1, (2 * length * size + reference) / (2 * reference));
}

}  // namespace

std::string fit_name(Fit fit) {
    return fit_names.at(static_cast<std::size_t>(fit));
}

Fit fit_from_name(const std::string& name) {
    for (std::size_t i = 0; i < fit_names.size(); ++i)
        if (fit_names[i] == name) return static_cast<Fit>(i);
    throw InputError(fmt::format("fit is '{}'{}; it may be stretch, crop or pad", printable(name),
                                 did_you_mean(name, fit_names)));
}

std::string Preparation::to_json() const {
    const nlohmann::ordered_json json = {
        {"size", size}, {"fit", fit_name(fit)}, {"mean", scaling.mean}, {"deviation", scaling.deviation}};
    return json.dump();
}

Preparation Preparation::from_json(const std::string& text) {
    try {
        const auto json = nlohmann::json::parse(text);
        Preparation preparation;
        preparation.size = json.at("size").get<std::int64_t>();
        preparation.fit = fit_from_name(json.at("fit").get<std::string>());
        preparation.scaling.mean = json.at("mean").get<std::array<double, 3>>();
        preparation.scaling.deviation = json.at("deviation").get<std::array<double, 3>>();
        const auto& d = preparation.scaling.deviation;
        if (preparation.size < 1 || preparation.size > 4096 || !(std::min({d[0], d[1], d[2]}) > 0))
            throw InputError("its preparation is out of range");
        return preparation;
    } catch (const nlohmann::json::exception&) {
        throw InputError("its preparation is not understood");
    }
}

Image fit_image(const Image& image, std::int64_t size, Fit fit) {
    if (fit == Fit::stretch) return resize(image, size, size);
    const std::int64_t reference =
        fit == Fit::pad ? std::max(image.width, image.height) : std::min(image.width, image.height);
    return centred(resize(image, scaled(image.width, size, reference), scaled(image.height, size, reference)),
                   size, size);
}

Scaling measure_scaling(std::span<const std::uint8_t* const> images, std::int64_t pixels) {
    std::array<std::uint64_t, 3> sums{};
    std::array<std::uint64_t, 3> squares{};
    for (const std::uint8_t* image : images)
        for (std::int64_t p = 0; p < pixels; ++p)
            for (std::size_t c = 0; c < 3; ++c) {
                const std::uint64_t value = image[p * 3 + static_cast<std::int64_t>(c)];
                sums[c] += value;
                squares[c] += value * value;
            }
    const double count = static_cast<double>(images.size()) * static_cast<double>(pixels);
    Scaling scaling;
    for (std::size_t c = 0; c < 3; ++c) {
        const double mean = static_cast<double>(sums[c]) / count;
        const double variance = static_cast<double>(squares[c]) / count - mean * mean;
        scaling.mean[c] = mean / 255.0;
        scaling.deviation[c] = std::max(1.0, std::sqrt(std::max(0.0, variance))) / 255.0;
    }
    return scaling;
}

ScalingTable::ScalingTable(const Scaling& scaling) {
    for (std::size_t c = 0; c < 3; ++c)
        for (std::size_t v = 0; v < 256; ++v)
            table_[c][v] =
                static_cast<float>((static_cast<double>(v) / 255.0 - scaling.mean[c]) / scaling.deviation[c]);
}

void ScalingTable::apply(const std::uint8_t* pixels, std::int64_t count, float* out) const {
    for (std::int64_t p = 0; p < count; ++p)
        for (std::size_t c = 0; c < 3; ++c) {
            const std::int64_t i = p * 3 + static_cast<std::int64_t>(c);
            out[i] = table_[c][pixels[i]];
        }
}

}  // namespace jevrin
