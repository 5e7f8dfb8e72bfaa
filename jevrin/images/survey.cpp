#include "jevrin/images/survey.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>

namespace jevrin::inline v1 {
namespace {

Spread spread_of(std::vector<double> values) {
    std::sort(values.begin(), values.end());
    const auto at = [&](double share) {
        return values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1) + 0.5)];
    };
    return {at(0.0), at(0.25), at(0.5), at(0.75), at(1.0)};
}

void survey_sizes(const ImageSet& set, Survey& survey) {
    std::vector<double> widths;
    std::vector<double> heights;
    std::vector<double> aspects;
    const auto area = [&](std::size_t i) { return set.items[i].facts.width * set.items[i].facts.height; };
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        const ImageFacts& facts = set.items[i].facts;
        widths.push_back(static_cast<double>(facts.width));
        heights.push_back(static_cast<double>(facts.height));
        aspects.push_back(widths.back() / heights.back());
        if (aspects.back() < 0.8) ++survey.upright;
        if (aspects.back() > 1.25) ++survey.wide;
        if (area(i) < area(survey.smallest_item)) survey.smallest_item = i;
        if (area(i) > area(survey.largest_item)) survey.largest_item = i;
        ++survey.formats[facts.format];
        const bool inks = facts.format == ImageFormat::jpeg && facts.channels == 4;
        ++(facts.channels <= 2 ? survey.grey : survey.colour);
        if (facts.channels % 2 == 0 && !inks) ++survey.transparent;
    }
    survey.width = spread_of(std::move(widths));
    survey.height = spread_of(std::move(heights));
    survey.aspect = spread_of(std::move(aspects));
}

}  // namespace

int brightest_value(const ImageSet& set) {
    int brightest = 0;
    for (const Item& item : set.items) brightest = std::max<int>(brightest, item.brightest);
    return brightest;
}

std::string nearly_black_note(int brightest) {
    if (brightest >= 32) return {};
    return fmt::format(
        "the images are nearly black: no value is above {} of 255. If they are 16-bit grey of "
        "fewer bits, set value_range = [0, 4095] (12 bits) under [images]",
        brightest);
}

Survey survey_images(const ImageSet& set) {
    assert(!set.items.empty());
    Survey survey;
    survey.counts = class_counts(set);
    const auto [rarest, commonest] = std::minmax_element(survey.counts.begin(), survey.counts.end());
    survey.rarest = static_cast<std::size_t>(rarest - survey.counts.begin());
    survey.commonest = static_cast<std::size_t>(commonest - survey.counts.begin());
    survey.majority_accuracy = static_cast<double>(*commonest) / static_cast<double>(set.items.size());
    survey.imbalance = static_cast<double>(*commonest) / static_cast<double>(*rarest);
    survey_sizes(set, survey);
    survey.brightest = brightest_value(set);
    survey.name_groups = find_name_groups(set);
    survey.duplicates = exact_duplicates(set);
    survey.near_duplicates = near_duplicates(set);
    Alike alike(set.items.size());
    for (const auto& group : survey.duplicates)
        for (const std::size_t item : group) alike.join(group[0], item);
    for (const NearDuplicate& pair : survey.near_duplicates) alike.join(pair.first, pair.second);
    const std::vector<std::size_t> first = alike.all();
    for (std::size_t i = 0; i < set.items.size(); ++i)
        if (set.items[i].label != set.items[first[i]].label)
            survey.label_conflicts.push_back(
                {first[i], i, distance(set.items[first[i]].perceptual_hash, set.items[i].perceptual_hash)});
    return survey;
}

}  // namespace jevrin::inline v1
