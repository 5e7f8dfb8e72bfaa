// Sheets: many labelled images on one page.
#pragma once

#include "jevrin/images/augmentation.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"
#include "jevrin/results/shown_items.hpp"

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

struct SheetRow {
    std::string label;  // stands above the row
    std::vector<Image> images;
};

// Rows of images, each shown whole on its own square, smaller and larger images at one scale per square.
void draw_sheet(const std::vector<SheetRow>& rows, const std::string& title,
                const std::filesystem::path& file);

// One image with lines of text below it; the frame tells mistakes from what is correct.
struct CaptionedImage {
    Image image;
    std::vector<std::string> lines;  // at most 3, each cut to its width
    bool wrong = false;
};

inline constexpr std::size_t page_of_images = 64;
// Images in rows of eight, 64 on a page: the first page is the file, the others stand beside it as
// NAME-2.ENDING and so on. Each image is asked for when its page is drawn. Returns the files.
std::vector<std::filesystem::path> draw_pages(std::size_t count,
                                              const std::function<CaptionedImage(std::size_t)>& image,
                                              const std::string& title, const std::filesystem::path& file);

// Such pages of items of a study, read from where it found them; the first of them, at most so many.
std::vector<std::filesystem::path> draw_items(const StudyRecord& study, const std::vector<ShownItem>& items,
                                              std::size_t most, const std::string& title,
                                              const std::filesystem::path& file);

// One row per class with a random sample of its images, drawn from the seed. Of more than 40 classes the
// first 40 are shown, and the last label says so.
std::vector<SheetRow> sample_rows(const ImageSet& set, std::size_t images_per_class, std::uint64_t seed);

// The same with each image followed by what it is in the first epoch of that seed: fitted, augmented,
// mixed.
std::vector<SheetRow> sample_rows_before_and_after(const ImageSet& set, std::size_t images_per_class,
                                                   std::uint64_t seed, const Fitting& fitting,
                                                   const Augmentation& augmentation);

}  // namespace jevrin::inline v1
