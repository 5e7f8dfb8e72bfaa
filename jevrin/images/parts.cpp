#include "jevrin/images/parts.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <optional>

namespace jevrin {
namespace {

// The items that stay together, by the index of the first of them.
using Units = std::map<std::size_t, std::vector<std::size_t>>;

// A place to put units: a part, or a fold. Shares or counts are per class.
struct Slot {
    Place place;
    double wanted = 0.0;
};

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
    return slot.place.fold > 0 ? fmt::format("fold {}", slot.place.fold) : part_name(slot.place.part);
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

// Puts units into slots, so that each class comes as near to its sizes as its units allow.
class Allotment {
  public:
    Allotment(const ImageSet& set, const PartsSettings& settings, std::vector<std::size_t> items, Units units)
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

    void keep_known(const KnownPlaces& known) {
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

    void allot() {
        struct Waiting {
            std::int64_t size = 0;
            std::uint64_t key = 0;
            const std::vector<std::size_t>* members = nullptr;
        };
        std::vector<Waiting> waiting;
        for (const auto& [first, members] : units_) {
            if (slot_of_[first] >= 0) continue;
            RandomStream stream({settings_.seed, Purpose::division, 0, content_number(set_.items[first].id)});
            waiting.push_back({static_cast<std::int64_t>(members.size()), stream.bits64(), &members});
        }
        // Large units first, while there is room to choose.
        std::sort(waiting.begin(), waiting.end(), [](const Waiting& a, const Waiting& b) {
            return std::pair(-a.size, a.key) < std::pair(-b.size, b.key);
        });
        for (const Waiting& unit : waiting) {
            const int slot =
                unit.size == 1 ? slot_for_item(unit.members->front()) : slot_for_unit(*unit.members);
            if (slot < 0) continue;  // shares that sum to less than 1 leave items out
            for (const std::size_t item : *unit.members) put(item, slot);
        }
    }

    // InputError when a slot has no item of a class.
    void require_all_classes() const {
        for (std::size_t s = 0; s < slots_.size(); ++s)
            for (std::size_t c = 0; c < set_.classes.size(); ++c) {
                const bool present = std::any_of(units_.begin(), units_.end(), [&](const auto& unit) {
                    return std::any_of(unit.second.begin(), unit.second.end(), [&](std::size_t item) {
                        return slot_of_[item] == static_cast<int>(s) && set_.items[item].label == c;
                    });
                });
                if (!present)
                    throw InputError(fmt::format(
                        "{}: {} has no image of class '{}': pictures that belong together (groups, near "
                        "duplicates) "
                        "leave too little to divide; use larger shares, other groups, or more images of the "
                        "class",
                        printable(set_.root.string()), slot_name(slots_[s]), printable(set_.classes[c])));
            }
    }

    // Nothing for an item that was left out.
    std::optional<Place> place_of(std::size_t item) const {
        return slot_of_[item] < 0 ? std::nullopt
                                  : std::optional(slots_[static_cast<std::size_t>(slot_of_[item])].place);
    }

  private:
    void require_enough(const std::vector<std::int64_t>& counts) const {
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
                    "{}: class '{}' has {} image{} and the plan divides into {} parts (equal and nearly "
                    "equal "
                    "pictures, and those of one group, count once); add images to the class or remove it",
                    printable(set_.root.string()), printable(set_.classes[c]), units[c],
                    units[c] == 1 ? "" : "s", slots_.size()));
    }

    std::vector<std::int64_t> sizes_of(std::int64_t count, std::size_t label) const {
        if (settings_.by != PartsBy::counts) return sizes_by_share(count, slots_);
        std::vector<std::int64_t> sizes;
        std::int64_t left = count;
        for (const Slot& slot : slots_) {
            sizes.push_back(static_cast<std::int64_t>(slot.wanted));
            left -= sizes.back();
        }
        if (settings_.training == 0) sizes[0] = left;
        if (left < 0 || sizes[0] < 1)
            throw InputError(
                fmt::format("{}: class '{}' has {} images, too few for the counts of the plan; lower "
                            "them or add images",
                            printable(set_.root.string()), printable(set_.classes[label]), count));
        return sizes;
    }

    int slot_at(Place place) const {
        for (std::size_t s = 0; s < slots_.size(); ++s)
            if (slots_[s].place.part == place.part && slots_[s].place.fold == place.fold)
                return static_cast<int>(s);
        return -1;
    }

    void put(std::size_t item, int slot) {
        slot_of_[item] = slot;
        --needs_[static_cast<std::size_t>(slot)][set_.items[item].label];
    }

    // The first slot that still needs the item's class.
    int slot_for_item(std::size_t item) const {
        const std::size_t label = set_.items[item].label;
        for (std::size_t s = 0; s < slots_.size(); ++s)
            if (needs_[s][label] > 0) return static_cast<int>(s);
        return -1;
    }

    // The slot that lacks the most of what the unit holds, as a share of its size.
    int slot_for_unit(const std::vector<std::size_t>& members) const {
        int best = -1;
        double most = 0.0;
        for (std::size_t s = 0; s < slots_.size(); ++s) {
            double lacking = 0.0;
            for (const std::size_t item : members) {
                const std::size_t label = set_.items[item].label;
                lacking +=
                    std::max(0.0, static_cast<double>(needs_[s][label]) /
                                      static_cast<double>(std::max<std::int64_t>(1, sizes_[s][label])));
            }
            if (lacking > most + 1e-12) {
                most = lacking;
                best = static_cast<int>(s);
            }
        }
        return best;
    }

    const ImageSet& set_;
    const PartsSettings& settings_;
    std::vector<Slot> slots_;
    Units units_;
    std::vector<int> slot_of_;                      // by item; -1: nowhere yet
    std::vector<std::vector<std::int64_t>> sizes_;  // [slot][class]
    std::vector<std::vector<std::int64_t>> needs_;  // the same, less what is there
};

Units units_among(const ImageSet& set, const std::vector<std::size_t>& items, bool near_duplicates_together) {
    const std::vector<std::size_t> first = find_units(set, near_duplicates_together);
    Units by_root;
    for (const std::size_t item : items) by_root[first[item]].push_back(item);
    Units units;
    for (auto& [root, members] : by_root) units.emplace(members.front(), std::move(members));
    return units;
}

std::string count_of(std::size_t count, const char* word) {
    return fmt::format("{} {}{}", count, word, count == 1 ? "" : "s");
}

void note_units(const ImageSet& set, const PartsSettings& settings, Parts& parts) {
    if (!settings.near_duplicates_together) return;
    const std::vector<NearDuplicate> pairs = near_duplicates(set);
    if (pairs.empty()) return;
    parts.notes.push_back(
        fmt::format("{} of nearly the same picture (at most {} of 256 bits apart) kept in one part, "
                    "such as {} and {}",
                    count_of(pairs.size(), "pair"), near_duplicate_distance,
                    printable(set.items[pairs[0].first].path), printable(set.items[pairs[0].second].path)));
}

// The user's own parts stand, whatever they hold; what leaks is said.
void note_leaks(const ImageSet& set, const std::vector<std::optional<Part>>& part_of, Parts& parts) {
    const std::vector<std::size_t> first = find_units(set, true);
    std::map<std::size_t, Part> seen;
    std::size_t leaks = 0;
    std::string example;
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        if (!part_of[i]) continue;
        const auto [known, added] = seen.emplace(first[i], *part_of[i]);
        if (added || known->second == *part_of[i]) continue;
        if (leaks++ == 0)
            example =
                fmt::format("{} ({}) and {} ({})", printable(set.items[first[i]].path),
                            part_name(known->second), printable(set.items[i].path), part_name(*part_of[i]));
    }
    if (leaks > 0)
        parts.notes.push_back(
            fmt::format("the given parts leak: {} stand{} in two parts (equal or nearly equal "
                        "pictures, or one group), such as {}",
                        count_of(leaks, "picture"), leaks == 1 ? "s" : "", example));
}

void require_given_classes(const ImageSet& set, const Parts& parts) {
    for (const Part part : all_parts) {
        const auto& items = parts.of(part);
        if (items.empty() && part == Part::test) continue;
        for (std::size_t c = 0; c < set.classes.size(); ++c)
            if (std::none_of(items.begin(), items.end(),
                             [&](std::size_t i) { return set.items[i].label == c; }))
                throw InputError(
                    fmt::format("{}: the given {} part has no image of class '{}'; add some, or divide by "
                                "shares",
                                printable(set.root.string()), part_name(part), printable(set.classes[c])));
    }
}

Parts given_parts(const ImageSet& set, const PartsSettings& settings, const KnownPlaces& known) {
    std::vector<std::optional<Part>> part_of;
    std::vector<std::size_t> training;
    bool has_validation = false;
    std::size_t without = 0;
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        part_of.push_back(set.items[i].part);
        if (!part_of[i]) ++without;
        has_validation = has_validation || part_of[i] == Part::validation;
        if (part_of[i] == Part::training) training.push_back(i);
    }
    const std::string root = printable(set.root.string());
    if (without == set.items.size())
        throw InputError(fmt::format("{}: its items have no parts; divide by shares instead", root));
    if (!has_validation && settings.validation <= 0)
        throw InputError(
            fmt::format("{}: it gives no validation part; take a share of training for it with parts = {{ "
                        "given = true, validation = 0.2 }}",
                        root));
    if (has_validation && settings.validation > 0)
        throw InputError(
            fmt::format("{}: it gives a validation part, and the plan takes a share of training for it; "
                        "leave out 'validation'",
                        root));
    if (!has_validation) {
        PartsSettings inner = settings;
        inner.by = PartsBy::shares;
        inner.training = 1.0 - settings.validation;
        inner.test = 0.0;
        Allotment allotment(set, inner, training,
                            units_among(set, training, settings.near_duplicates_together));
        allotment.keep_known(known);
        allotment.allot();
        for (const std::size_t item : training)
            if (const auto place = allotment.place_of(item)) part_of[item] = place->part;
    }
    Parts parts;
    for (std::size_t i = 0; i < set.items.size(); ++i)
        if (part_of[i])
            (*part_of[i] == Part::training     ? parts.training
             : *part_of[i] == Part::validation ? parts.validation
                                               : parts.test)
                .push_back(i);
    if (without > 0)
        parts.notes.push_back(fmt::format("{} without a part {} left out", count_of(without, "image"),
                                          without == 1 ? "is" : "are"));
    require_given_classes(set, parts);
    note_leaks(set, part_of, parts);
    return parts;
}

}  // namespace

std::string PartsSettings::key() const {
    switch (by) {
        case PartsBy::given:
            return fmt::format("given {} {} {}", validation, seed, near_duplicates_together);
        case PartsBy::folds:
            return fmt::format("{} folds {} {} {}", folds, test, seed, near_duplicates_together);
        case PartsBy::shares:
        case PartsBy::counts:
            break;
    }
    return fmt::format("{} {} {} {} {} {}", by == PartsBy::shares ? "shares" : "counts", training, validation,
                       test, seed, near_duplicates_together);
}

const std::vector<std::size_t>& Parts::of(Part part) const {
    return part == Part::training ? training : part == Part::validation ? validation : test;
}

std::vector<std::size_t> find_units(const ImageSet& set, bool near_duplicates_together) {
    Alike units(set.items.size());
    for (const auto& group : exact_duplicates(set))
        for (const std::size_t item : group) units.join(group[0], item);
    std::unordered_map<std::string, std::size_t> groups;
    for (std::size_t i = 0; i < set.items.size(); ++i)
        if (const std::string& group = set.items[i].group; !group.empty())
            units.join(groups.emplace(group, i).first->second, i);
    if (near_duplicates_together)
        for (const NearDuplicate& pair : near_duplicates(set)) units.join(pair.first, pair.second);
    return units.all();
}

Parts divide_into_parts(const ImageSet& set, const PartsSettings& settings, const KnownPlaces& known) {
    if (settings.by == PartsBy::given) return given_parts(set, settings, known);
    std::vector<std::size_t> items(set.items.size());
    std::iota(items.begin(), items.end(), std::size_t{0});
    Allotment allotment(set, settings, items, units_among(set, items, settings.near_duplicates_together));
    allotment.keep_known(known);
    allotment.allot();
    allotment.require_all_classes();
    Parts parts;
    if (settings.by == PartsBy::folds) parts.folds.assign(set.items.size(), 0);
    for (const std::size_t item : items) {
        const auto place = allotment.place_of(item);
        if (!place) continue;
        if (place->fold > 0) parts.folds[item] = place->fold;
        const bool validation =
            place->fold > 0 ? place->fold == settings.fold : place->part == Part::validation;
        (place->part == Part::test ? parts.test
         : validation              ? parts.validation
                                   : parts.training)
            .push_back(item);
    }
    note_units(set, settings, parts);
    return parts;
}

}  // namespace jevrin
