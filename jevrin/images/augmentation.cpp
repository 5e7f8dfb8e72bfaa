#include "jevrin/images/augmentation.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/pixel_changes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

const std::array<std::string, 4> strength_names = {"none", "light", "medium", "strong"};

bool moves(const Augmentation& a) {
    return a.flip || a.flip_vertical || a.shift > 0 || a.rotation > 0 || a.scale > 0 || a.crop > 0;
}

bool recolours(const Augmentation& a) {
    return a.brightness > 0 || a.contrast > 0 || a.saturation > 0 || a.hue > 0;
}

// A draw from [-most, most], made whether it is used or not.
double either_side(RandomStream& stream, double most) {
    return most * stream.uniform(-1.0, 1.0);
}

Movement draw_movement(RandomStream& stream, const Augmentation& a, const PixelGrid& grid) {
    Movement movement;
    movement.mirrored = stream.uniform() < 0.5 && a.flip;
    const auto whole_pixels = [&](std::int64_t side) {
        const auto most = static_cast<std::int64_t>(a.shift * static_cast<double>(side));
        return static_cast<std::int64_t>(stream.below(static_cast<std::uint32_t>(2 * most + 1))) - most;
    };
    movement.dx = whole_pixels(grid.width);
    movement.dy = whole_pixels(grid.height);
    movement.upside_down = stream.uniform() < 0.5 && a.flip_vertical;
    movement.degrees = either_side(stream, a.rotation);
    movement.zoom = std::pow(1.0 + a.scale, stream.uniform(-1.0, 1.0));
    const double area = 1.0 - a.crop * stream.uniform();
    const double aspect = std::pow(4.0 / 3.0, stream.uniform(-1.0, 1.0));
    const double left = stream.uniform();
    const double top = stream.uniform();
    if (a.crop > 0) {
        movement.crop_width = std::min(1.0, std::sqrt(area * aspect));
        movement.crop_height = std::min(1.0, std::sqrt(area / aspect));
        movement.crop_left = left * (1.0 - movement.crop_width);
        movement.crop_top = top * (1.0 - movement.crop_height);
    }
    return movement;
}

// Beta(alpha, alpha) as a fraction of two gamma numbers, by Johnk's (1964) rejection.
double draw_beta(RandomStream& stream, double alpha) {
    constexpr int patience = 1000;
    for (int i = 0; i < patience; ++i) {
        const double x = std::pow(stream.uniform(), 1.0 / alpha);
        const double y = std::pow(stream.uniform(), 1.0 / alpha);
        if (x + y > 0.0 && x + y <= 1.0) return x / (x + y);
    }
    return 0.5;
}

}  // namespace

const EnumNames<MixingForm>& names_of(MixingForm) {
    static const EnumNames<MixingForm> names =
        EnumNames<MixingForm>(
            "mixing form",
            {{MixingForm::none, "none"}, {MixingForm::mixup, "mixup"}, {MixingForm::cutmix, "cutmix"}})
            .was(MixingForm::mixup, "blend")
            .was(MixingForm::cutmix, "paste");
    return names;
}

bool Augmentation::changes_anything() const {
    return moves(*this) || recolours(*this) || noise > 0 || blur > 0 || erase > 0 || !overlays.empty() ||
           mixing.form != MixingForm::none;
}

Augmentation augmentation_of_strength(const std::string& name) {
    if (name == "none") return {};
    if (name == "light") return {.flip = true, .shift = 0.05};
    if (name == "medium")
        return {.flip = true,
                .shift = 0.1,
                .rotation = 10.0,
                .scale = 0.1,
                .brightness = 0.1,
                .contrast = 0.1,
                .saturation = 0.1};
    if (name == "strong")
        return {.flip = true,
                .shift = 0.1,
                .rotation = 20.0,
                .scale = 0.2,
                .crop = 0.3,
                .brightness = 0.2,
                .contrast = 0.2,
                .saturation = 0.3,
                .hue = 10.0,
                .noise = 0.02,
                .blur = 0.6,
                .erase = 0.25};
    throw InputError(fmt::format("augmentation strength is '{}'{}; it may be none, light, medium or strong",
                                 printable(name), did_you_mean(name, strength_names)));
}

std::vector<std::size_t> augment(const PixelGrid& grid, const Augmentation& a, const AugmentationKey& key,
                                 std::int64_t item) {
    const auto number = static_cast<std::uint64_t>(item);
    RandomStream stream({key.seed, Purpose::augmentation, key.epoch, number});
    const Movement movement = draw_movement(stream, a, grid);
    const Recolouring colours{.brightness = either_side(stream, a.brightness),
                              .contrast = either_side(stream, a.contrast),
                              .saturation = either_side(stream, a.saturation),
                              .hue_degrees = either_side(stream, a.hue)};
    const double blur_deviation = a.blur * stream.uniform();
    const double noise_deviation = a.noise * stream.uniform();
    const bool erased = stream.uniform() < a.erase;
    const double erased_area = stream.uniform(0.02, 0.2);
    const double erased_aspect = std::pow(3.0, stream.uniform(-1.0, 1.0));
    const double erased_x = stream.uniform();
    const double erased_y = stream.uniform();
    std::vector<std::size_t> laid;
    for (std::size_t o = 0; o < a.overlays.size(); ++o) {
        const Overlay& overlay = a.overlays[o];
        const bool used = stream.uniform() < overlay.probability;
        const double size = stream.uniform(overlay.size[0], overlay.size[1]);
        const double opacity = stream.uniform(overlay.opacity[0], overlay.opacity[1]);
        std::array<double, 2> centre = {stream.uniform(), stream.uniform()};
        const std::uint32_t place =
            stream.below(static_cast<std::uint32_t>(std::max<std::size_t>(1, overlay.at.size())));
        if (!overlay.at.empty()) centre = overlay.at[place];
        if (!used || overlay.cutout == nullptr) continue;
        lay_over(grid, *overlay.cutout, centre, size, opacity);
        laid.push_back(o);
    }
    if (moves(a)) move(grid, movement);
    if (recolours(a)) recolour(grid, colours);
    if (blur_deviation > 0) blur(grid, blur_deviation);
    if (noise_deviation > 0) {
        RandomStream noise({key.seed, Purpose::noise, key.epoch, number});
        add_noise(grid, noise_deviation, noise);
    }
    if (erased) erase(grid, erased_area, erased_aspect, erased_x, erased_y);
    return laid;
}

MixingDraw draw_mixing(const Mixing& mixing, const AugmentationKey& key, std::int64_t item,
                       std::size_t choices, ImageSize size) {
    RandomStream stream({key.seed, Purpose::mixing, key.epoch, static_cast<std::uint64_t>(item)});
    MixingDraw draw;
    draw.partner = stream.below(static_cast<std::uint32_t>(choices));
    const double x = stream.uniform();
    const double y = stream.uniform();
    draw.share = draw_beta(stream, mixing.alpha);
    if (mixing.form != MixingForm::cutmix) return draw;
    const double pasted = std::sqrt(1.0 - draw.share);
    // One end of the pasted part; side is 1 or -1.
    const auto edge = [&](double centre, std::int64_t length, double side) {
        const auto whole = static_cast<double>(length);
        return std::clamp<std::int64_t>(std::llround(centre * whole + side * (pasted * whole) / 2), 0,
                                        length);
    };
    draw.left = edge(x, size.width, -1.0);
    draw.top = edge(y, size.height, -1.0);
    draw.width = edge(x, size.width, 1.0) - draw.left;
    draw.height = edge(y, size.height, 1.0) - draw.top;
    draw.share = 1.0 - static_cast<double>(draw.width * draw.height) / static_cast<double>(size.pixels());
    return draw;
}

}  // namespace jevrin::inline v1
