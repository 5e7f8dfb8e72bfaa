#include "jevrin/training/boundary_features.hpp"

#include <algorithm>
#include <cassert>

namespace jevrin {
namespace {
constexpr std::int64_t feature_batch = 32;
}

BoundaryFeatures::BoundaryFeatures(const PreparedImages& images, const Network& frozen,
                                   const Scaling& scaling)
    : images_(images),
      scaling_(scaling, images.fitting().channels),
      inference_(frozen, feature_batch),
      pictures_(static_cast<std::size_t>(feature_batch * images.values_per_image())) {
    assert(inference_.input_size() == images.values_per_image());
}

void BoundaryFeatures::compute(std::int64_t count, std::span<const float> pictures, std::span<float> out) {
    computed_ += count;
    const std::int64_t values = images_.values_per_image();
    for (std::int64_t begin = 0; begin < count; begin += feature_batch) {
        const std::int64_t some = std::min<std::int64_t>(feature_batch, count - begin);
        const auto features = inference_.run(some, pictures.subspan(static_cast<std::size_t>(begin * values),
                                                                    static_cast<std::size_t>(some * values)));
        std::copy(features.begin(), features.end(), out.begin() + begin * values_per_item());
    }
}

void BoundaryFeatures::fill(std::span<const std::int64_t> items, std::span<float> out) {
    std::vector<std::int64_t> missing;
    for (const std::int64_t item : items) {
        const auto place = static_cast<std::size_t>(item);
        if (rows_.size() <= place) rows_.resize(place + 1);
        if (rows_[place].empty()) missing.push_back(item);
    }
    for (std::size_t begin = 0; begin < missing.size(); begin += feature_batch) {
        const auto some =
            std::span(missing).subspan(begin, std::min<std::size_t>(feature_batch, missing.size() - begin));
        images_.fill(some, scaling_, {}, {}, pictures_);
        std::vector<float> computed(some.size() * static_cast<std::size_t>(values_per_item()));
        compute(std::ssize(some), pictures_, computed);
        for (std::size_t i = 0; i < some.size(); ++i) {
            const auto first = computed.begin() + static_cast<std::ptrdiff_t>(i) * values_per_item();
            rows_[static_cast<std::size_t>(some[i])].assign(first, first + values_per_item());
        }
    }
    for (std::size_t n = 0; n < items.size(); ++n) {
        const auto& row = rows_[static_cast<std::size_t>(items[n])];
        std::copy(row.begin(), row.end(), out.begin() + static_cast<std::ptrdiff_t>(n) * values_per_item());
    }
}

std::shared_ptr<BoundaryFeatures> FeaturePool::get(const std::string& boundary, const Make& make) {
    auto& features = features_[boundary];
    if (!features) features = make();
    return features;
}

std::int64_t FeaturePool::computed() const {
    std::int64_t sum = 0;
    for (const auto& [boundary, features] : features_) sum += features->computed();
    return sum;
}

}  // namespace jevrin
