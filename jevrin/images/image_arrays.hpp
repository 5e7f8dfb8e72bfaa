// The arrays of an image set, and which image of which of them an item is.
#pragma once

#include "jevrin/images/image_set.hpp"
#include "jevrin/images/number_array.hpp"

#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A file of images and one of their labels.
struct ArrayFiles {
    std::string name;  // of its items: "NAME[INDEX]"
    std::filesystem::path images;
    std::filesystem::path labels;
    std::optional<Part> part;
};
// What a source of arrays consists of: the files it names, or what the members of its archive are called.
std::vector<ArrayFiles> array_files(const ImageSource& source);

class ImageArrays {
  public:
    void add(const std::string& name, const std::filesystem::path& file,
             const std::vector<std::int64_t>& shape, bool transposed);
    // The array of an item by its path, and its place there. InputError when there is none.
    const ImageArray& of(const std::string& path) const;
    static std::int64_t index_of(const std::string& path);

    // Names and files, for a later time.
    const std::map<std::string, std::filesystem::path>& files() const { return files_; }

  private:
    std::map<std::string, ImageArray> arrays_;
    std::map<std::string, std::filesystem::path> files_;
};

}  // namespace jevrin::inline v1
