#include "jevrin/images/allotment.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

std::vector<Slot> slots_of(const PartsSettings& settings) {
    std::vector<Slot> slots;
    if (settings.by == PartsBy::folds) {
        const double share = (1.0 - settings.test) / static_cast<double>(settings.folds);
        for (std::int64_t fold = 1; fold <= settings.folds; ++fold)
            slots.push_back({{Part::training, fold}, share});
    } else {
        slots.push_back({{Part::training, 0}, settings.training});
        slots.push_back({{Part::validation, 0}, settings.validation});
    }
    if (settings.test > 0) slots.push_back({{Part::test, 0}, settings.test});
    return slots;
}

std::string slot_name(const Slot& slot) {
    return slot.place.fold > 0 ? fmt::format("fold {}", slot.place.fold) : name_of(slot.place.part);
}

// How many of count items each slot gets: floors, then the largest remainders, then at least one each.
std::vector<std::int64_t> sizes_by_share(std::int64_t count, const std::vector<Slot>& slots) {
    std::vector<std::int64_t> sizes;
    std::vector<double> remainders;
    double all = 0.0;
    for (const Slot& slot : slots) {
        const double exact = slot.wanted * static_cast<double>(count);
        sizes.push_back(static_cast<std::int64_t>(std::floor(exact + 1e-9)));
        remainders.push_back(exact - static_cast<double>(sizes.back()));
        all += slot.wanted;
    }
    const auto wanted = static_cast<std::int64_t>(std::llround(all * static_cast<double>(count)));
    for (auto given = std::accumulate(sizes.begin(), sizes.end(), std::int64_t{0}); given < wanted; ++given) {
        const auto largest = std::max_element(remainders.begin(), remainders.end()) - remainders.begin();
        ++sizes[static_cast<std::size_t>(largest)];
        remainders[static_cast<std::size_t>(largest)] = -1.0;
    }
    for (std::int64_t& size : sizes)
        if (size == 0) {
            --*std::max_element(sizes.begin(), sizes.end());
            size = 1;
        }
    return sizes;
}

}  // namespace

Allotment::Allotment(const ImageSet& set, const PartsSettings& settings,
                     const std::vector<std::size_t>& items, Units units)
    : set_(set),
      settings_(settings),
      slots_(slots_of(settings)),
      units_(std::move(units)),
      slot_of_(set.items.size(), -1) {
    std::vector<std::int64_t> counts(set.classes.size(), 0);
    for (const std::size_t item : items) ++counts[set.items[item].label];
    sizes_.assign(slots_.size(), std::vector<std::int64_t>(counts.size(), 0));
    require_enough(counts);
    for (std::size_t c = 0; c < counts.size(); ++c) {
        const std::vector<std::int64_t> sizes = sizes_of(counts[c], c);
        for (std::size_t s = 0; s < slots_.size(); ++s) sizes_[s][c] = sizes[s];
    }
    needs_ = sizes_;
}

void Allotment::keep_known(const KnownPlaces& known) {
    for (auto& [first, members] : units_) {
        std::optional<int> place;
        for (const std::size_t item : members) {
            const auto found = known.find(set_.items[item].content);
            if (found == known.end()) continue;
            const int slot = slot_at(found->second);
            if (slot < 0) continue;
            put(item, slot);
            if (!place) place = slot;
        }
        if (!place) continue;
        for (const std::size_t item : members)
            if (slot_of_[item] < 0) put(item, *place);
    }
}

void Allotment::allot() {
    struct Waiting {
        std::int64_t size = 0;
        std::uint64_t key = 0;
        const std::vector<std::size_t>* members = nullptr;
    };
    std::vector<Waiting> waiting;
    for (const auto& [first, members] : units_) {
        if (slot_of_[first] >= 0) continue;
        RandomStream stream({settings_.seed, Purpose::split, 0, content_number(set_.items[first].id)});
        waiting.push_back({static_cast<std::int64_t>(members.size()), stream.bits64(), &members});
    }
    // Large units first, while there is room to choose.
    std::sort(waiting.begin(), waiting.end(), [](const Waiting& a, const Waiting& b) {
        return std::pair(-a.size, a.key) < std::pair(-b.size, b.key);
    });
    for (const Waiting& unit : waiting) {
        const int slot = unit.size == 1 ? slot_for_item(unit.members->front()) : slot_for_unit(*unit.members);
        if (slot < 0) continue;  // shares that sum to less than 1 leave items out
        for (const std::size_t item : *unit.members) put(item, slot);
    }
}

void Allotment::require_all_classes() const {
    for (std::size_t s = 0; s < slots_.size(); ++s)
        for (std::size_t c = 0; c < set_.classes.size(); ++c)
            if (sizes_[s][c] - needs_[s][c] < 1)
                throw InputError(fmt::format(
                    "{}: {} has no image of class '{}': images that belong together (groups, near "
                    "duplicates) leave too "
                    "little to divide; use larger fractions, other groups, or add images of the class",
                    printable(set_.root.string()), slot_name(slots_[s]), printable(set_.classes[c])));
}

std::optional<Place> Allotment::place_of(std::size_t item) const {
    return slot_of_[item] < 0 ? std::nullopt
                              : std::optional(slots_[static_cast<std::size_t>(slot_of_[item])].place);
}

void Allotment::require_enough(const std::vector<std::int64_t>& counts) const {
    std::vector<std::int64_t> units(counts.size(), 0);
    for (const auto& [first, members] : units_) {
        std::vector<bool> seen(counts.size(), false);
        for (const std::size_t item : members) {
            const std::size_t label = set_.items[item].label;
            if (!seen[label]) ++units[label];
            seen[label] = true;
        }
    }
    for (std::size_t c = 0; c < counts.size(); ++c)
        if (units[c] < static_cast<std::int64_t>(slots_.size()))
            throw InputError(fmt::format(
                "{}: class '{}' has {} image{} and the plan splits them into {} parts (identical images, "
                "near-duplicates, "
                "equal "
                "images, and those of one group, count once); add images to the class or remove it",
                printable(set_.root.string()), printable(set_.classes[c]), units[c], units[c] == 1 ? "" : "s",
                slots_.size()));
}

std::vector<std::int64_t> Allotment::sizes_of(std::int64_t count, std::size_t label) const {
    if (settings_.by != PartsBy::counts) return sizes_by_share(count, slots_);
    std::vector<std::int64_t> sizes;
    std::int64_t left = count;
    for (const Slot& slot : slots_) {
        sizes.push_back(static_cast<std::int64_t>(slot.wanted));
        left -= sizes.back();
    }
    if (settings_.training == 0) sizes[0] = left;
    if (left < 0 || sizes[0] < 1)
        throw InputError(fmt::format(
            "{}: class '{}' has {}, too few for the counts of the plan; lower "
            "them or add images",
            printable(set_.root.string()), printable(set_.classes[label]), plural(count, "image")));
    return sizes;
}

int Allotment::slot_at(Place place) const {
    for (std::size_t s = 0; s < slots_.size(); ++s)
        if (slots_[s].place.part == place.part && slots_[s].place.fold == place.fold)
            return static_cast<int>(s);
    return -1;
}

void Allotment::put(std::size_t item, int slot) {
    slot_of_[item] = slot;
    --needs_[static_cast<std::size_t>(slot)][set_.items[item].label];
}

// The first slot that still needs the item's class.
int Allotment::slot_for_item(std::size_t item) const {
    const std::size_t label = set_.items[item].label;
    for (std::size_t s = 0; s < slots_.size(); ++s)
        if (needs_[s][label] > 0) return static_cast<int>(s);
    return -1;
}

// The slot that lacks the most of what the unit holds, as a fraction of its size.
int Allotment::slot_for_unit(const std::vector<std::size_t>& members) const {
    int best = -1;
    double most = 0.0;
    for (std::size_t s = 0; s < slots_.size(); ++s) {
        double lacking = 0.0;
        for (const std::size_t item : members) {
            const std::size_t label = set_.items[item].label;
            lacking += std::max(0.0, static_cast<double>(needs_[s][label]) /
                                         static_cast<double>(std::max<std::int64_t>(1, sizes_[s][label])));
        }
        if (lacking > most + 1e-12) {
            most = lacking;
            best = static_cast<int>(s);
        }
    }
    return best;
}

}  // namespace jevrin::inline v1
