#include "jevrin/images/perceptual_hash.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/images/image_set.hpp"

#include <algorithm>
#include <bit>
#include <cassert>
#include <cmath>
#include <memory>
#include <numbers>
#include <numeric>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t side = hash_image_side;
constexpr std::size_t kept = 16;  // frequencies in each direction

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

// The bits of a hash dealt out into blocks. Of two hashes at most near_duplicate_distance apart one block at
// least differs in no more than `changed` bits (pigeonhole principle), so that only hashes are compared that
// agree so far in a block. Few images are found quickly by small blocks that agree in full; many need larger
// ones, in which one bit may differ, or too many unlike ones would agree by chance.
struct Blocks {
    std::size_t count = 25;
    int changed = 0;

    // 24 / 25 = 0 and 24 / 13 = 1 differing bits at most in the best block.
    static Blocks for_items(std::size_t items) {
        constexpr std::size_t few = 30'000;
        return items <= few ? Blocks{25, 0} : Blocks{13, 1};
    }
    std::size_t width(std::size_t block) const { return (bits - block + count - 1) / count; }
    // Bits from everywhere in the spectrum, so that no block holds only what most images share.
    std::uint32_t key(const PerceptualHash& hash, std::size_t block) const {
        std::uint32_t key = 0;
        for (std::size_t place = block; place < bits; place += count)
            key = key << 1U | static_cast<std::uint32_t>(hash[place / 64] >> (place % 64) & 1U);
        return key;
    }

    static constexpr std::size_t bits = 256;
};

// Items by the key of a block: those of key k stand at [first[k], first[k + 1]).
struct BlockIndex {
    std::vector<std::uint32_t> first;
    std::vector<std::uint32_t> places;
};

BlockIndex index_of(const std::vector<std::uint32_t>& keys, std::size_t width) {
    BlockIndex index{std::vector<std::uint32_t>((std::size_t{1} << width) + 1, 0),
                     std::vector<std::uint32_t>(keys.size())};
    for (const std::uint32_t key : keys) ++index.first[key + 1];
    std::partial_sum(index.first.begin(), index.first.end(), index.first.begin());
    std::vector<std::uint32_t> next(index.first.begin(), index.first.end() - 1);
    for (std::size_t i = 0; i < keys.size(); ++i)
        index.places[next[keys[i]]++] = static_cast<std::uint32_t>(i);
    return index;
}

// Pairs of `hashes` by place, first < second, that this block finds and that are not joined yet.
std::vector<NearDuplicate> near_in_block(const std::vector<PerceptualHash>& hashes, const Blocks& blocks,
                                         std::size_t block, const std::vector<std::size_t>& joined) {
    std::vector<std::uint32_t> keys(hashes.size());
    constexpr std::int64_t some = 1 << 12;
    const std::int64_t chunks = (std::ssize(hashes) + some - 1) / some;
    const auto for_chunk = [&](std::int64_t chunk, const auto& visit) {
        for (std::int64_t i = chunk * some; i < std::min(std::ssize(hashes), (chunk + 1) * some); ++i)
            visit(static_cast<std::size_t>(i));
    };
    parallel_for(chunks, [&](std::int64_t chunk) {
        for_chunk(chunk, [&](std::size_t i) { keys[i] = blocks.key(hashes[i], block); });
    });
    const std::size_t width = blocks.width(block);
    const BlockIndex index = index_of(keys, width);
    std::vector<std::vector<NearDuplicate>> found(static_cast<std::size_t>(chunks));
    parallel_for(chunks, [&](std::int64_t chunk) {
        for_chunk(chunk, [&](std::size_t i) {
            const auto compare = [&](std::uint32_t key) {
                const auto begin = index.places.begin() + index.first[key];
                const auto end = index.places.begin() + index.first[key + 1];
                for (auto at = std::upper_bound(begin, end, static_cast<std::uint32_t>(i)); at != end; ++at) {
                    if (joined[*at] == joined[i]) continue;
                    const int apart = distance(hashes[i], hashes[*at]);
                    if (apart <= near_duplicate_distance)
                        found[static_cast<std::size_t>(chunk)].push_back({i, *at, apart});
                }
            };
            compare(keys[i]);
            for (std::size_t bit = 0; bit < width && blocks.changed > 0; ++bit)
                compare(keys[i] ^ (std::uint32_t{1} << bit));
        });
    });
    std::vector<NearDuplicate> pairs;
    for (const auto& of_chunk : found) pairs.insert(pairs.end(), of_chunk.begin(), of_chunk.end());
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

namespace {

std::vector<NearDuplicate> find_near_duplicates(const ImageSet& set) {
    Alike alike(set.items.size());
    for (const auto& group : exact_duplicates(set))
        for (const std::size_t item : group) alike.join(group[0], item);
    std::vector<NearDuplicate> pairs;
    const auto add = [&](const NearDuplicate& pair) {
        if (alike.join(pair.first, pair.second)) pairs.push_back(pair);
    };
    // Those with the very same bits first: what is left to compare are different ones.
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < set.items.size(); ++i)  // an empty image is like every other one
        if (set.items[i].perceptual_hash != PerceptualHash{}) order.push_back(i);
    const auto hash = [&](std::size_t i) -> const PerceptualHash& { return set.items[i].perceptual_hash; };
    std::ranges::stable_sort(order, [&](std::size_t a, std::size_t b) { return hash(a) < hash(b); });
    std::vector<std::size_t> different;
    for (std::size_t k = 0; k < order.size(); ++k) {
        if (k > 0 && hash(order[k]) == hash(different.back()))
            add({different.back(), order[k], 0});
        else
            different.push_back(order[k]);
    }
    std::ranges::sort(different);
    std::vector<PerceptualHash> hashes;
    for (const std::size_t i : different) hashes.push_back(hash(i));
    const Blocks blocks = Blocks::for_items(different.size());
    for (std::size_t block = 0; block < blocks.count; ++block) {
        std::vector<std::size_t> joined;
        for (const std::size_t i : different) joined.push_back(alike.first_of(i));
        for (const NearDuplicate& pair : near_in_block(hashes, blocks, block, joined))
            add({different[pair.first], different[pair.second], pair.distance});
    }
    std::sort(pairs.begin(), pairs.end(), [](const NearDuplicate& a, const NearDuplicate& b) {
        return std::pair(a.first, a.second) < std::pair(b.first, b.second);
    });
    return pairs;
}

}  // namespace

const std::vector<NearDuplicate>& near_duplicates(const ImageSet& set) {
    // Of what the search depends on: a set whose items changed is searched again.
    ContentHasher hasher;
    for (const Item& item : set.items) {
        hasher.add(std::as_bytes(std::span(&item.content, 1)));
        hasher.add(std::as_bytes(std::span(item.perceptual_hash)));
    }
    const ContentHash key = hasher.hash();
    if (!set.alike || set.alike->of != key)
        set.alike = std::make_shared<const FoundDuplicates>(FoundDuplicates{key, find_near_duplicates(set)});
    return set.alike->pairs;
}

}  // namespace jevrin::inline v1
