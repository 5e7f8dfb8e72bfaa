#include "jevrin/images/name_groups.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <array>
#include <cstddef>
#include <unordered_map>
#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t fewest_groups = 10;
constexpr std::int64_t groups_per_class = 3;  // with fewer, a beginning is likely to name the class
constexpr double largest_share = 0.1;         // of the images, in one group
constexpr double grouped_share = 0.5;         // of the images, in all groups of two or more
constexpr double spanning_share = 0.2;        // of the groups: above, numbers begin anew in each folder

// One, two or three words of the name before the rest of it; a number before a letter.
constexpr std::array<const char*, 4> beginnings = {
    "[^-_ ./]+)[-_ .]+[^/]+[.][^/.]+$", "[^-_ ./]+[-_ .]+[^-_ ./]+)[-_ .]+[^/]+[.][^/.]+$",
    "[^-_ ./]+[-_ .]+[^-_ ./]+[-_ .]+[^-_ ./]+)[-_ .]+[^/]+[.][^/.]+$", "[^/]*[0-9])[a-zA-Z][.][^/.]+$"};

struct Group {
    std::size_t first = 0;
    std::size_t second = 0;
    std::int64_t images = 0;
    bool spans_classes = false;
};

// Empty groups where the pattern matches nothing.
std::unordered_map<std::string, Group> groups_by(const ImageSet& set, const std::string& pattern) {
    RE2::Options options;
    options.set_encoding(RE2::Options::EncodingLatin1);  // paths need not be UTF-8
    const RE2 expression(pattern, options);
    std::unordered_map<std::string, Group> groups;
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        std::string name;
        if (!RE2::PartialMatch(set.items[i].path, expression, &name)) continue;
        Group& group = groups.try_emplace(std::move(name), Group{.first = i}).first->second;
        if (++group.images == 2) group.second = i;
        group.spans_classes |= set.items[i].label != set.items[group.first].label;
    }
    return groups;
}

NameGroups suspected(const ImageSet& set, const std::string& pattern,
                     const std::unordered_map<std::string, Group>& groups) {
    NameGroups found{.pattern = pattern};
    std::int64_t largest = 0;
    std::size_t first = set.items.size();
    for (const auto& [name, group] : groups) {
        largest = std::max(largest, group.images);
        if (group.images < 2) continue;
        ++found.groups;
        found.images += group.images;
        if (group.first >= first || group.spans_classes) continue;
        first = group.first;
        found.first = set.items[group.first].path;
        found.second = set.items[group.second].path;
    }
    const auto all = static_cast<double>(set.items.size());
    const bool many = found.groups >= std::max(fewest_groups, groups_per_class * std::ssize(set.classes));
    const bool small = static_cast<double>(largest) <= largest_share * all;
    return many && small && static_cast<double>(found.images) >= grouped_share * all ? found : NameGroups{};
}

}  // namespace

NameGroups find_name_groups(const ImageSet& set) {
    const bool has_groups =
        std::ranges::any_of(set.items, [](const Item& item) { return !item.group.empty(); });
    if (has_groups || set.arrays) return {};
    for (const char* beginning : beginnings) {
        std::string pattern = std::string("(") + beginning;
        auto groups = groups_by(set, pattern);
        const auto spanning =
            std::ranges::count_if(groups, [](const auto& named) { return named.second.spans_classes; });
        if (static_cast<double>(spanning) > spanning_share * static_cast<double>(groups.size())) {
            pattern = std::string("([^/]+/") + beginning;
            groups = groups_by(set, pattern);
        }
        if (NameGroups found = suspected(set, pattern, groups); !found.pattern.empty()) return found;
    }
    return {};
}

std::string name_groups_note(const NameGroups& found) {
    if (found.pattern.empty()) return {};
    return fmt::format(
        "by their names ({}, {}) {} images may show {} objects; if they do, set group_pattern = '{}' under "
        "[images], or images of one object are in training and in validation",
        printable(found.first), printable(found.second), found.images, found.groups, found.pattern);
}

}  // namespace jevrin::inline v1
