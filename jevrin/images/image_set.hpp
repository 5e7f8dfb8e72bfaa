// Image sets: labelled images as a folder per class.
//
//     ImageSet set = read_image_set("glaze");
//     for (const Item& item : set.items) ... set.classes[item.label] ...
#pragma once

#include "jevrin/images/image.hpp"

#include <cstdint>
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace jevrin {

// One image with its label.
struct Item {
    std::string path;  // relative to the root of the set, with '/'
    std::size_t label = 0;
    std::string id;  // "PATH#HASH": stable while neither the file nor its place changes
    std::int64_t width = 0;
    std::int64_t height = 0;
    ImageFormat format = ImageFormat::unknown;
};

// A file that is not used, and why.
struct Problem {
    std::string file;
    std::string problem;
};

struct ImageSet {
    std::filesystem::path root;
    std::vector<std::string> classes;  // ordered by name
    std::vector<Item> items;           // ordered by class, then path
    std::vector<Problem> problems;     // unreadable files, ordered by path
    std::int64_t skipped = 0;          // hidden files, and files that do not claim to be images
    std::string fingerprint;           // of classes, paths and contents
};

// Called now and then with the number of files done and the number of all.
using ReadProgress = std::function<void(std::int64_t done, std::int64_t total)>;

// Reads and decodes every file below ROOT/CLASS/. Files that cannot be decoded become problems. InputError
// when the root is missing or holds no class folders, a folder cannot be read, two classes differ only by
// case, or a class has no image.
ImageSet read_image_set(const std::filesystem::path& root, const ReadProgress& progress = {});

// Reads one item's picture again; InputError names the file.
Image load_image(const ImageSet& set, const Item& item);
// Any image file, for prediction; InputError names the file.
Image load_image(const std::filesystem::path& path);

// The number of items of each class.
std::vector<std::int64_t> class_counts(const ImageSet& set);

// Groups of items with identical content: their indices, groups of two or more.
std::vector<std::vector<std::size_t>> exact_duplicates(const ImageSet& set);

}  // namespace jevrin
