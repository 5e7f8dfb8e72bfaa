#include "jevrin/training/boundary_features.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin {
namespace {
constexpr std::size_t feature_batch = 32;
}

BoundaryFeatures::BoundaryFeatures(const PreparedImages& images, const Network& frozen,
                                   const Scaling& scaling)
    : images_(images),
      scaling_(scaling),
      inference_(frozen, feature_batch),
      batch_(feature_batch * static_cast<std::size_t>(images.values_per_image())) {
    assert(inference_.input_size() == images.values_per_image());
}

void BoundaryFeatures::compute(std::span<const std::int64_t> items, const Augmentation& augmentation,
                               const AugmentationKey& key, std::span<float> out) {
    computed_ += static_cast<std::int64_t>(items.size());
    for (std::size_t begin = 0; begin < items.size(); begin += feature_batch) {
        const std::size_t count = std::min(feature_batch, items.size() - begin);
        images_.fill(items.subspan(begin, count), scaling_, augmentation, key, batch_);
        const auto features = inference_.run(static_cast<std::int64_t>(count), batch_);
        std::copy(features.begin(), features.end(),
                  out.begin() + static_cast<std::ptrdiff_t>(begin) * values_per_item());
    }
}

void BoundaryFeatures::fill(std::span<const std::int64_t> items, std::span<float> out) {
    std::vector<std::int64_t> missing;
    for (const std::int64_t item : items) {
        const auto place = static_cast<std::size_t>(item);
        if (rows_.size() <= place) rows_.resize(place + 1);
        if (rows_[place].empty()) missing.push_back(item);
    }
    if (!missing.empty()) {
        std::vector<float> computed(missing.size() * static_cast<std::size_t>(values_per_item()));
        compute(missing, {}, {}, computed);
        for (std::size_t i = 0; i < missing.size(); ++i) {
            const auto first = computed.begin() + static_cast<std::ptrdiff_t>(i) * values_per_item();
            rows_[static_cast<std::size_t>(missing[i])].assign(first, first + values_per_item());
        }
    }
    for (std::size_t n = 0; n < items.size(); ++n) {
        const auto& row = rows_[static_cast<std::size_t>(items[n])];
        std::copy(row.begin(), row.end(), out.begin() + static_cast<std::ptrdiff_t>(n) * values_per_item());
    }
}

void BoundaryFeatures::fill_augmented(std::span<const std::int64_t> items, const Augmentation& augmentation,
                                      const AugmentationKey& key, std::span<float> out) {
    compute(items, augmentation, key, out);
}

}  // namespace jevrin
