// Data augmentation, each random draw keyed by (seed, epoch, item): who draws first, and on how
// many threads, changes nothing, and turning one change on leaves the draws of the others as they were.
//
//     Augmentation augmentation = augmentation_of_strength("medium");
//     augmentation.rotation = 180;                             // tiles have no upright side
//     augment({pixels.data(), 64, 64, 3}, augmentation, {.seed = 1, .epoch = 3}, item);
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/image_size.hpp"
#include "jevrin/images/decoding.hpp"

#include <array>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Bytes [height, width, channels] to change in place; channels is 1 or 3.
struct PixelGrid {
    std::uint8_t* pixels = nullptr;
    std::int64_t width = 0;
    std::int64_t height = 0;
    int channels = 3;

    std::int64_t values() const { return width * height * channels; }
};

// An overlay that is pasted onto some of the images.
struct Overlay {
    std::filesystem::path file;  // PNG or WebP with alpha
    std::shared_ptr<const Cutout> cutout;
    std::string content = {};                    // hash of its pixels: what a ledger knows it by
    double probability = 0.5;                    // of the images that get it
    std::vector<std::array<double, 2>> at = {};  // centres, as fractions of width and height; empty: anywhere
    std::array<double, 2> size = {0.1, 0.3};     // its longer side, as a fraction of the image's shorter one
    std::array<double, 2> opacity = {1.0, 1.0};
    std::string label = {};  // composed sets only: what an image that gets it becomes; empty: what it was
};

// Images and their labels mixed in pairs.
enum class MixingForm {
    none,
    mixup,   // a weighted mean of two images (Zhang et al. 2018)
    cutmix,  // a rectangle of one image in the other (Yun et al. 2019)
};
const EnumNames<MixingForm>& names_of(MixingForm);

struct Mixing {
    MixingForm form = MixingForm::none;
    double alpha = 0.4;  // the fraction of the first image is drawn from Beta(alpha, alpha)
};

struct Augmentation {
    bool flip = false;           // left and right exchanged in half of all images
    bool flip_vertical = false;  // top and bottom likewise
    double shift = 0.0;          // up to this fraction of the side in each direction, the edge repeated
    double rotation = 0.0;       // degrees, to either side
    double scale = 0.0;          // up to this fraction larger or smaller
    double crop = 0.0;           // up to this fraction of the area cut away, the rest resized to the whole
    double brightness = 0.0;     // up to this fraction of white added or taken
    double contrast = 0.0;       // up to this fraction more or less, about the mean grey
    double saturation = 0.0;     // up to this fraction more or less
    double hue = 0.0;            // degrees about the grey axis, to either side
    double noise = 0.0;          // deviation of normal noise, up to this fraction of white
    double blur = 0.0;           // deviation of a Gaussian in pixels, up to this
    double erase = 0.0;  // the fraction of images that lose a rectangle of 2 to 20 % (Zhong et al. 2020)
    std::vector<Overlay> overlays = {};
    Mixing mixing = {};

    bool changes_anything() const;
};

// "none", "light", "medium" or "strong"; InputError names them.
Augmentation augmentation_of_strength(const std::string& name);

struct AugmentationKey {
    std::uint64_t seed = 0;
    std::uint32_t epoch = 0;
};

// Everything but mixing. Says which overlays were laid on, by their place in the list.
std::vector<std::size_t> augment(const PixelGrid& grid, const Augmentation& augmentation,
                                 const AugmentationKey& key, std::int64_t item);

// What one row of a batch is to be recognised as.
struct Target {
    std::size_t label = 0;
    std::size_t other = 0;  // of the image mixed in
    double share = 1.0;     // of the first label; the rest is the other's
    double weight = 1.0;    // of the loss
};

// How one item is mixed in one epoch.
struct MixingDraw {
    std::size_t partner = 0;  // below `choices`
    double share = 1.0;       // of the item itself
    // Of MixingForm::cutmix: the rectangle that comes from the partner.
    std::int64_t left = 0, top = 0, width = 0, height = 0;
};
MixingDraw draw_mixing(const Mixing& mixing, const AugmentationKey& key, std::int64_t item,
                       std::size_t choices, ImageSize size);

}  // namespace jevrin::inline v1
