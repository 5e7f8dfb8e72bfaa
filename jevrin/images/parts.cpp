#include "jevrin/images/parts.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

namespace jevrin {
namespace {

// How many of count items each part gets: floors, then the largest remainders, then at least one for each
// share.
std::array<std::int64_t, 3> part_sizes(std::int64_t count, const std::array<double, 3>& shares) {
    std::array<std::int64_t, 3> sizes{};
    std::array<double, 3> remainders{};
    const double all = shares[0] + shares[1] + shares[2];
    const auto wanted = static_cast<std::int64_t>(std::llround(all * static_cast<double>(count)));
    std::int64_t given = 0;
    for (std::size_t p = 0; p < 3; ++p) {
        const double exact = shares[p] * static_cast<double>(count);
        sizes[p] = static_cast<std::int64_t>(std::floor(exact + 1e-9));
        remainders[p] = exact - static_cast<double>(sizes[p]);
        given += sizes[p];
    }
    for (; given < wanted; ++given) {
        const auto p = static_cast<std::size_t>(std::max_element(remainders.begin(), remainders.end()) -
                                                remainders.begin());
        ++sizes[p];
        remainders[p] = -1.0;
    }
    for (std::size_t p = 0; p < 3; ++p)
        if (shares[p] > 0 && sizes[p] == 0) {
            --*std::max_element(sizes.begin(), sizes.end());
            sizes[p] = 1;
        }
    return sizes;
}

}  // namespace

std::string part_name(Part part) {
    switch (part) {
        case Part::training:
            return "training";
        case Part::validation:
            return "validation";
        case Part::test:
            return "test";
    }
    return "";
}

const std::vector<std::size_t>& Parts::of(Part part) const {
    return part == Part::training ? training : part == Part::validation ? validation : test;
}

Parts divide_into_parts(const ImageSet& set, const PartShares& shares, std::uint64_t seed) {
    const std::array<double, 3> share = {shares.training, shares.validation, shares.test};
    const auto parts_wanted = std::count_if(share.begin(), share.end(), [](double s) { return s > 0; });
    std::map<std::size_t, std::vector<std::size_t>>
        copies;  // of the first item of each group of identical pictures
    std::vector<bool> is_copy(set.items.size(), false);
    for (const auto& group : exact_duplicates(set))
        for (std::size_t i = 1; i < group.size(); ++i) {
            copies[group[0]].push_back(group[i]);
            is_copy[group[i]] = true;
        }
    Parts parts;
    std::vector<std::size_t>* const targets[] = {&parts.training, &parts.validation, &parts.test};
    for (std::size_t label = 0; label < set.classes.size(); ++label) {
        std::vector<std::pair<std::uint64_t, std::size_t>> keyed;
        for (std::size_t i = 0; i < set.items.size(); ++i)
            if (set.items[i].label == label && !is_copy[i]) {
                RandomStream stream({seed, Purpose::division, 0, content_number(set.items[i].id)});
                keyed.emplace_back(stream.bits64(), i);
            }
        if (static_cast<std::int64_t>(keyed.size()) < parts_wanted)
            throw InputError(
                fmt::format("{}: class '{}' has {} different image{} and the plan divides into {} parts; add "
                            "images to the class or remove it",
                            printable(set.root.string()), printable(set.classes[label]), keyed.size(),
                            keyed.size() == 1 ? "" : "s", parts_wanted));
        std::sort(keyed.begin(), keyed.end());
        const auto sizes = part_sizes(static_cast<std::int64_t>(keyed.size()), share);
        std::size_t next = 0;
        for (std::size_t p = 0; p < 3; ++p)
            for (std::int64_t k = 0; k < sizes[p]; ++k) {
                const std::size_t item = keyed[next++].second;
                targets[p]->push_back(item);
                for (const std::size_t copy : copies[item]) targets[p]->push_back(copy);
            }
    }
    for (auto* part : targets) std::sort(part->begin(), part->end());
    return parts;
}

}  // namespace jevrin
