// Statistics of an image set.
#pragma once

#include "jevrin/images/image_set.hpp"
#include "jevrin/images/name_groups.hpp"
#include "jevrin/images/near_duplicates.hpp"

#include <cstdint>
#include <map>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Items from the smallest to the largest by a measure.
struct Spread {
    double smallest = 0.0;
    double lower_quarter = 0.0;
    double median = 0.0;
    double upper_quarter = 0.0;
    double largest = 0.0;
};

struct Survey {
    std::vector<std::int64_t> counts;  // by class
    std::size_t commonest = 0;         // class
    std::size_t rarest = 0;            // class
    double majority_accuracy = 0.0;    // of always predicting the majority class
    double imbalance = 1.0;            // the commonest class has so many times the images of the rarest

    std::size_t smallest_item = 0;  // by area
    std::size_t largest_item = 0;
    Spread width;
    Spread height;
    Spread aspect;             // width / height
    std::int64_t upright = 0;  // aspect below 4:5
    std::int64_t wide = 0;     // aspect above 5:4
    std::map<ImageFormat, std::int64_t> formats;
    std::int64_t grey = 0;
    std::int64_t colour = 0;
    std::int64_t transparent = 0;  // with alpha, whatever their colours
    int brightest = 0;             // Item::brightest of all

    std::vector<std::vector<std::size_t>> duplicates;  // identical files
    std::vector<NearDuplicate> near_duplicates;
    // Pairs of items, identical or nearly so, under two labels.
    std::vector<NearDuplicate> label_conflicts;
    NameGroups name_groups;
};

int brightest_value(const ImageSet& set);
// What to say when that is below an eighth of the range, perhaps because 10 or 12 bits are stored as 16;
// empty otherwise.
std::string nearly_black_note(int brightest);

// Of a set that was read and has items.
Survey survey_images(const ImageSet& set);

}  // namespace jevrin::inline v1
