#include "jevrin/images/image_set.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <mutex>

namespace jevrin {
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
    return extension == ".png" || extension == ".jpg" || extension == ".jpeg";
}

struct Candidate {
    fs::path file;
    std::size_t label;
};

void collect_files(const fs::path& directory, std::size_t label, std::vector<Candidate>& files,
                   std::int64_t& skipped) {
    for (const auto& entry : sorted_entries(directory)) {
        // Links to folders are not followed: they could form a loop.
        if (entry.is_directory() && !entry.is_symlink() && !is_hidden(entry.path()))
            collect_files(entry.path(), label, files, skipped);
        else if (entry.is_regular_file() && !is_hidden(entry.path()) && claims_to_be_image(entry.path()))
            files.push_back({entry.path(), label});
        else
            ++skipped;
    }
}

// Class folders, ordered by name.
std::vector<fs::path> class_folders(const fs::path& root, std::int64_t& skipped) {
    const std::string name = printable(root.string());
    if (!fs::exists(root)) throw InputError(fmt::format("{}: there is no such folder; check the path", name));
    if (!fs::is_directory(root))
        throw InputError(
            fmt::format("{}: this is a file; name the folder that holds a folder per class", name));
    std::vector<fs::path> folders;
    bool has_images = false;
    for (const auto& entry : sorted_entries(root)) {
        if (entry.is_directory() && !is_hidden(entry.path())) {
            folders.push_back(entry.path());
        } else {
            has_images = has_images || claims_to_be_image(entry.path());
            ++skipped;
        }
    }
    if (folders.empty() && has_images)
        throw InputError(
            fmt::format("{}: it holds images but no class folders; name the folder one level higher", name));
    if (folders.size() < 2)
        throw InputError(
            fmt::format("{}: it holds {} class folders; at least 2 are needed, one folder per class", name,
                        folders.size()));
    std::sort(folders.begin(), folders.end());
    std::map<std::string, std::string> seen;
    for (const fs::path& folder : folders) {
        const std::string label = folder.filename().string();
        const auto [other, added] = seen.emplace(folded_case(label), label);
        if (!added)
            throw InputError(
                fmt::format("{}: the classes '{}' and '{}' differ only by case; rename one or merge them",
                            name, printable(other->second), printable(label)));
    }
    return folders;
}

}  // namespace

ImageSet read_image_set(const fs::path& root, const ReadProgress& progress) {
    ImageSet set;
    set.root = root;
    std::vector<Candidate> files;
    for (const fs::path& folder : class_folders(root, set.skipped)) {
        collect_files(folder, set.classes.size(), files, set.skipped);
        set.classes.push_back(folder.filename().string());
    }
    std::vector<Item> items(files.size());
    std::vector<std::string> failures(files.size());
    std::mutex progress_mutex;
    std::int64_t done = 0;
    constexpr std::int64_t block = 16;
    const auto total = static_cast<std::int64_t>(files.size());
    parallel_for((total + block - 1) / block, [&](std::int64_t chunk) {
        const std::int64_t end = std::min(total, (chunk + 1) * block);
        for (std::int64_t i = chunk * block; i < end; ++i) {
            const Candidate& file = files[static_cast<std::size_t>(i)];
            Item& item = items[static_cast<std::size_t>(i)];
            item.path = file.file.lexically_relative(root).generic_string();
            item.label = file.label;
            try {
                const std::vector<std::byte> bytes = read_file(file.file);
                const Image image = decode_image(bytes);
                item.id = item.path + "#" + content_hash(bytes);
                item.width = image.width;
                item.height = image.height;
                item.format = image_format(bytes);
            } catch (const Error& error) {
                failures[static_cast<std::size_t>(i)] = error.what();
            }
        }
        const std::lock_guard lock(progress_mutex);
        done += end - chunk * block;
        if (progress) progress(done, total);
    });
    std::string identity;
    for (const std::string& name : set.classes) identity += name + '\0';
    for (std::size_t i = 0; i < items.size(); ++i) {
        if (!failures[i].empty()) {
            set.problems.push_back({items[i].path, failures[i]});
            continue;
        }
        identity += items[i].id + '\0' + std::to_string(items[i].label) + '\0';
        set.items.push_back(std::move(items[i]));
    }
    set.fingerprint = content_hash(identity);
    const std::vector<std::int64_t> counts = class_counts(set);
    for (std::size_t c = 0; c < counts.size(); ++c)
        if (counts[c] == 0)
            throw InputError(
                fmt::format("{}: class '{}' has no readable PNG or JPEG image; add some or remove the folder",
                            printable(root.string()), printable(set.classes[c])));
    return set;
}

Image load_image(const fs::path& path) {
    const std::vector<std::byte> bytes = read_file(path);
    try {
        return decode_image(bytes);
    } catch (const InputError& error) {
        throw InputError(
            fmt::format("{}: {}; give a PNG or JPEG image", printable(path.string()), error.what()));
    }
}

Image load_image(const ImageSet& set, const Item& item) {
    return load_image(set.root / item.path);
}

std::vector<std::int64_t> class_counts(const ImageSet& set) {
    std::vector<std::int64_t> counts(set.classes.size(), 0);
    for (const Item& item : set.items) ++counts[item.label];
    return counts;
}

std::vector<std::vector<std::size_t>> exact_duplicates(const ImageSet& set) {
    std::map<std::string, std::vector<std::size_t>> by_content;
    for (std::size_t i = 0; i < set.items.size(); ++i) {
        const std::string& id = set.items[i].id;
        by_content[id.substr(id.rfind('#'))].push_back(i);
    }
    std::vector<std::vector<std::size_t>> groups;
    for (auto& [hash, members] : by_content)
        if (members.size() > 1) groups.push_back(std::move(members));
    return groups;
}

}  // namespace jevrin
