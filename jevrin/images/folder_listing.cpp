#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/listing.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

std::vector<fs::directory_entry> sorted_entries(const fs::path& directory) {
    std::error_code error;
    std::vector<fs::directory_entry> entries;
    fs::directory_iterator it(directory, error);
    for (; !error && it != fs::directory_iterator(); it.increment(error)) entries.push_back(*it);
    if (error)
        throw InputError(fmt::format("{}: cannot read this folder: {}; check who may read it",
                                     printable(directory.string()), error.message()));
    std::sort(entries.begin(), entries.end());
    return entries;
}

bool is_hidden(const fs::path& path) {
    return path.filename().string().starts_with('.');
}

bool claims_to_be_image(const fs::path& path) {
    const std::string extension = folded_case(path.extension().string());
    static const std::set<std::string> known = {".png",  ".jpg", ".jpeg", ".webp", ".tif",
                                                ".tiff", ".bmp", ".gif",  ".avif"};
    return known.contains(extension);
}

bool is_folder(const fs::directory_entry& entry) {
    std::error_code ignored;
    return entry.is_directory(ignored);
}

// What stands directly in a folder.
struct Contents {
    std::vector<fs::path> folders;
    std::int64_t images = 0;
    std::int64_t others = 0;
};

Contents look_into(const fs::path& folder) {
    Contents contents;
    for (const auto& entry : sorted_entries(folder)) {
        if (is_folder(entry) && !is_hidden(entry.path()))
            contents.folders.push_back(entry.path());
        else if (!is_hidden(entry.path()) && claims_to_be_image(entry.path()))
            ++contents.images;
        else
            ++contents.others;
    }
    return contents;
}

std::string name_of(const fs::path& folder) {
    return folder.filename().string();
}

std::string quoted(const std::vector<std::string>& names) {
    constexpr std::size_t shown = 4;
    std::string list;
    for (std::size_t i = 0; i < std::min(names.size(), shown); ++i)
        list += fmt::format("{}'{}'", i == 0 ? "" : ", ", printable(names[i]));
    return names.size() > shown ? list + ", ..." : list;
}

std::vector<std::string> names_of(const std::vector<fs::path>& folders) {
    std::vector<std::string> names;
    for (const fs::path& folder : folders) names.push_back(name_of(folder));
    return names;
}

[[noreturn]] void refuse_root(const fs::path& root, const Contents& contents) {
    const std::string name = printable(root.string());
    if (contents.folders.empty() && contents.images > 0)
        throw InputError(
            fmt::format("{}: it holds images but no class folders: one level too low; name {}, if "
                        "its folders are the classes",
                        name, printable(fs::absolute(root).lexically_normal().parent_path().string())));
    for (const fs::path& folder : contents.folders)
        if (const Contents below = look_into(folder); below.folders.size() >= 2)
            throw InputError(
                fmt::format("{}: it holds no class folders: one level too high; name {}, which holds "
                            "{}",
                            name, printable(folder.string()), quoted(names_of(below.folders))));
    throw InputError(
        fmt::format("{}: it holds {} class folder{}; at least 2 are needed, one folder per class", name,
                    contents.folders.size(), contents.folders.size() == 1 ? "" : "s"));
}

// Class folders that hold no images themselves and all the same folders look like a level too many.
void note_extra_level(ImageSet& set, const fs::path& root, const std::vector<fs::path>& folders) {
    std::vector<std::string> common;
    for (const fs::path& folder : folders) {
        const Contents contents = look_into(folder);
        const std::vector<std::string> names = names_of(contents.folders);
        if (contents.images > 0 || names.size() < 2 || (!common.empty() && names != common)) return;
        common = names;
    }
    set.notes.push_back(
        fmt::format("every class folder of {} holds the same folders {}: if those are the classes, "
                    "the root is one level too high",
                    printable(root.string()), quoted(common)));
}

struct PartFolder {
    fs::path folder;
    Part part = Part::training;
};

// Folders already split into parts; empty when these are class folders.
std::vector<PartFolder> part_folders(const fs::path& root, const std::vector<fs::path>& folders) {
    std::vector<PartFolder> parts;
    std::vector<std::string> others;
    for (const fs::path& folder : folders) {
        const auto part = part_from_name(name_of(folder));
        if (part && !look_into(folder).folders.empty())
            parts.push_back({folder, *part});
        else
            others.push_back(name_of(folder));
    }
    if (parts.size() < 2) return {};
    if (!others.empty())
        throw InputError(
            fmt::format("{}: it holds folders for parts ({}) and beside them {}; move those away",
                        printable(root.string()),
                        quoted({name_of(parts[0].folder), name_of(parts[1].folder)}), quoted(others)));
    return parts;
}

void list_classes(ImageSet& set, const std::vector<fs::path>& folders, std::optional<Part> part) {
    for (const fs::path& folder : folders) {
        const auto label = std::find(set.classes.begin(), set.classes.end(), name_of(folder));
        std::vector<fs::path> files;
        collect_images(folder, files, set.skipped);
        for (const fs::path& file : files) {
            Item item{.path = file.lexically_relative(set.root).generic_string(),
                      .label = static_cast<std::size_t>(label - set.classes.begin())};
            item.part = part;
            set.items.push_back(std::move(item));
        }
    }
}

}  // namespace

void collect_images(const fs::path& folder, std::vector<fs::path>& files, std::int64_t& skipped) {
    for (const auto& entry : sorted_entries(folder)) {
        std::error_code ignored;
        // Links to folders are not followed: they could form a loop.
        if (is_folder(entry) && !entry.is_symlink(ignored) && !is_hidden(entry.path()))
            collect_images(entry.path(), files, skipped);
        else if (!is_folder(entry) && !is_hidden(entry.path()) && claims_to_be_image(entry.path()))
            files.push_back(entry.path());
        else
            ++skipped;
    }
}

void list_folders(ImageSet& set, const ImageSource& source) {
    const fs::path& root = set.root;
    Contents contents = look_into(root);
    std::error_code ignored;
    std::erase_if(contents.folders, [&](const fs::path& folder) {
        return !source.unlabelled.empty() && fs::equivalent(folder, source.unlabelled, ignored);
    });
    set.skipped = contents.images + contents.others;
    const std::vector<PartFolder> parts = part_folders(root, contents.folders);
    if (parts.empty()) {
        if (contents.folders.size() < 2) refuse_root(root, contents);
        if (contents.images > 0)
            set.notes.push_back(
                fmt::format("{} of {} beside the class folders have no label; they are "
                            "skipped",
                            contents.images == 1 ? "an image" : fmt::format("{} images", contents.images),
                            printable(root.string())));
        set_classes(set, names_of(contents.folders), source, printable(root.string()));
        note_extra_level(set, root, contents.folders);
        list_classes(set, contents.folders, std::nullopt);
    } else {
        std::set<std::string> names;
        std::vector<std::vector<fs::path>> folders;
        for (const PartFolder& part : parts) {
            const Contents below = look_into(part.folder);
            set.skipped += below.images + below.others;
            folders.push_back(below.folders);
            for (const std::string& name : names_of(below.folders)) names.insert(name);
        }
        set_classes(set, {names.begin(), names.end()}, source, printable(root.string()));
        for (std::size_t p = 0; p < parts.size(); ++p) list_classes(set, folders[p], parts[p].part);
    }
    std::stable_sort(set.items.begin(), set.items.end(),
                     [](const Item& a, const Item& b) { return a.label < b.label; });
}

std::vector<fs::path> image_files(const fs::path& path) {
    std::error_code ignored;
    if (!fs::is_directory(path, ignored)) return {path};
    std::vector<fs::path> files;
    std::int64_t skipped = 0;
    collect_images(path, files, skipped);
    return files;
}

}  // namespace jevrin::inline v1
