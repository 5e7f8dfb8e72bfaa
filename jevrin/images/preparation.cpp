#include "jevrin/images/preparation.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/descriptions.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

struct Size {
    std::int64_t width = 0;
    std::int64_t height = 0;
};

// What an image is resized to before it is cut or filled up.
Size resized(Size from, const Fitting& fitting) {
    const auto [height, width] = fitting.size;
    if (fitting.fit == Fit::stretch) return {width, height};
    // length * to / reference, rounded; the side that decides gets exactly what is wanted of it.
    const auto scaled = [](std::int64_t length, std::int64_t to, std::int64_t reference) {
        return std::max<std::int64_t>(1, (2 * length * to + reference) / (2 * reference));
    };
    const bool wider = from.width * height >= from.height * width;
    if (wider == (fitting.fit == Fit::pad)) return {width, scaled(from.height, width, from.width)};
    return {scaled(from.width, height, from.height), height};
}

Colour mean_colour(const Image& image) {
    std::array<std::uint64_t, 3> sums{};
    for (std::size_t i = 0; i < image.pixels.size(); ++i) sums[i % 3] += image.pixels[i];
    const std::uint64_t count = image.pixels.size() / 3;
    Colour mean{};
    for (std::size_t c = 0; c < 3; ++c) mean[c] = static_cast<std::uint8_t>((sums[c] + count / 2) / count);
    return mean;
}

// The middle of an image; where the image is smaller it is filled up.
Image centred(const Image& image, const Fitting& fitting) {
    const auto [height, width] = fitting.size;
    Image result(width, height);
    const std::int64_t left = (image.width - width) / 2;
    const std::int64_t top = (image.height - height) / 2;
    const bool edge = fitting.padding == FitPadding::edge;
    const Colour filling = fitting.padding == FitPadding::mean ? mean_colour(image) : fitting.padding_colour;
    const std::int64_t first = std::max<std::int64_t>(0, -left);
    const std::int64_t end = std::min(width, image.width - left);
    for (std::int64_t y = 0; y < height; ++y) {
        const std::int64_t from_y = std::clamp<std::int64_t>(y + top, 0, image.height - 1);
        const bool whole_row_filled = !edge && from_y != y + top;
        const auto fill = [&](std::int64_t begin, std::int64_t stop, const std::uint8_t* colour) {
            for (std::int64_t x = begin; x < stop; ++x)
                std::copy_n(edge ? colour : filling.data(), 3, result.at(x, y));
        };
        if (whole_row_filled) {
            fill(0, width, nullptr);
            continue;
        }
        fill(0, first, image.at(0, from_y));
        std::copy_n(image.at(first + left, from_y), (end - first) * 3, result.at(first, y));
        fill(end, width, image.at(image.width - 1, from_y));
    }
    return result;
}

std::vector<std::uint8_t> grey(const Image& image) {
    std::vector<std::uint8_t> result(image.pixels.size() / 3);
    for (std::size_t p = 0; p < result.size(); ++p) {
        const std::uint8_t* colour = image.pixels.data() + p * 3;
        result[p] =
            static_cast<std::uint8_t>((299 * colour[0] + 587 * colour[1] + 114 * colour[2] + 500) / 1000);
    }
    return result;
}

// The image may be a reduced form of an image that was `whole` large.
std::vector<std::uint8_t> fit_from(const Image& image, Size whole, const Fitting& fitting) {
    const Size size = resized(whole, fitting);
    Image fitted = resize(image, size.width, size.height);
    if (size.width != fitting.size.width || size.height != fitting.size.height)
        fitted = centred(fitted, fitting);
    return fitting.channels == 1 ? grey(fitted) : std::move(fitted.pixels);
}

}  // namespace

const EnumNames<Fit>& names_of(Fit) {
    static const EnumNames<Fit> names("fit",
                                      {{Fit::stretch, "stretch"}, {Fit::crop, "crop"}, {Fit::pad, "pad"}});
    return names;
}

const EnumNames<FitPadding>& names_of(FitPadding) {
    static const EnumNames<FitPadding> names(
        "padding",
        {{FitPadding::edge, "edge"}, {FitPadding::constant, "constant"}, {FitPadding::mean, "mean"}});
    return names;
}

std::string Fitting::key() const {
    const std::string sides = size.is_square() ? std::to_string(size.height) : size.text();
    const std::string range =
        value_range == ValueRange{} ? "" : fmt::format(" {}-{}", value_range.low, value_range.high);
    return fmt::format("{} {} {} {} {} {}{}", sides, name_of(fit), name_of(padding),
                       fmt::join(padding_colour, ","), fmt::join(background, ","), channels, range);
}

std::vector<std::uint8_t> fit_image(const Image& image, const Fitting& fitting) {
    return fit_from(image, {image.width, image.height}, fitting);
}

std::vector<std::uint8_t> fit_image(std::span<const std::byte> file, const Fitting& fitting) {
    const ImageFacts facts = read_facts(file);
    const Size whole = {facts.width, facts.height};
    const Size size = resized(whole, fitting);
    DecodeSettings settings{.background = fitting.background, .value_range = fitting.value_range};
    // How many times the result's sides must be left by each: the coarser the reduction, the more its blocks
    // show.
    struct Allowed {
        int reduction;
        int left_twice;
    };
    for (const Allowed& allowed : {Allowed{2, 3}, Allowed{4, 4}, Allowed{8, 6}})
        if (2 * whole.width >= allowed.left_twice * allowed.reduction * size.width &&
            2 * whole.height >= allowed.left_twice * allowed.reduction * size.height)
            settings.reduction = allowed.reduction;
    return fit_from(decode_image(file, settings), whole, fitting);
}

std::string Preparation::to_json() const {
    const Json json = {{"size", size_json(fitting.size)},
                       {"fit", name_of(fitting.fit)},
                       {"padding", name_of(fitting.padding)},
                       {"padding_colour", fitting.padding_colour},
                       {"background", fitting.background},
                       {"channels", fitting.channels},
                       {"value_range", {fitting.value_range.low, fitting.value_range.high}},
                       {"mean", scaling.mean},
                       {"deviation", scaling.deviation}};
    return json_text(json);
}

Preparation Preparation::from_json(const std::string& text) {
    try {
        const auto json = parse_json(text);
        Preparation preparation;
        Fitting& fitting = preparation.fitting;
        const Json& size = json.at("size");
        fitting.size = size.is_array()
                           ? ImageSize(size.at(0).get<std::int64_t>(), size.at(1).get<std::int64_t>())
                           : ImageSize(size.get<std::int64_t>());
        fitting.fit = value_named<Fit>(json.at("fit").get<std::string>());
        fitting.padding = value_named<FitPadding>(json.value("padding", name_of(fitting.padding)));
        fitting.padding_colour = json.value("padding_colour", fitting.padding_colour);
        fitting.background = json.value("background", fitting.background);
        fitting.channels = json.value("channels", fitting.channels);
        const auto range = json.value("value_range", std::array<int, 2>{0, 65'535});
        fitting.value_range = {range[0], range[1]};
        preparation.scaling.mean = json.at("mean").get<std::array<double, 3>>();
        preparation.scaling.deviation = json.at("deviation").get<std::array<double, 3>>();
        const auto& d = preparation.scaling.deviation;
        if (std::min(fitting.size.height, fitting.size.width) < 1 ||
            std::max(fitting.size.height, fitting.size.width) > 4096 ||
            (fitting.channels != 1 && fitting.channels != 3) || range[0] < 0 || range[1] <= range[0] ||
            range[1] > 65'535 || !(std::min({d[0], d[1], d[2]}) > 0))
            throw InputError("its preparation is out of range");
        return preparation;
    } catch (const JsonError&) {
        throw InputError("its preparation is invalid");
    }
}

void ScalingSums::add(std::span<const std::uint8_t> pixels) {
    const auto channels = static_cast<std::size_t>(channels_);
    for (std::size_t i = 0; i < pixels.size(); i += channels)
        for (std::size_t c = 0; c < channels; ++c) {
            const std::uint64_t value = pixels[i + c];
            sums_[c] += value;
            squares_[c] += value * value;
        }
    pixels_ += pixels.size() / channels;
}

void ScalingSums::add(const ScalingSums& other) {
    assert(channels_ == other.channels_);
    pixels_ += other.pixels_;
    for (std::size_t c = 0; c < 3; ++c) {
        sums_[c] += other.sums_[c];
        squares_[c] += other.squares_[c];
    }
}

Scaling ScalingSums::scaling() const {
    const auto count = static_cast<double>(pixels_);
    Scaling scaling;
    for (std::size_t c = 0; c < 3; ++c) {
        const std::size_t from = channels_ == 1 ? 0 : c;
        const double mean = static_cast<double>(sums_[from]) / count;
        const double variance = static_cast<double>(squares_[from]) / count - mean * mean;
        scaling.mean[c] = mean / 255.0;
        scaling.deviation[c] = std::max(1.0, std::sqrt(std::max(0.0, variance))) / 255.0;
    }
    return scaling;
}

ScalingTable::ScalingTable(const Scaling& scaling, int channels) : channels_(channels) {
    for (std::size_t c = 0; c < 3; ++c)
        for (std::size_t v = 0; v < 256; ++v)
            table_[c][v] =
                static_cast<float>((static_cast<double>(v) / 255.0 - scaling.mean[c]) / scaling.deviation[c]);
}

void ScalingTable::apply(std::span<const std::uint8_t> pixels, std::span<float> out) const {
    assert(out.size() >= pixels.size());
    const auto channels = static_cast<std::size_t>(channels_);
    for (std::size_t i = 0; i < pixels.size(); i += channels)
        for (std::size_t c = 0; c < channels; ++c) out[i + c] = table_[c][pixels[i + c]];
}

}  // namespace jevrin::inline v1
