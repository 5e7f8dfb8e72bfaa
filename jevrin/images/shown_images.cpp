#include "jevrin/images/shown_images.hpp"

#include "jevrin/base/random.hpp"
#include "jevrin/images/batches.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

std::vector<std::vector<std::size_t>> sample_by_class(const ImageSet& set, std::size_t per_class,
                                                      std::uint64_t seed) {
    std::vector<std::vector<std::size_t>> chosen(set.classes.size());
    for (const std::int64_t i :
         random_order(static_cast<std::int64_t>(set.items.size()), seed, Purpose::sample, 0)) {
        auto& of_class = chosen[set.items[static_cast<std::size_t>(i)].label];
        if (of_class.size() < per_class) of_class.push_back(static_cast<std::size_t>(i));
    }
    return chosen;
}

std::vector<Image> images_in_training(const ImageSet& set, std::span<const std::size_t> items,
                                      const Fitting& fitting, const Augmentation& augmentation,
                                      std::uint64_t seed, std::uint32_t epoch) {
    const std::vector<std::int64_t> order(items.begin(), items.end());
    std::vector<std::size_t> labels;
    for (const Item& item : set.items) labels.push_back(item.label);
    // Numbers from 0 to 1, as every scaling starts from.
    const ScalingTable unit(Scaling{}, fitting.channels);
    const PreparedImages images(set, fitting);
    BatchQueue queue(
        images, unit,
        {.size = std::ssize(order), .augmentation = augmentation, .key = {.seed = seed, .epoch = epoch}},
        order, labels);
    const Batch* batch = queue.next();
    const auto values = static_cast<std::size_t>(fitting.values());
    std::vector<Image> result;
    for (std::size_t k = 0; k < order.size(); ++k) {
        std::vector<std::uint8_t> fitted(values);
        std::transform(batch->images.begin() + static_cast<std::ptrdiff_t>(k * values),
                       batch->images.begin() + static_cast<std::ptrdiff_t>((k + 1) * values), fitted.begin(),
                       [](float value) {
                           return static_cast<std::uint8_t>(std::clamp(value * 255.0F + 0.5F, 0.0F, 255.0F));
                       });
        result.push_back(image_of_fitted(fitted, fitting));
    }
    return result;
}

Image image_of_fitted(std::span<const std::uint8_t> fitted, const Fitting& fitting) {
    Image image(fitting.size.width, fitting.size.height);
    for (std::size_t i = 0; i < image.pixels.size(); ++i)
        image.pixels[i] = fitted[fitting.channels == 1 ? i / 3 : i];
    return image;
}

}  // namespace jevrin::inline v1
