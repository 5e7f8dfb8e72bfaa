// The preparation as docs/formats.md documents it, in a plain version of its own: byte for byte the same.
#include "support/support.hpp"

#include "jevrin/base/random.hpp"
#include "jevrin/images/preparation.hpp"

#include <algorithm>
#include <cmath>

namespace jevrin {
namespace {

// Weights of the input pixels of each output pixel of one side, in parts of 2^14.
std::vector<std::vector<std::int64_t>> weights_of(std::int64_t in, std::int64_t out) {
    std::vector<std::vector<std::int64_t>> all;
    for (std::int64_t o = 0; o < out; ++o) {
        std::vector<std::int64_t> raw;
        for (std::int64_t i = 0; i < in; ++i)
            raw.push_back(std::max<std::int64_t>(
                0, std::max(2 * out, 2 * in) - std::abs((2 * i + 1) * out - (2 * o + 1) * in)));
        std::int64_t total = 0;
        for (const std::int64_t r : raw) total += r;
        std::int64_t before = 0;
        std::int64_t sum = 0;
        all.emplace_back();
        for (const std::int64_t r : raw) {
            sum += r;
            const std::int64_t share = (sum * 32768 + total) / (2 * total);
            all.back().push_back(share - before);
            before = share;
        }
    }
    return all;
}

std::uint8_t documented_pixel(const Image& image, const std::vector<std::int64_t>& rows,
                              const std::vector<std::int64_t>& columns, std::size_t channel) {
    std::int64_t sum = std::int64_t{1} << 27U;
    for (std::int64_t j = 0; j < image.height; ++j)
        for (std::int64_t i = 0; i < image.width; ++i)
            sum += rows[static_cast<std::size_t>(j)] * columns[static_cast<std::size_t>(i)] *
                   image.at(i, j)[channel];
    return static_cast<std::uint8_t>(sum >> 28U);
}

Image documented_resize(const Image& image, std::int64_t width, std::int64_t height) {
    const auto rows = weights_of(image.height, height);
    const auto columns = weights_of(image.width, width);
    Image result(width, height);
    for (std::int64_t y = 0; y < height; ++y)
        for (std::int64_t x = 0; x < width; ++x)
            for (std::size_t c = 0; c < 3; ++c)
                result.at(x, y)[c] = documented_pixel(image, rows[static_cast<std::size_t>(y)],
                                                      columns[static_cast<std::size_t>(x)], c);
    return result;
}

std::vector<std::uint8_t> documented_fit(const Image& image, const Fitting& fitting) {
    const auto [height, width] = fitting.size;
    const double by_width = static_cast<double>(width) / static_cast<double>(image.width);
    const double by_height = static_cast<double>(height) / static_cast<double>(image.height);
    const double scale =
        fitting.fit == Fit::pad ? std::min(by_width, by_height) : std::max(by_width, by_height);
    std::int64_t resized_width = width;
    std::int64_t resized_height = height;
    if (fitting.fit != Fit::stretch) {
        resized_width = std::max(1.0, std::floor(static_cast<double>(image.width) * scale + 0.5));
        resized_height = std::max(1.0, std::floor(static_cast<double>(image.height) * scale + 0.5));
    }
    const Image resized = documented_resize(image, resized_width, resized_height);
    std::vector<std::uint8_t> result;
    for (std::int64_t y = 0; y < height; ++y)
        for (std::int64_t x = 0; x < width; ++x) {
            const std::int64_t from_x = x + (resized_width - width) / 2;
            const std::int64_t from_y = y + (resized_height - height) / 2;
            const std::uint8_t* pixel = resized.at(std::clamp<std::int64_t>(from_x, 0, resized_width - 1),
                                                   std::clamp<std::int64_t>(from_y, 0, resized_height - 1));
            const bool outside =
                from_x < 0 || from_y < 0 || from_x >= resized_width || from_y >= resized_height;
            if (outside && fitting.padding == FitPadding::constant) pixel = fitting.padding_colour.data();
            if (fitting.channels == 3)
                result.insert(result.end(), pixel, pixel + 3);
            else
                result.push_back(static_cast<std::uint8_t>(
                    (299 * pixel[0] + 587 * pixel[1] + 114 * pixel[2] + 500) / 1000));
        }
    return result;
}

TEST(DocumentedPreparation, IsOursByteForByte) {
    RandomStream random({3, Purpose::sample, 0, 0});
    for (int round = 0; round < 120; ++round) {
        Image image(1 + random.below(40), 1 + random.below(40));
        for (std::uint8_t& v : image.pixels) v = static_cast<std::uint8_t>(random.below(256));
        Fitting fitting{.size = {1 + random.below(24), 1 + random.below(24)},
                        .fit = static_cast<Fit>(round % 3),
                        .padding = round % 2 == 0 ? FitPadding::edge : FitPadding::constant,
                        .padding_colour = {7, 100, 200},
                        .channels = round % 5 == 0 ? 1 : 3};
        if (round % 4 == 0) fitting.size = fitting.size.height;
        ASSERT_EQ(fit_image(image, fitting), documented_fit(image, fitting))
            << image.width << "x" << image.height << " to " << fitting.key();
    }
}

TEST(DocumentedPreparation, TheExampleOfTheDocument) {
    Image image(5, 5);
    const auto paint = [&](std::int64_t x, std::int64_t y, std::uint8_t value) {
        std::fill_n(image.at(x, y), 3, value);
    };
    paint(1, 1, 255);
    paint(3, 2, 100);
    paint(0, 4, 60);
    using testing::ElementsAre;
    EXPECT_THAT(weights_of(5, 2)[0], ElementsAre(5213, 6703, 3723, 745, 0));
    EXPECT_THAT(weights_of(5, 2)[1], ElementsAre(0, 745, 3723, 6703, 5213));
    EXPECT_THAT(fit_image(image, {.size = 2, .fit = Fit::stretch, .channels = 1}),
                ElementsAre(44, 14, 12, 10));
}

}  // namespace
}  // namespace jevrin
