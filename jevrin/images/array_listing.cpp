#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_arrays.hpp"
#include "jevrin/images/listing.hpp"
#include "jevrin/images/packed_arrays.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <numeric>
#include <set>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

// Words of a name, in lower case: "x_train" is x and train.
std::vector<std::string> words_of(const std::string& name) {
    std::vector<std::string> words(1);
    for (const char c : folded_case(name)) {
        const bool letter = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
        if (letter)
            words.back() += c;
        else if (!words.back().empty())
            words.emplace_back();
    }
    return words;
}

std::optional<Part> part_in(const std::string& name) {
    for (const std::string& word : words_of(name))
        if (const auto part = part_from_name(word)) return part;
    return std::nullopt;
}

bool is_list_of_labels(const ArrayLayout& layout) {
    return layout.shape.size() == 1 || (layout.shape.size() == 2 && layout.shape[1] == 1);
}

// The images and labels of an archive by part, from the names of its members.
std::vector<ArrayFiles> files_of_archive(const fs::path& archive) {
    const std::vector<ArchiveMember> members = list_archive(archive);
    std::vector<std::string> names;
    for (const ArchiveMember& member : members) names.push_back(member.name);
    const auto refuse = [&](const std::string& why) {
        throw InputError(fmt::format(
            "{}: {}; name the arrays with 'from' and 'labels', as in from = \"{}/{}\"; it holds {}",
            printable(archive.string()), why, printable(archive.filename().string()),
            printable(names.front()), printable(fmt::format("{}", fmt::join(names, ", ")))));
    };
    std::vector<ArrayFiles> files;
    for (const ArchiveMember& images : members) {
        if (images.layout.shape.size() < 2 || is_list_of_labels(images.layout)) continue;
        const std::optional<Part> part = part_in(images.name);
        std::vector<std::string> labels;
        for (const ArchiveMember& other : members)
            if (is_list_of_labels(other.layout) && part_in(other.name) == part &&
                other.layout.shape[0] == images.layout.shape[0])
                labels.push_back(other.name);
        if (labels.size() != 1)
            refuse(fmt::format("{} may be the labels of '{}'",
                               labels.empty() ? "no array" : plural(std::ssize(labels), "array"),
                               printable(images.name)));
        for (const ArrayFiles& known : files)
            if (known.part == part)
                refuse(fmt::format("'{}' and '{}' may both be images",
                                   printable(known.images.filename().string()), printable(images.name)));
        files.push_back({fmt::format("{}/{}", archive.filename().string(), images.name),
                         archive / images.name, archive / labels.front(), part});
    }
    if (files.empty()) refuse("it holds no array of images");
    return files;
}

void require_labels(const ArrayFiles& files, const char* key) {
    if (files.labels.empty())
        throw InputError(
            fmt::format("{}: it is an array of images; name the file of its labels with '{}' in the plan",
                        printable(files.images.string()), key));
}

}  // namespace

std::vector<ArrayFiles> array_files(const ImageSource& source) {
    const ArrayPlace place = find_array(source.from);
    const InputFile file(place.file);
    std::vector<std::byte> beginning(static_cast<std::size_t>(std::min<std::int64_t>(4, file.size())));
    file.read(0, beginning);
    const bool divided = !source.test_from.empty() || !source.validation_from.empty();
    if (is_archive(beginning) && place.member.empty()) {
        if (!divided && source.labels.empty()) return files_of_archive(place.file);
        throw InputError(
            fmt::format("{}: it is an archive of arrays; name the one that holds the images, as in from = "
                        "\"{}/images\", or "
                        "leave out the other files to have them found by their names",
                        printable(place.file.string()), printable(place.file.filename().string())));
    }
    std::vector<ArrayFiles> all = {
        {{}, source.from, source.labels, divided ? std::optional(Part::training) : std::nullopt}};
    require_labels(all[0], "labels");
    if (!source.validation_from.empty()) {
        all.push_back({{}, source.validation_from, source.validation_labels, Part::validation});
        require_labels(all.back(), "validation_labels");
    }
    if (!source.test_from.empty()) {
        all.push_back({{}, source.test_from, source.test_labels, Part::test});
        require_labels(all.back(), "test_labels");
    }
    // Names as short as they can be.
    std::set<std::string> short_names;
    for (ArrayFiles& one : all) {
        const ArrayPlace at = find_array(one.images);
        one.name = at.file.filename().string() + (at.member.empty() ? "" : "/" + at.member);
        short_names.insert(one.name);
    }
    if (short_names.size() < all.size())
        for (ArrayFiles& one : all) one.name = one.images.generic_string();
    return all;
}

void ImageArrays::add(const std::string& name, const fs::path& file, const std::vector<std::int64_t>& shape,
                      bool transposed) {
    arrays_.try_emplace(name, file, shape, transposed);
    files_[name] = file;
}

const ImageArray& ImageArrays::of(const std::string& path) const {
    const auto found = arrays_.find(path.substr(0, path.rfind('[')));
    if (found == arrays_.end()) throw InputError("its array is not part of the image set");
    return found->second;
}

std::int64_t ImageArrays::index_of(const std::string& path) {
    return std::stoll(path.substr(path.rfind('[') + 1));
}

void list_arrays(ImageSet& set, const ImageSource& source) {
    const std::vector<ArrayFiles> files = array_files(source);
    const fs::path place = find_array(source.from).file;
    set.root = place.has_parent_path() ? place.parent_path() : fs::path(".");
    const auto arrays = std::make_shared<ImageArrays>();
    std::vector<LabelArray> labels;
    for (const ArrayFiles& one : files) {
        arrays->add(one.name, one.images, source.shape, source.transposed);
        labels.push_back(read_labels(one.labels));
        const std::int64_t count = arrays->of(one.name + "[0]").count();
        if (std::ssize(labels.back().labels) != count)
            throw InputError(
                fmt::format("{} holds {} images and {} holds {} labels; they must match one to one",
                            printable(one.images.string()), count, printable(one.labels.string()),
                            labels.back().labels.size()));
    }
    // Names stand for the labels 0, 1, ...; without names each label that occurs is its own.
    std::vector<std::int64_t> values;
    if (!source.classes.empty()) {
        set.classes = source.classes;
        values.resize(source.classes.size());
        std::iota(values.begin(), values.end(), std::int64_t{0});
    } else {
        std::set<std::int64_t> occurring;
        for (const LabelArray& of_files : labels)
            occurring.insert(of_files.labels.begin(), of_files.labels.end());
        values.assign(occurring.begin(), occurring.end());
        for (const std::int64_t value : values) set.classes.push_back(fmt::format("{}", value));
    }
    for (std::size_t f = 0; f < files.size(); ++f) {
        const std::string labels_name = printable(files[f].labels.string());
        if (labels[f].columns > std::ssize(values) && !source.classes.empty())
            throw InputError(fmt::format("{}: its rows have {} columns and the plan names {} classes",
                                         labels_name, labels[f].columns, values.size()));
        for (std::size_t i = 0; i < labels[f].labels.size(); ++i) {
            const auto found = std::lower_bound(values.begin(), values.end(), labels[f].labels[i]);
            if (found == values.end() || *found != labels[f].labels[i])
                throw InputError(fmt::format("{}: label {} is {}; the plan names {} classes, 0 to {}",
                                             labels_name, i, labels[f].labels[i], values.size(),
                                             values.size() - 1));
            set.items.push_back({.path = fmt::format("{}[{}]", files[f].name, i),
                                 .label = static_cast<std::size_t>(found - values.begin()),
                                 .part = files[f].part});
        }
    }
    set.arrays = arrays;
}

}  // namespace jevrin::inline v1
