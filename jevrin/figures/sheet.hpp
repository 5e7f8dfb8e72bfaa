// Sheets: many labelled pictures on one page.
#pragma once

#include "jevrin/images/batches.hpp"
#include "jevrin/images/image_set.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin {

struct SheetRow {
    std::string label;  // stands above the row
    std::vector<Image> pictures;
};

// Rows of pictures, each shown whole on its own square, smaller and larger pictures at one scale per square.
void draw_sheet(const std::vector<SheetRow>& rows, const std::string& title,
                const std::filesystem::path& file);

// One row per class with a random sample of its pictures, drawn from the seed. Of more than 40 classes the
// first 40 are shown, and the last label says so.
std::vector<SheetRow> sample_rows(const ImageSet& set, std::size_t pictures_per_class, std::uint64_t seed);

// The same with each picture followed by what it is in the first epoch of that seed: fitted, augmented,
// mixed.
std::vector<SheetRow> sample_rows_before_and_after(const ImageSet& set, std::size_t pictures_per_class,
                                                   std::uint64_t seed, const Fitting& fitting,
                                                   const Augmentation& augmentation);

}  // namespace jevrin
