#include "jevrin/images/perceptual_hash.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/images/image_set.hpp"

#include <algorithm>
#include <bit>
#include <cassert>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t side = hash_image_side;
constexpr std::size_t kept = 16;  // frequencies in each direction
constexpr std::size_t bands = 32;

// cosines[frequency][place]
const std::array<std::array<double, side>, kept>& cosines() {
    static const auto table = [] {
        std::array<std::array<double, side>, kept> result{};
        for (std::size_t f = 0; f < kept; ++f)
            for (std::size_t x = 0; x < side; ++x)
                result[f][x] = std::cos(std::numbers::pi * static_cast<double>(f) *
                                        (static_cast<double>(x) + 0.5) / static_cast<double>(side));
        return result;
    }();
    return table;
}

// Eight bits from everywhere in the spectrum, so that no band holds only what most images share.
std::uint8_t band(const PerceptualHash& perceptual_hash, std::size_t b) {
    unsigned bits = 0;
    for (std::size_t i = 0; i < 8; ++i) {
        const std::size_t place = i * bands + (b + 5 * i) % bands;
        bits = bits << 1 | (perceptual_hash[place / 64] >> (place % 64) & 1U);
    }
    return static_cast<std::uint8_t>(bits);
}

// Pairs of `items` that agree in this band and in none before it, and are near enough.
std::vector<NearDuplicate> near_in_band(const ImageSet& set, const std::vector<std::size_t>& items,
                                        std::size_t b) {
    std::array<std::vector<std::size_t>, 256> buckets;
    for (const std::size_t item : items) buckets[band(set.items[item].perceptual_hash, b)].push_back(item);
    std::vector<NearDuplicate> pairs;
    for (const auto& bucket : buckets)
        for (std::size_t i = 0; i < bucket.size(); ++i)
            for (std::size_t j = i + 1; j < bucket.size(); ++j) {
                const PerceptualHash& first = set.items[bucket[i]].perceptual_hash;
                const PerceptualHash& second = set.items[bucket[j]].perceptual_hash;
                const int bits = distance(first, second);
                if (bits > near_duplicate_distance) continue;
                bool seen = false;
                for (std::size_t before = 0; before < b && !seen; ++before)
                    seen = band(first, before) == band(second, before);
                if (!seen) pairs.push_back({bucket[i], bucket[j], bits});
            }
    return pairs;
}

}  // namespace

Alike::Alike(std::size_t count) : first_(count) {
    std::iota(first_.begin(), first_.end(), std::size_t{0});
}

bool Alike::join(std::size_t a, std::size_t b) {
    a = first_of(a);
    b = first_of(b);
    first_[std::max(a, b)] = std::min(a, b);
    return a != b;
}

std::size_t Alike::first_of(std::size_t item) {
    while (first_[item] != item) item = first_[item] = first_[first_[item]];
    return item;
}

std::vector<std::size_t> Alike::all() {
    std::vector<std::size_t> result;
    for (std::size_t i = 0; i < first_.size(); ++i) result.push_back(first_of(i));
    return result;
}

PerceptualHash perceptual_hash_of(std::span<const std::uint8_t> grey) {
    assert(grey.size() == side * side);
    std::array<std::array<double, kept>, side> rows{};
    for (std::size_t y = 0; y < side; ++y)
        for (std::size_t f = 0; f < kept; ++f)
            for (std::size_t x = 0; x < side; ++x) rows[y][f] += cosines()[f][x] * grey[y * side + x];
    PerceptualHash perceptual_hash{};
    for (std::size_t v = 0; v < kept; ++v)
        for (std::size_t u = 0; u < kept; ++u) {
            if (u == 0 && v == 0) continue;  // the brightness alone
            double sum = 0.0;
            for (std::size_t y = 0; y < side; ++y) sum += cosines()[v][y] * rows[y][u];
            const std::size_t place = v * kept + u;
            // A coefficient of rounding errors alone is zero.
            if (sum > 1e-6) perceptual_hash[place / 64] |= std::uint64_t{1} << (place % 64);
        }
    return perceptual_hash;
}

int distance(const PerceptualHash& a, const PerceptualHash& b) {
    int bits = 0;
    for (std::size_t i = 0; i < a.size(); ++i) bits += std::popcount(a[i] ^ b[i]);
    return bits;
}

std::vector<std::vector<std::size_t>> exact_duplicates(const ImageSet& set) {
    std::unordered_map<ContentHash, std::vector<std::size_t>> by_content;
    for (std::size_t i = 0; i < set.items.size(); ++i) by_content[set.items[i].content].push_back(i);
    std::vector<std::vector<std::size_t>> groups;
    for (auto& [hash, members] : by_content)
        if (members.size() > 1) groups.push_back(std::move(members));
    std::sort(groups.begin(), groups.end());
    return groups;
}

std::vector<NearDuplicate> near_duplicates(const ImageSet& set) {
    Alike alike(set.items.size());
    for (const auto& group : exact_duplicates(set))
        for (const std::size_t item : group) alike.join(group[0], item);
    std::vector<NearDuplicate> pairs;
    const auto add = [&](const NearDuplicate& pair) {
        if (alike.join(pair.first, pair.second)) pairs.push_back(pair);
    };
    // Those with the very same bits first: what is left to compare are different ones.
    std::map<PerceptualHash, std::size_t> seen;
    std::vector<std::size_t> different;
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        const PerceptualHash& perceptual_hash = set.items[i].perceptual_hash;
        if (perceptual_hash == PerceptualHash{}) continue;  // an empty image is like every other one
        const auto [known, added] = seen.emplace(perceptual_hash, i);
        if (added)
            different.push_back(i);
        else
            add({known->second, i, 0});
    }
    std::array<std::vector<NearDuplicate>, bands> found;
    parallel_for(static_cast<std::int64_t>(bands), [&](std::int64_t b) {
        const auto place = static_cast<std::size_t>(b);
        found[place] = near_in_band(set, different, place);
    });
    for (const auto& in_band : found)
        for (const NearDuplicate& pair : in_band) add(pair);
    std::sort(pairs.begin(), pairs.end(), [](const NearDuplicate& a, const NearDuplicate& b) {
        return std::pair(a.first, a.second) < std::pair(b.first, b.second);
    });
    return pairs;
}

}  // namespace jevrin::inline v1
