#include "jevrin/images/parts.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/allotment.hpp"
#include "jevrin/images/near_duplicates.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <numeric>
#include <optional>

namespace jevrin::inline v1 {
namespace {

// first: find_units().
Units units_among(const std::vector<std::size_t>& first, const std::vector<std::size_t>& items) {
    Units by_root;
    for (const std::size_t item : items) by_root[first[item]].push_back(item);
    Units units;
    for (auto& [root, members] : by_root) units.emplace(members.front(), std::move(members));
    return units;
}

void note_units(const ImageSet& set, const PartsSettings& settings, Parts& parts) {
    if (!settings.group_near_duplicates) return;
    const std::vector<NearDuplicate>& pairs = near_duplicates(set);
    if (pairs.empty()) return;
    parts.notes.push_back(fmt::format(
        "{} of near-duplicates (perceptual hashes at most {} of 256 bits apart) kept in the same part, "
        "such as {} and {}",
        plural(std::ssize(pairs), "pair"), near_duplicate_distance, printable(set.items[pairs[0].first].path),
        printable(set.items[pairs[0].second].path)));
}

// Given parts are not changed; leaks between them become a note.
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
            example = fmt::format("{} ({}) and {} ({})", printable(set.items[first[i]].path),
                                  name_of(known->second), printable(set.items[i].path), name_of(*part_of[i]));
    }
    if (leaks > 0)
        parts.notes.push_back(fmt::format(
            "the given parts leak: {} {} in two parts (identical images, near-duplicates "
            "or one group), such as {}; check the split, or let the plan make one",
            plural(static_cast<std::int64_t>(leaks), "image"), leaks == 1 ? "is" : "are", example));
}

void require_given_classes(const ImageSet& set, const Parts& parts) {
    for (const Part part : all_parts) {
        const auto& items = parts.of(part);
        if (items.empty() && part == Part::test) continue;
        for (std::size_t c = 0; c < set.classes.size(); ++c)
            if (std::none_of(items.begin(), items.end(),
                             [&](std::size_t i) { return set.items[i].label == c; }))
                throw InputError(
                    fmt::format("{}: the given {} part has no image of class '{}'; add some, or split by "
                                "fractions",
                                printable(set.root.string()), name_of(part), printable(set.classes[c])));
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
        throw InputError(fmt::format("{}: its items have no parts; split them by fractions instead", root));
    if (!has_validation && settings.validation <= 0)
        throw InputError(
            fmt::format("{}: it has no validation part; split one off the training part with parts = {{ "
                        "given = true, validation = 0.2 }}",
                        root));
    if (has_validation && settings.validation > 0)
        throw InputError(
            fmt::format("{}: it has a validation part, and the plan splits one off the training part; "
                        "leave out 'validation'",
                        root));
    std::vector<std::size_t> units = find_units(set, settings.group_near_duplicates);
    if (!has_validation) {
        PartsSettings inner = settings;
        inner.by = PartsBy::shares;
        inner.training = 1.0 - settings.validation;
        inner.test = 0.0;
        Allotment allotment(set, inner, training, units_among(units, training));
        allotment.keep_known(known);
        allotment.allot();
        for (const std::size_t item : training)
            if (const auto place = allotment.place_of(item)) part_of[item] = place->part;
    }
    Parts parts{.units = std::move(units)};
    for (std::size_t i = 0; i < set.items.size(); ++i)
        if (part_of[i])
            (*part_of[i] == Part::training     ? parts.training
             : *part_of[i] == Part::validation ? parts.validation
                                               : parts.test)
                .push_back(i);
    if (without > 0)
        parts.notes.push_back(fmt::format("{} without a part {} left out",
                                          plural(static_cast<std::int64_t>(without), "image"),
                                          without == 1 ? "is" : "are"));
    require_given_classes(set, parts);
    note_leaks(set, part_of, parts);
    return parts;
}

}  // namespace

std::string PartsSettings::key() const {
    switch (by) {
        case PartsBy::given:
            return fmt::format("given {} {} {}", validation, seed, group_near_duplicates);
        case PartsBy::folds:
            return fmt::format("{} folds {} {} {}", folds, test, seed, group_near_duplicates);
        case PartsBy::shares:
        case PartsBy::counts:
            break;
    }
    return fmt::format("{} {} {} {} {} {}", by == PartsBy::shares ? "shares" : "counts", training, validation,
                       test, seed, group_near_duplicates);
}

Parts Parts::with_fold(std::int64_t fold) const {
    Parts other{
        .training = {}, .validation = {}, .test = test, .folds = folds, .units = units, .notes = notes};
    for (std::size_t item = 0; item < folds.size(); ++item)
        if (folds[item] > 0) (folds[item] == fold ? other.validation : other.training).push_back(item);
    return other;
}

const std::vector<std::size_t>& Parts::of(Part part) const {
    return part == Part::training ? training : part == Part::validation ? validation : test;
}

std::vector<std::size_t> find_units(const ImageSet& set, bool group_near_duplicates) {
    Alike units(set.items.size());
    for (const auto& group : exact_duplicates(set))
        for (const std::size_t item : group) units.join(group[0], item);
    std::unordered_map<std::string, std::size_t> groups;
    for (std::size_t i = 0; i < set.items.size(); ++i)
        if (const std::string& group = set.items[i].group; !group.empty())
            units.join(groups.emplace(group, i).first->second, i);
    if (group_near_duplicates)
        for (const NearDuplicate& pair : near_duplicates(set)) units.join(pair.first, pair.second);
    return units.all();
}

Parts split_into_parts(const ImageSet& set, const PartsSettings& settings, const KnownPlaces& known) {
    if (settings.by == PartsBy::given) return given_parts(set, settings, known);
    std::vector<std::size_t> items(set.items.size());
    std::iota(items.begin(), items.end(), std::size_t{0});
    std::vector<std::size_t> units = find_units(set, settings.group_near_duplicates);
    Allotment allotment(set, settings, items, units_among(units, items));
    allotment.keep_known(known);
    allotment.allot();
    allotment.require_all_classes();
    Parts parts{.units = std::move(units)};
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

}  // namespace jevrin::inline v1
