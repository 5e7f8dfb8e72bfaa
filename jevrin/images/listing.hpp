// The sources of list_image_set(): each fills classes, items, skipped and notes.
#pragma once

#include "jevrin/images/image_set.hpp"

namespace jevrin::inline v1 {

void list_folders(ImageSet& set, const ImageSource& source);
void list_index(ImageSet& set, const ImageSource& source);
void list_arrays(ImageSet& set, const ImageSource& source);

// The image files of one folder and the folders below it, by name; counts what is left out.
void collect_images(const std::filesystem::path& folder, std::vector<std::filesystem::path>& files,
                    std::int64_t& skipped);

// set.classes from the names that occur: in the order of the source, or by name. InputError when two names
// look the same or the source's order and the names differ; place names the source in messages.
void set_classes(ImageSet& set, std::vector<std::string> names, const ImageSource& source,
                 const std::string& place);

}  // namespace jevrin::inline v1
