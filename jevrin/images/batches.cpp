#include "jevrin/images/batches.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/base/random.hpp"

#include <algorithm>
#include <cassert>
#include <mutex>

namespace jevrin {
namespace {

// Copies a square picture moved by (dx, dy), its edge repeated, mirrored first when asked.
void augment(const std::uint8_t* from, std::int64_t size, bool mirrored, std::int64_t dx, std::int64_t dy,
             std::uint8_t* to) {
    for (std::int64_t y = 0; y < size; ++y) {
        const std::int64_t from_y = std::clamp<std::int64_t>(y - dy, 0, size - 1);
        for (std::int64_t x = 0; x < size; ++x) {
            const std::int64_t shifted = std::clamp<std::int64_t>(x - dx, 0, size - 1);
            const std::int64_t from_x = mirrored ? size - 1 - shifted : shifted;
            std::copy_n(from + (from_y * size + from_x) * 3, 3, to + (y * size + x) * 3);
        }
    }
}

}  // namespace

PreparedImages::PreparedImages(const ImageSet& set, std::int64_t size, Fit fit, const ReadProgress& progress)
    : size_(size), bytes_(set.items.size() * static_cast<std::size_t>(size * size * 3)) {
    std::mutex mutex;
    std::int64_t done = 0;
    const auto total = static_cast<std::int64_t>(set.items.size());
    parallel_for(total, [&](std::int64_t i) {
        const Image fitted = fit_image(load_image(set, set.items[static_cast<std::size_t>(i)]), size, fit);
        std::copy(fitted.pixels.begin(), fitted.pixels.end(), bytes_.begin() + i * values_per_image());
        const std::lock_guard lock(mutex);
        if (progress) progress(++done, total);
    });
}

const std::uint8_t* PreparedImages::image(std::size_t item) const {
    return bytes_.data() + static_cast<std::int64_t>(item) * values_per_image();
}

Scaling PreparedImages::scaling_of(std::span<const std::size_t> items) const {
    std::vector<const std::uint8_t*> images;
    for (const std::size_t item : items) images.push_back(image(item));
    return measure_scaling(images, size_ * size_);
}

void PreparedImages::fill(std::span<const std::int64_t> items, const ScalingTable& scaling,
                          const Augmentation& augmentation, const AugmentationKey& key,
                          std::span<float> out) const {
    assert(static_cast<std::int64_t>(out.size()) >=
           static_cast<std::int64_t>(items.size()) * values_per_image());
    parallel_for(static_cast<std::int64_t>(items.size()), [&](std::int64_t n) {
        const std::int64_t item = items[static_cast<std::size_t>(n)];
        const std::uint8_t* pixels = image(static_cast<std::size_t>(item));
        thread_local std::vector<std::uint8_t> changed;
        if (augmentation.changes_anything()) {
            RandomStream stream(
                {key.seed, Purpose::augmentation, key.epoch, static_cast<std::uint64_t>(item)});
            const bool mirrored = stream.uniform() < 0.5 && augmentation.flip;
            const auto most = static_cast<std::int64_t>(augmentation.shift * static_cast<double>(size_));
            const auto draw = [&] {
                return static_cast<std::int64_t>(stream.below(static_cast<std::uint32_t>(2 * most + 1))) -
                       most;
            };
            const std::int64_t dx = draw();
            const std::int64_t dy = draw();
            changed.resize(static_cast<std::size_t>(values_per_image()));
            augment(pixels, size_, mirrored, dx, dy, changed.data());
            pixels = changed.data();
        }
        scaling.apply(pixels, size_ * size_, out.data() + n * values_per_image());
    });
}

}  // namespace jevrin
