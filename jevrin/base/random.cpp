#include "jevrin/base/random.hpp"

#include <Random123/philox.h>

#include <algorithm>
#include <cmath>
#include <numbers>

namespace jevrin::inline v1 {

RandomStream::RandomStream(const RandomKey& key)
    // The purpose takes the upper half of one key word; seeds beyond 48 bits fold into the rest.
    : key_{static_cast<std::uint32_t>(key.seed),
           static_cast<std::uint32_t>(key.seed >> 32) ^ (static_cast<std::uint32_t>(key.purpose) << 16)},
      counter_{0, key.epoch, static_cast<std::uint32_t>(key.item),
               static_cast<std::uint32_t>(key.item >> 32)} {}

std::uint32_t RandomStream::bits() {
    if (used_ == 4) {
        const r123::Philox4x32::ctr_type counter{{counter_[0], counter_[1], counter_[2], counter_[3]}};
        const r123::Philox4x32::key_type key{{key_[0], key_[1]}};
        const auto block = r123::Philox4x32()(counter, key);
        for (std::size_t i = 0; i < 4; ++i) block_[i] = block[i];
        ++counter_[0];
        used_ = 0;
    }
    return block_[static_cast<std::size_t>(used_++)];
}

std::uint64_t RandomStream::bits64() {
    const std::uint64_t high = bits();
    return (high << 32) | bits();
}

double RandomStream::uniform() {
    return static_cast<double>(bits() >> 8) * 0x1.0p-24;
}

double RandomStream::uniform(double low, double high) {
    return low + (high - low) * uniform();
}

std::uint32_t RandomStream::below(std::uint32_t bound) {
    return static_cast<std::uint32_t>((static_cast<std::uint64_t>(bits()) * bound) >> 32);
}

double RandomStream::normal() {
    const double radius = std::sqrt(-2.0 * std::log(1.0 - uniform()));
    return radius * std::cos(2.0 * std::numbers::pi * uniform());
}

std::vector<std::int64_t> random_order(std::int64_t count, std::uint64_t seed, Purpose purpose,
                                       std::uint32_t epoch) {
    // Sorting by a random key for each item keeps the draw of one item independent of all others.
    std::vector<std::pair<std::uint64_t, std::int64_t>> keyed(static_cast<std::size_t>(count));
    for (std::int64_t i = 0; i < count; ++i) {
        RandomStream stream({seed, purpose, epoch, static_cast<std::uint64_t>(i)});
        keyed[static_cast<std::size_t>(i)] = {stream.bits64(), i};
    }
    std::sort(keyed.begin(), keyed.end());
    std::vector<std::int64_t> order(keyed.size());
    std::transform(keyed.begin(), keyed.end(), order.begin(), [](const auto& pair) { return pair.second; });
    return order;
}

}  // namespace jevrin::inline v1
