#include "jevrin/images/image_set.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_arrays.hpp"
#include "jevrin/images/listing.hpp"
#include "jevrin/images/number_array.hpp"
#include "jevrin/images/packed_arrays.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <map>
#include <utility>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

// What the first group of the pattern captures, or the whole match, becomes the group of an item that has
// none.
void set_groups(ImageSet& set, const std::string& pattern) {
    RE2::Options quiet;
    quiet.set_log_errors(false);
    quiet.set_encoding(RE2::Options::EncodingLatin1);  // paths need not be UTF-8
    const RE2 expression(pattern, quiet);
    if (!expression.ok())
        throw InputError(fmt::format("group_pattern '{}' is not a pattern: {}", printable(pattern),
                                     printable(expression.error())));
    const bool captures = expression.NumberOfCapturingGroups() > 0;
    std::int64_t without = 0;
    for (Item& item : set.items) {
        if (!item.group.empty()) continue;
        re2::StringPiece found[2];
        if (expression.Match(item.path, 0, item.path.size(), RE2::UNANCHORED, found, captures ? 2 : 1))
            item.group = found[captures ? 1 : 0].as_string();
        else
            ++without;
    }
    const auto all = static_cast<std::int64_t>(set.items.size());
    if (without == all)
        throw InputError(fmt::format("group_pattern '{}' matches no item; the first is '{}'",
                                     printable(pattern), printable(set.items.front().path)));
    if (without > 0)
        set.notes.push_back(
            fmt::format("group_pattern matches {} of {} items; each other item is a group "
                        "of its own",
                        all - without, all));
}

void list_unlabelled(ImageSet& set, const fs::path& folder) {
    if (!fs::is_directory(folder))
        throw InputError(fmt::format("{}: there is no such folder of unlabelled images; check the path",
                                     printable(folder.string())));
    std::vector<fs::path> files;
    collect_images(folder, files, set.skipped);
    for (const fs::path& file : files) {
        const fs::path relative = file.lexically_relative(set.root);
        const bool below = !relative.empty() && *relative.begin() != "..";
        set.unlabelled.push_back(
            {.path = (below ? relative : fs::absolute(file).lexically_normal()).generic_string()});
    }
}

void require_file(const fs::path& path) {
    std::error_code error;
    // Or an array inside an archive.
    if (!fs::exists(path, error) && !fs::is_regular_file(path.parent_path(), error))
        throw InputError(fmt::format("{}: there is no such {}; check the path", printable(path.string()),
                                     path.has_extension() ? "file" : "folder"));
}

// Settings of another kind of source would be silently ignored.
void refuse_settings_of_arrays(const ImageSource& source) {
    const std::pair<const char*, bool> stated[] = {
        {"labels", !source.labels.empty()},
        {"validation_from", !source.validation_from.empty()},
        {"validation_labels", !source.validation_labels.empty()},
        {"test_from", !source.test_from.empty()},
        {"test_labels", !source.test_labels.empty()},
        {"shape", !source.shape.empty()},
        {"transposed", source.transposed},
    };
    for (const auto& [key, is_stated] : stated)
        if (is_stated)
            throw InputError(fmt::format(
                "{}: '{}' applies to arrays only, and this is {}; for images with parts of their own use one "
                "folder per part (training, validation, test), or a CSV index with a column 'part'",
                printable(source.from.string()), key,
                fs::is_directory(source.from) ? "a folder of images" : "a CSV index"));
}

void refuse_columns(const ImageSource& source) {
    if (!source.columns.empty())
        throw InputError(fmt::format("{}: 'columns' applies to a CSV index only; remove it",
                                     printable(source.from.string())));
}

// An array or an index; InputError for other files.
bool holds_array(const fs::path& path) {
    const ArrayPlace place = find_array(path);
    if (!place.member.empty()) return true;
    const InputFile file(path);
    constexpr std::int64_t enough = 4096;
    std::vector<std::byte> beginning(static_cast<std::size_t>(std::min(enough, file.size())));
    file.read(0, beginning);
    if (is_number_array(beginning) || is_archive(beginning) || is_gzip(beginning)) return true;
    const std::string name = printable(path.string());
    if (image_format(beginning) != ImageFormat::unknown)
        throw InputError(
            fmt::format("{}: this is one image; name the folder that holds a folder per class", name));
    if (std::find(beginning.begin(), beginning.end(), std::byte{0}) != beginning.end())
        throw InputError(
            fmt::format("{}: this file is neither a CSV index nor an IDX or NPY array; extract it when it "
                        "is an archive",
                        name));
    return false;
}

}  // namespace

const EnumNames<Part>& names_of(Part) {
    static const EnumNames<Part> names(
        "part", {{Part::training, "training"}, {Part::validation, "validation"}, {Part::test, "test"}});
    return names;
}

std::optional<Part> part_from_name(const std::string& name) {
    const std::string word = folded_case(name);
    if (word == "training" || word == "train") return Part::training;
    if (word == "validation" || word == "valid" || word == "val") return Part::validation;
    if (word == "test" || word == "testing") return Part::test;
    return std::nullopt;
}

void set_classes(ImageSet& set, std::vector<std::string> names, const ImageSource& source,
                 const std::string& place) {
    std::sort(names.begin(), names.end());
    std::map<std::string, std::string> seen;
    for (const std::string& name : names) {
        const auto [other, added] = seen.emplace(folded_form(name), name);
        if (!added)
            throw InputError(
                fmt::format("{}: the classes '{}' and '{}' differ only by case or by their form in "
                            "Unicode; rename one or merge them",
                            place, printable(other->second), printable(name)));
    }
    for (const std::string& stated : source.classes)
        if (std::find(names.begin(), names.end(), stated) == names.end())
            throw InputError(fmt::format("{}: 'classes' names '{}'{}, which has no image", place,
                                         printable(stated), did_you_mean(stated, names)));
    if (!source.classes.empty())
        for (const std::string& name : names)
            if (std::find(source.classes.begin(), source.classes.end(), name) == source.classes.end())
                throw InputError(
                    fmt::format("{}: it holds the class '{}', which 'classes' does not name; add it "
                                "there or move its images away",
                                place, printable(name)));
    if (names.size() < 2)
        throw InputError(fmt::format("{}: it holds {} class{}; at least 2 are needed", place, names.size(),
                                     names.size() == 1 ? "" : "es"));
    set.classes = source.classes.empty() ? names : source.classes;
}

ImageSet list_image_set(const ImageSource& source) {
    require_file(source.from);
    ImageSet set;
    set.source = source;
    set.root = source.from;
    const bool folder = fs::is_directory(source.from);
    const bool array = !folder && holds_array(source.from);
    if (!array) refuse_settings_of_arrays(source);
    if (array || folder) refuse_columns(source);
    if (folder)
        list_folders(set, source);
    else if (array)
        list_arrays(set, source);
    else
        list_index(set, source);
    if (!source.unlabelled.empty()) list_unlabelled(set, source.unlabelled);
    if (!source.group_pattern.empty() && !set.items.empty()) set_groups(set, source.group_pattern);
    return set;
}

ImageSet read_image_set(const ImageSource& source, const ReadProgress& progress, ContentCache* cache) {
    ImageSet set = list_image_set(source);
    read_items(set, progress, cache);
    return set;
}

fs::path item_file(const ImageSet& set, const Item& item) {
    return set.root / item.path;  // an absolute path stands for itself
}

namespace {

// Runs work(bytes) on a file and gives its errors the file's name.
template <typename Work>
auto with_file(const fs::path& file, Work work) -> decltype(work(std::span<const std::byte>())) {
    const std::vector<std::byte> bytes = read_file(file, largest_image_file);
    try {
        return work(std::span<const std::byte>(bytes));
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", printable(file.string()), error.what()));
    }
}

void require_unchanged(const Item& item, std::span<const std::byte> bytes) {
    if (!item.id.empty() && hash_of(bytes) != item.content)
        throw InputError("it changed since the image set was read; run the command again, or restore it");
}

Image array_image(const ImageSet& set, const Item& item, const ValueRange& range = {}) {
    try {
        const ImageArray& array = set.arrays->of(item.path);
        Image image = array.image(ImageArrays::index_of(item.path));
        require_unchanged(item, std::as_bytes(std::span(image.pixels)));
        const bool as_it_is = !array.is_wide() || range == ValueRange{};
        return as_it_is ? image : array.image(ImageArrays::index_of(item.path), range);
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", printable(item.path), error.what()));
    }
}

}  // namespace

Image load_image(const ImageSet& set, const Item& item) {
    if (set.arrays) return array_image(set, item);
    return with_file(item_file(set, item), [&](std::span<const std::byte> bytes) {
        require_unchanged(item, bytes);
        return decode_image(bytes);
    });
}

std::vector<std::uint8_t> load_fitted(const ImageSet& set, const Item& item, const Fitting& fitting) {
    if (set.arrays) return fit_image(array_image(set, item, fitting.value_range), fitting);
    return with_file(item_file(set, item), [&](std::span<const std::byte> bytes) {
        require_unchanged(item, bytes);
        return fit_image(bytes, fitting);
    });
}

std::vector<std::uint8_t> load_fitted(const fs::path& file, const Fitting& fitting) {
    return with_file(file, [&](std::span<const std::byte> bytes) { return fit_image(bytes, fitting); });
}

Image load_image(const fs::path& file) {
    return with_file(file, [&](std::span<const std::byte> bytes) { return decode_image(bytes); });
}

std::vector<std::int64_t> class_counts(const ImageSet& set) {
    std::vector<std::int64_t> counts(set.classes.size(), 0);
    for (const Item& item : set.items) ++counts[item.label];
    return counts;
}

}  // namespace jevrin::inline v1
