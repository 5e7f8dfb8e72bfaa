#include "jevrin/images/composition.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <mutex>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

// A class as the name of a folder of its own: names from an index may hold anything.
std::string folder_name(const std::string& label) {
    std::string name = printable(label);
    std::replace(name.begin(), name.end(), '/', '_');
    if (name.starts_with('.')) name.front() = '_';
    return name;
}

// "blister/kiln 3/tile.jpg" of class blister becomes "kiln 3-tile".
std::string stem_of(const Item& item, const std::string& label) {
    std::string stem = item.path;
    if (stem.starts_with(label + "/")) stem = stem.substr(label.size() + 1);
    if (const std::size_t dot = stem.rfind('.'); dot != std::string::npos && dot > 0)
        stem = stem.substr(0, dot);
    std::replace(stem.begin(), stem.end(), '/', '-');
    return printable(stem);
}

void require_sound(const ImageSet& set, const Composition& composition) {
    const auto require_class = [&](const std::string& name, const char* what) {
        if (std::find(set.classes.begin(), set.classes.end(), name) == set.classes.end())
            throw InputError(fmt::format("an overlay's {} is '{}'{}, which is not a class of the image set",
                                         what, printable(name), did_you_mean(name, set.classes)));
    };
    for (const auto& classes : composition.onto)
        for (const std::string& name : classes) require_class(name, "'onto'");
    std::vector<std::string> folders = set.classes;
    for (const Overlay& overlay : composition.augmentation.overlays)
        if (!overlay.label.empty()) folders.push_back(overlay.label);
    std::sort(folders.begin(), folders.end());
    folders.erase(std::unique(folders.begin(), folders.end()), folders.end());
    for (std::size_t i = 0; i < folders.size(); ++i)
        for (std::size_t j = 0; j < i; ++j)
            if (folder_name(folders[i]) == folder_name(folders[j]))
                throw InputError(
                    fmt::format("the classes '{}' and '{}' would share the folder '{}'; rename one",
                                printable(folders[j]), printable(folders[i]), folder_name(folders[i])));
}

// What an item of a class may get, with the places of its overlays in the whole list.
struct ClassAugmentation {
    Augmentation augmentation;
    std::vector<std::size_t> overlays;
};

std::vector<ClassAugmentation> by_class(const ImageSet& set, const Composition& composition) {
    std::vector<ClassAugmentation> result;
    for (const std::string& name : set.classes) {
        ClassAugmentation own{composition.augmentation, {}};
        own.augmentation.overlays.clear();
        for (std::size_t o = 0; o < composition.augmentation.overlays.size(); ++o) {
            const auto& onto = o < composition.onto.size() ? composition.onto[o] : std::vector<std::string>();
            if (!onto.empty() && std::find(onto.begin(), onto.end(), name) == onto.end()) continue;
            own.augmentation.overlays.push_back(composition.augmentation.overlays[o]);
            own.overlays.push_back(o);
        }
        result.push_back(std::move(own));
    }
    return result;
}

struct Written {
    std::string row;
    bool relabelled = false;
};

}  // namespace

CompositionSummary compose(const ImageSet& set, const Composition& composition, const fs::path& directory,
                           const ReadProgress& progress) {
    require_sound(set, composition);
    std::error_code ignored;
    if (fs::exists(directory, ignored) && !fs::is_empty(directory, ignored))
        throw InputError(
            fmt::format("{}: it is not empty; name a new directory", printable(directory.string())));
    make_directory(directory);
    const std::vector<ClassAugmentation> augmentations = by_class(set, composition);
    const bool has_overlays = !composition.augmentation.overlays.empty();
    const std::int64_t first = composition.originals ? 0 : 1;
    const std::int64_t each = composition.copies + 1 - first;
    const auto total = static_cast<std::int64_t>(set.items.size());
    std::vector<Written> written(static_cast<std::size_t>(total * each));
    std::mutex mutex;
    std::int64_t done = 0;
    parallel_for(total, [&](std::int64_t i) {
        const Item& item = set.items[static_cast<std::size_t>(i)];
        const Image original = load_image(set, item);
        const std::string& own_label = set.classes[item.label];
        for (std::int64_t copy = first; copy <= composition.copies; ++copy) {
            Image image = original;
            std::string label = own_label;
            std::string laid_names;
            if (copy > 0) {
                const ClassAugmentation& own = augmentations[item.label];
                const AugmentationKey key{composition.seed, static_cast<std::uint32_t>(copy)};
                for (const std::size_t laid :
                     augment({image.pixels.data(), image.width, image.height, 3}, own.augmentation, key, i)) {
                    const Overlay& overlay = own.augmentation.overlays[laid];
                    if (!overlay.label.empty()) label = overlay.label;
                    if (!laid_names.empty()) laid_names += ' ';
                    laid_names += overlay.file.filename().string();
                }
            }
            const std::string path =
                fmt::format("{}/{}-{}-{}.{}", folder_name(label), stem_of(item, own_label), i, copy,
                            composition.jpeg ? "jpg" : "png");
            make_directory((directory / path).parent_path());
            write_file(directory / path, composition.jpeg ? encode_jpeg(image, 95) : encode_png(image));
            std::vector<std::string> cells = {path, label, item.group.empty() ? item.path : item.group};
            if (has_overlays) cells.push_back(laid_names);
            written[static_cast<std::size_t>(i * each + copy - first)] = {csv_row(cells), label != own_label};
        }
        const std::lock_guard lock(mutex);
        if (progress) progress(++done, total);
    });
    CompositionSummary summary{.written = std::ssize(written)};
    std::string index = has_overlays ? "path,label,group,overlays\n" : "path,label,group\n";
    for (const Written& one : written) {
        index += one.row;
        summary.relabelled += one.relabelled ? 1 : 0;
    }
    write_file(directory / "index.csv", index);
    return summary;
}

}  // namespace jevrin::inline v1
