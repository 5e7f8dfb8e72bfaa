// Image sets: labelled images as folders, an index or arrays, and everything that is wrong with them.
//
//     ImageSet set = read_image_set({.from = "glaze"});
//     for (const Item& item : set.items) ... set.classes[item.label] ...
//
// Files are listed first, without opening an image; then each is read once: its bytes are hashed, decoded
// and reduced to a perceptual hash. What cannot be read becomes a problem and costs nothing else.
#pragma once

#include "jevrin/base/hash.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/images/part.hpp"
#include "jevrin/images/perceptual_hash.hpp"

#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Where a set comes from.
struct ImageSource {
    // A folder with a folder per class, a folder with such folders per part, a CSV index, an array of images
    // (IDX or NPY, also in gzip), or an archive of arrays (NPZ). What it is is found from its content.
    std::filesystem::path from;
    // Of arrays: the file with the labels, integers or one-hot rows.
    std::filesystem::path labels = {};
    // Of arrays whose rows are flat: [height, width] or with channels, first or last.
    std::vector<std::int64_t> shape = {};
    // Of arrays that come divided: the images and labels of the other parts; those above are training.
    std::filesystem::path validation_from = {};
    std::filesystem::path validation_labels = {};
    std::filesystem::path test_from = {};
    std::filesystem::path test_labels = {};
    bool transposed = false;  // of arrays: rows and columns of each image exchanged
    // The classes in the order they shall have; empty: by name. Of arrays: the names of labels 0, 1, ...
    std::vector<std::string> classes = {};
    // Of an index: what its columns are called, by what they mean: path, label, part, weight, group.
    std::map<std::string, std::string> columns = {};
    // A pattern (RE2) over the path: what its first group captures names images of one object.
    std::string group_pattern = {};
    // A CSV of item, label (a class, or 'exclude') and note.
    std::filesystem::path corrections = {};
    // A folder of images without labels.
    std::filesystem::path unlabelled = {};
};

// One image with its label.
struct Item {
    std::string path;  // relative to the root of the set, with '/'; of arrays "FILE[INDEX]"
    std::size_t label = 0;
    std::string id;  // "PATH#HASH": stable while neither the file nor its place changes; empty until read
    ContentHash content;
    ImageFacts facts;
    PerceptualHash perceptual_hash;
    std::uint8_t brightest = 255;  // grey value, of the image at 32x32; of 16-bit grey in its full range
    std::optional<Part> part;      // where the source puts it
    std::string group;             // images of one object share a group; empty: a group of its own
    double weight = 1.0;           // of its loss in training
};

// A file that is not used, and why.
struct Problem {
    std::string file;
    std::string problem;
};

// The full list as CSV: file, problem.
void write_problems(const std::vector<Problem>& problems, const std::filesystem::path& file);

class ImageArrays;
struct Fitting;
struct FoundDuplicates;

struct ImageSet {
    ImageSource source;
    std::filesystem::path root;  // what paths are relative to
    std::vector<std::string> classes;
    std::vector<Item> items;         // folders: ordered by class, then path; otherwise as listed
    std::vector<Item> unlabelled;    // paths are relative to the root or absolute
    std::vector<Problem> problems;   // unreadable files, in the order of the items
    std::int64_t skipped = 0;        // hidden files, and files that do not claim to be images
    std::int64_t relabelled = 0;     // by corrections
    std::int64_t excluded = 0;       // by corrections
    std::vector<std::string> notes;  // what looks odd about the source, as text
    std::string fingerprint;         // of classes, items, labels, parts, groups and weights; empty until read
    mutable std::shared_ptr<const FoundDuplicates> alike;  // what near_duplicates() found
    std::shared_ptr<const ImageArrays> arrays;             // where images come from when they are no files
};

// Called now and then with the number of files done and the number of all; calls never overlap.
using ReadProgress = std::function<void(std::int64_t done, std::int64_t total)>;

// Finds the items without opening an image. InputError when the source is missing or holds no classes, a
// folder or the index cannot be read, two classes look the same (case, forms of Unicode), labels and images
// do not match.
ImageSet list_image_set(const ImageSource& source);

// What reading items may take from an earlier time, and leave for a later one.
class ContentCache;

// Reads every listed item, in parallel; applies the corrections; takes the fingerprint. InputError when a
// class has no readable image left or a correction names an unknown class.
void read_items(ImageSet& set, const ReadProgress& progress = {}, ContentCache* cache = nullptr);

// Both.
ImageSet read_image_set(const ImageSource& source, const ReadProgress& progress = {},
                        ContentCache* cache = nullptr);

// The file of an item that is a file.
std::filesystem::path item_file(const ImageSet& set, const Item& item);
// Reads one item's image again; InputError names the file, also when it changed since it was listed.
Image load_image(const ImageSet& set, const Item& item);
std::vector<std::uint8_t> load_fitted(const ImageSet& set, const Item& item, const Fitting& fitting);
// Any image file, for prediction; InputError names the file.
std::vector<std::uint8_t> load_fitted(const std::filesystem::path& file, const Fitting& fitting);
Image load_image(const std::filesystem::path& file);

// The number of items of each class.
std::vector<std::int64_t> class_counts(const ImageSet& set);

// All image files below a folder (or the one file), by name, hidden and foreign ones left out.
std::vector<std::filesystem::path> image_files(const std::filesystem::path& path);

}  // namespace jevrin::inline v1
