#include "jevrin/images/near_duplicates.hpp"

#include "jevrin/base/parallel.hpp"

#include <algorithm>
#include <cstdint>
#include <memory>
#include <numeric>
#include <optional>
#include <span>
#include <unordered_map>

namespace jevrin::inline v1 {

// Near-duplicates of the items whose contents have this hash.
struct FoundDuplicates {
    ContentHash of;
    std::vector<NearDuplicate> pairs;
};

namespace {

using Pairs = std::vector<NearDuplicate>;

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

// Hashes by their keys in one block. A group has one key and is joined already: between two groups one near
// pair is enough, so that a thousand shots of one scene cost no million comparisons.
class KeyedHashes {
  public:
    struct Group {
        std::size_t begin = 0;
        std::size_t end = 0;
        std::size_t root = 0;
    };

    // roots: what each hash is joined with, by its place.
    KeyedHashes(const std::vector<PerceptualHash>& hashes, const std::vector<std::size_t>& roots,
                const Blocks& blocks, std::size_t block) {
        const std::size_t count = hashes.size();
        const std::size_t keys = std::size_t{1} << blocks.width(block);
        std::vector<std::size_t> key(count);
        constexpr std::int64_t some = 1 << 12;
        const std::int64_t chunks = (static_cast<std::int64_t>(count) + some - 1) / some;
        parallel_for(chunks, [&](std::int64_t chunk) {
            const IndexRange range = chunk_range(static_cast<std::int64_t>(count), chunks, chunk);
            for (auto i = static_cast<std::size_t>(range.begin); i < static_cast<std::size_t>(range.end); ++i)
                key[i] = blocks.key(hashes[i], block);
        });
        places_.resize(count);
        std::iota(places_.begin(), places_.end(), std::size_t{0});
        places_ = ordered_by(key, ordered_by(roots, places_, count), keys);
        hashes_.reserve(count);
        first_group_.reserve(keys + 1);
        for (std::size_t at = 0; at < count; ++at) {
            const std::size_t place = places_[at];
            hashes_.push_back(hashes[place]);
            const bool other_key = first_group_.size() <= key[place];
            first_group_.resize(std::max(first_group_.size(), key[place] + 1), groups_.size());
            if (other_key || groups_.back().root != roots[place]) groups_.push_back({at, at, roots[place]});
            ++groups_.back().end;
        }
        first_group_.resize(keys + 1, groups_.size());
    }

    std::size_t keys() const { return first_group_.size() - 1; }
    std::span<const Group> groups(std::size_t key) const {
        return std::span(groups_).subspan(first_group_[key], first_group_[key + 1] - first_group_[key]);
    }
    // Of hashes by their places.
    std::optional<NearDuplicate> near_pair(const Group& a, const Group& b) const {
        for (std::size_t i = a.begin; i < a.end; ++i)
            for (std::size_t j = b.begin; j < b.end; ++j)
                if (const int apart = distance(hashes_[i], hashes_[j]); apart <= near_duplicate_distance)
                    return NearDuplicate{places_[i], places_[j], apart};
        return std::nullopt;
    }

  private:
    // Places ordered by their values, which are below `limit`; those of one value stay in their order.
    static std::vector<std::size_t> ordered_by(const std::vector<std::size_t>& values,
                                               const std::vector<std::size_t>& places, std::size_t limit) {
        std::vector<std::size_t> next(limit + 1, 0);
        for (const std::size_t value : values) ++next[value + 1];
        std::partial_sum(next.begin(), next.end(), next.begin());
        std::vector<std::size_t> result(places.size());
        for (const std::size_t place : places) result[next[values[place]]++] = place;
        return result;
    }

    std::vector<std::size_t> places_;     // ordered by key, then by root
    std::vector<PerceptualHash> hashes_;  // in that order: what is compared lies together
    std::vector<Group> groups_;
    std::vector<std::size_t> first_group_;  // of key k: [first_group[k], first_group[k + 1])
};

// All that search(key, pairs) finds.
template <typename Search>
Pairs search_keys(const KeyedHashes& hashes, const Search& search) {
    constexpr std::int64_t some = 1 << 8;
    const auto keys = static_cast<std::int64_t>(hashes.keys());
    const std::int64_t chunks = (keys + some - 1) / some;
    std::vector<Pairs> found(static_cast<std::size_t>(chunks));
    parallel_for(chunks, [&](std::int64_t chunk) {
        const IndexRange range = chunk_range(keys, chunks, chunk);
        for (std::int64_t key = range.begin; key < range.end; ++key)
            search(static_cast<std::size_t>(key), found[static_cast<std::size_t>(chunk)]);
    });
    Pairs pairs;
    for (const Pairs& of_chunk : found) pairs.insert(pairs.end(), of_chunk.begin(), of_chunk.end());
    return pairs;
}

Pairs pairs_within_keys(const KeyedHashes& hashes) {
    return search_keys(hashes, [&](std::size_t key, Pairs& pairs) {
        if (hashes.groups(key).size() < 2) return;
        using Joined = std::vector<KeyedHashes::Group>;
        std::vector<Joined> apart;
        for (const KeyedHashes::Group& group : hashes.groups(key)) {
            Joined joined = {group};
            std::erase_if(apart, [&](const Joined& others) {
                for (const KeyedHashes::Group& other : others)
                    if (const auto pair = hashes.near_pair(other, group)) {
                        pairs.push_back(*pair);
                        joined.insert(joined.end(), others.begin(), others.end());
                        return true;
                    }
                return false;
            });
            apart.push_back(std::move(joined));
        }
    });
}

// Of keys that differ in one bit.
Pairs pairs_across_keys(const KeyedHashes& hashes) {
    return search_keys(hashes, [&](std::size_t key, Pairs& pairs) {
        if (hashes.groups(key).empty()) return;
        for (std::size_t bit = 1; bit < hashes.keys(); bit <<= 1U) {
            if ((key & bit) != 0) continue;  // the other key meets this one
            for (const KeyedHashes::Group& a : hashes.groups(key))
                for (const KeyedHashes::Group& b : hashes.groups(key | bit))
                    if (a.root != b.root)
                        if (const auto pair = hashes.near_pair(a, b)) pairs.push_back(*pair);
        }
    });
}

// Pairs of these hashes, by their places, that connect all that are near.
Pairs connect_near(const std::vector<PerceptualHash>& hashes, const ReadProgress& progress) {
    Alike alike(hashes.size());
    Pairs pairs;
    const Blocks blocks = Blocks::for_items(hashes.size());
    const std::size_t searches = blocks.changed > 0 ? 2 : 1;
    for (std::size_t step = 0; step < blocks.count * searches; ++step) {
        const KeyedHashes keyed(hashes, alike.all(), blocks, step / searches);
        for (const NearDuplicate& pair :
             step % searches == 0 ? pairs_within_keys(keyed) : pairs_across_keys(keyed))
            if (alike.join(pair.first, pair.second)) pairs.push_back(pair);
        if (progress)
            progress(static_cast<std::int64_t>(step + 1), static_cast<std::int64_t>(blocks.count * searches));
    }
    return pairs;
}

Pairs find_near_duplicates(const ImageSet& set, const ReadProgress& progress) {
    Alike alike(set.items.size());
    for (const auto& group : exact_duplicates(set))
        for (const std::size_t item : group) alike.join(group[0], item);
    // Those with the very same bits first: what is left to compare are different ones.
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < set.items.size(); ++i)  // an empty image is like every other one
        if (set.items[i].perceptual_hash != PerceptualHash{}) order.push_back(i);
    const auto hash = [&](std::size_t i) -> const PerceptualHash& { return set.items[i].perceptual_hash; };
    std::ranges::stable_sort(order, [&](std::size_t a, std::size_t b) { return hash(a) < hash(b); });
    std::vector<std::size_t> different;
    Pairs pairs;
    for (const std::size_t item : order) {
        if (different.empty() || hash(item) != hash(different.back()))
            different.push_back(item);
        else if (alike.join(different.back(), item))
            pairs.push_back({different.back(), item, 0});
    }
    std::ranges::sort(different);
    std::vector<PerceptualHash> hashes;
    hashes.reserve(different.size());
    for (const std::size_t i : different) hashes.push_back(hash(i));
    for (const NearDuplicate& pair : connect_near(hashes, progress)) {
        const auto [first, second] = std::minmax(different[pair.first], different[pair.second]);
        pairs.push_back({first, second, pair.distance});
    }
    std::ranges::sort(pairs, {},
                      [](const NearDuplicate& pair) { return std::pair(pair.first, pair.second); });
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

std::vector<std::vector<std::size_t>> exact_duplicates(const ImageSet& set) {
    std::unordered_map<ContentHash, std::vector<std::size_t>> by_content;
    for (std::size_t i = 0; i < set.items.size(); ++i) by_content[set.items[i].content].push_back(i);
    std::vector<std::vector<std::size_t>> groups;
    for (auto& [hash, members] : by_content)
        if (members.size() > 1) groups.push_back(std::move(members));
    std::sort(groups.begin(), groups.end());
    return groups;
}

const std::vector<NearDuplicate>& near_duplicates(const ImageSet& set, const ReadProgress& progress) {
    // Of what the search depends on: a set whose items changed is searched again.
    ContentHasher hasher;
    for (const Item& item : set.items) {
        hasher.add(std::as_bytes(std::span(&item.content, 1)));
        hasher.add(std::as_bytes(std::span(item.perceptual_hash)));
    }
    const ContentHash key = hasher.hash();
    if (!set.alike || set.alike->of != key)
        set.alike = std::make_shared<const FoundDuplicates>(
            FoundDuplicates{key, find_near_duplicates(set, progress)});
    return set.alike->pairs;
}

}  // namespace jevrin::inline v1
