#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/content_cache.hpp"
#include "jevrin/images/image_arrays.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <mutex>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

// The input of every perceptual hash, whatever the plan says of size and fit.
Fitting hash_image_fitting() {
    return {.size = hash_image_side, .fit = Fit::stretch, .channels = 1};
}

void look_at(const std::vector<std::uint8_t>& grey, FileContent& content) {
    content.perceptual_hash = perceptual_hash_of(grey);
    content.brightest = *std::max_element(grey.begin(), grey.end());
}

FileContent read_content(const fs::path& file) {
    FileContent content;
    const std::vector<std::byte> bytes = read_file(file, largest_image_file);
    content.hash = hash_of(bytes);
    try {
        content.facts = read_facts(bytes);
        look_at(fit_image(bytes, hash_image_fitting()), content);
    } catch (const InputError& error) {
        content.problem = error.what();
    }
    return content;
}

FileContent content_of(const fs::path& file, ContentCache* cache) {
    const std::string path = cache != nullptr ? fs::absolute(file).lexically_normal().string() : "";
    const auto before = state_of(file);
    if (cache != nullptr && before)
        if (auto known = cache->find(path, *before)) return *known;
    try {
        FileContent content = read_content(file);
        if (cache != nullptr && before && state_of(file) == before) cache->put(path, *before, content);
        return content;
    } catch (const InputError& error) {  // it cannot be read at all: nothing to keep
        FileContent content;
        content.problem = error.reason();
        return content;
    }
}

FileContent content_of_element(const ImageArrays& arrays, const std::string& path) {
    const ImageArray& array = arrays.of(path);
    FileContent content;
    content.facts = {.format = ImageFormat::values,
                     .width = array.width(),
                     .height = array.height(),
                     .channels = array.channels()};
    try {
        const Image image = array.image(ImageArrays::index_of(path));
        content.hash = hash_of(std::as_bytes(std::span(image.pixels)));
        look_at(fit_image(image, hash_image_fitting()), content);
    } catch (const InputError& error) {
        content.problem = error.what();
    }
    return content;
}

void set_content(Item& item, const FileContent& content) {
    item.id = item.path + "#" + content.hash.text();
    item.content = content.hash;
    item.facts = content.facts;
    item.perceptual_hash = content.perceptual_hash;
    item.brightest = content.brightest;
}

// Items whose problem is not empty move to the problems.
void keep_readable(std::vector<Item>& items, const std::vector<std::string>& problems, ImageSet& set) {
    std::vector<Item> kept;
    kept.reserve(items.size());
    for (std::size_t i = 0; i < items.size(); ++i) {
        if (problems[i].empty())
            kept.push_back(std::move(items[i]));
        else
            set.problems.push_back({std::move(items[i].path), problems[i]});
    }
    items = std::move(kept);
}

struct Correction {
    std::string item;
    std::string label;
    std::string place;
};

std::vector<Correction> read_corrections(const fs::path& file) {
    const std::string text = read_text(file, largest_table_file);
    const CsvReader csv(text, printable(file.string()));
    const std::size_t item = csv.require("item");
    const std::size_t label = csv.require("label");
    std::vector<Correction> corrections;
    csv.for_each([&](const CsvRow& row) {
        corrections.push_back({row.cells[item], row.cells[label], csv.place(row.line)});
    });
    return corrections;
}

// An item by its id, or by its path alone.
class ItemFinder {
  public:
    explicit ItemFinder(const ImageSet& set) {
        for (const auto* items : {&set.items, &set.unlabelled})
            for (const Item& item : *items) {
                by_name_.emplace(item.id, item.id);
                by_name_.emplace(item.path, item.id);
            }
    }
    // Its id, or an empty text.
    std::string find(const std::string& name) const {
        const auto found = by_name_.find(name);
        return found == by_name_.end() ? "" : found->second;
    }

  private:
    std::unordered_map<std::string, std::string> by_name_;
};

void apply_corrections(ImageSet& set, const fs::path& file) {
    constexpr std::string_view exclude = "exclude";
    const ItemFinder finder(set);
    std::unordered_map<std::string, const Correction*> by_item;
    const std::vector<Correction> corrections = read_corrections(file);
    std::vector<std::string> without_item;
    for (const Correction& correction : corrections) {
        const bool known_class =
            std::find(set.classes.begin(), set.classes.end(), correction.label) != set.classes.end();
        if (!known_class && correction.label != exclude)
            throw InputError(fmt::format(
                "{}: the label '{}' is not a class{}; name a class of the image set, or "
                "'exclude'",
                correction.place, printable(correction.label), did_you_mean(correction.label, set.classes)));
        const std::string id = finder.find(correction.item);
        if (id.empty()) {
            without_item.push_back(correction.item);
            continue;
        }
        const auto [other, added] = by_item.emplace(id, &correction);
        if (!added && other->second->label != correction.label)
            throw InputError(fmt::format("{}: '{}' has another correction at {}; keep one of them",
                                         correction.place, printable(correction.item), other->second->place));
    }
    if (!without_item.empty())
        set.notes.push_back(fmt::format("{} correction{} name{} no item that is there now, the first '{}'",
                                        without_item.size(), without_item.size() == 1 ? "" : "s",
                                        without_item.size() == 1 ? "s" : "",
                                        printable(without_item.front())));
    const auto correct = [&](std::vector<Item>& items, bool labelled) {
        std::vector<Item> others;
        for (Item& item : items) {
            const auto found = by_item.find(item.id);
            if (found == by_item.end()) {
                others.push_back(std::move(item));
                continue;
            }
            const std::string& label = found->second->label;
            if (label == exclude) {
                ++set.excluded;
                continue;
            }
            const auto place = std::find(set.classes.begin(), set.classes.end(), label);
            const auto number = static_cast<std::size_t>(place - set.classes.begin());
            if (!labelled || item.label != number) ++set.relabelled;
            item.label = number;
            (labelled ? others : set.items).push_back(std::move(item));
        }
        items = std::move(others);
    };
    correct(set.items, true);
    correct(set.unlabelled, false);
}

std::string fingerprint_of(const ImageSet& set) {
    ContentHasher hasher;
    const auto add = [&](const std::string& text) { hasher.add(std::as_bytes(std::span(text))); };
    for (const std::string& name : set.classes) add(name + '\0');
    for (const Item& item : set.items) {
        add(item.id + '\0' + std::to_string(item.label) + '\0');
        if (item.part || !item.group.empty() || item.weight != 1.0)
            add(fmt::format("{}|{}|{}|", item.part ? name_of(*item.part) : "", item.group, item.weight));
    }
    return hasher.hash().text();
}

[[noreturn]] void refuse_empty_class(const ImageSet& set, const std::string& name) {
    const auto bad = std::find_if(set.problems.begin(), set.problems.end(), [&](const Problem& problem) {
        return problem.file.find(name + "/") != std::string::npos;
    });
    throw InputError(fmt::format(
        "{}: class '{}' has no readable image{}; add some or remove the class",
        printable(set.source.from.string()), printable(name),
        bad == set.problems.end() ? "" : fmt::format(" ({}: {})", printable(bad->file), bad->problem)));
}

}  // namespace

void write_problems(const std::vector<Problem>& problems, const fs::path& file) {
    std::string text = "file,problem\n";
    for (const Problem& problem : problems)
        text += csv_row(std::vector<std::string>{problem.file, problem.problem});
    write_file(file, text);
}

void read_items(ImageSet& set, const ReadProgress& progress, ContentCache* cache) {
    const std::size_t labelled = set.items.size();
    const auto total = static_cast<std::int64_t>(labelled + set.unlabelled.size());
    std::vector<std::string> problems(labelled);
    std::vector<std::string> unlabelled_problems(set.unlabelled.size());
    std::mutex progress_mutex;
    std::int64_t done = 0;
    constexpr std::int64_t block = 16;
    parallel_for((total + block - 1) / block, [&](std::int64_t chunk) {
        const std::int64_t end = std::min(total, (chunk + 1) * block);
        for (std::int64_t n = chunk * block; n < end; ++n) {
            const auto i = static_cast<std::size_t>(n);
            Item& item = i < labelled ? set.items[i] : set.unlabelled[i - labelled];
            const FileContent content = set.arrays ? content_of_element(*set.arrays, item.path)
                                                   : content_of(item_file(set, item), cache);
            set_content(item, content);
            (i < labelled ? problems[i] : unlabelled_problems[i - labelled]) = content.problem;
        }
        const std::lock_guard lock(progress_mutex);
        done += end - chunk * block;
        if (progress) progress(done, total);
    });
    keep_readable(set.items, problems, set);
    keep_readable(set.unlabelled, unlabelled_problems, set);
    if (!set.source.corrections.empty()) apply_corrections(set, set.source.corrections);
    set.fingerprint = fingerprint_of(set);
    const std::vector<std::int64_t> counts = class_counts(set);
    for (std::size_t c = 0; c < counts.size(); ++c)
        if (counts[c] == 0) refuse_empty_class(set, set.classes[c]);
}

}  // namespace jevrin::inline v1
