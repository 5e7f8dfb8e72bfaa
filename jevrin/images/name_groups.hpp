// Images that may show one object, as their names say: 'bolt009-0.png' and 'bolt009-1.png'.
#pragma once

#include "jevrin/images/image_set.hpp"

#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

struct NameGroups {
    std::string pattern;      // for ImageSource::group_pattern; empty: the names say nothing
    std::int64_t groups = 0;  // of two images or more
    std::int64_t images = 0;  // in these groups
    std::string first;        // of one group: two paths
    std::string second;
};

// Of a set of files without groups. Names are cut at their separators, from the left: the shortest beginning
// that says more than the class does. Half of the images must share it with another one, and no group may be
// larger than a tenth of the set.
NameGroups find_name_groups(const ImageSet& set);
// What to say of them; empty when there are none.
std::string name_groups_note(const NameGroups& found);

}  // namespace jevrin::inline v1
