#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/images/image_set.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

namespace jevrin::app {
namespace {

struct Options {
    std::filesystem::path images;
    std::filesystem::path sheet;
    std::uint64_t seed = 1;
    bool json = false;
};

Json to_json(const ImageSet& set) {
    Json json;
    json["items"] = set.items.size();
    json["classes"] = Json::array();
    const auto counts = class_counts(set);
    for (std::size_t c = 0; c < counts.size(); ++c)
        json["classes"].push_back({{"name", set.classes[c]}, {"count", counts[c]}});
    json["problems"] = Json::array();
    for (const Problem& p : set.problems)
        json["problems"].push_back({{"file", p.file}, {"problem", p.problem}});
    json["skipped"] = set.skipped;
    json["duplicates"] = Json::array();
    for (const auto& group : exact_duplicates(set)) {
        Json files = Json::array();
        for (const std::size_t i : group) files.push_back(set.items[i].path);
        json["duplicates"].push_back(files);
    }
    json["fingerprint"] = set.fingerprint;
    return json;
}

std::string class_bars(const ImageSet& set) {
    const auto counts = class_counts(set);
    const std::int64_t most = *std::max_element(counts.begin(), counts.end());
    Table table({"class", "images", "share", ""}, {1, 2});
    for (std::size_t c = 0; c < counts.size(); ++c)
        table.add(
            {printable(set.classes[c]), with_commas(counts[c]),
             fmt::format("{:.1f} %",
                         100.0 * static_cast<double>(counts[c]) / static_cast<double>(set.items.size())),
             std::string(static_cast<std::size_t>(std::max<std::int64_t>(1, counts[c] * 40 / most)), '#')});
    return table.text();
}

std::string describe_pictures(const ImageSet& set) {
    const auto by_area = [](const Item& a, const Item& b) { return a.width * a.height < b.width * b.height; };
    const auto [small, large] = std::minmax_element(set.items.begin(), set.items.end(), by_area);
    std::map<ImageFormat, std::int64_t> formats;
    for (const Item& item : set.items) ++formats[item.format];
    std::string text = fmt::format("pictures from {}x{} to {}x{} pixels;", small->width, small->height,
                                   large->width, large->height);
    const char* separator = " ";
    for (const auto& [format, count] : formats) {
        text += fmt::format("{}{} {}", separator, with_commas(count), format_name(format));
        separator = ", ";
    }
    return text + "\n";
}

std::string describe_balance(const ImageSet& set) {
    const auto counts = class_counts(set);
    const auto [rare, common] = std::minmax_element(counts.begin(), counts.end());
    const std::string& common_name = set.classes[static_cast<std::size_t>(common - counts.begin())];
    std::string text =
        fmt::format("always guessing '{}' would be right for {:.1f} %\n", printable(common_name),
                    100.0 * static_cast<double>(*common) / static_cast<double>(set.items.size()));
    if (*common >= 2 * *rare)
        text += fmt::format(
            "classes are out of balance: '{}' has {:.1f} times as many images as '{}'; compare by balanced "
            "accuracy or macro F1, not by accuracy\n",
            printable(common_name), static_cast<double>(*common) / static_cast<double>(*rare),
            printable(set.classes[static_cast<std::size_t>(rare - counts.begin())]));
    return text;
}

std::string describe_problems(const ImageSet& set) {
    constexpr std::size_t shown = 5;
    std::string text;
    const auto groups = exact_duplicates(set);
    for (std::size_t g = 0; g < std::min(groups.size(), shown); ++g) {
        const Item& first = set.items[groups[g][0]];
        const Item& second = set.items[groups[g][1]];
        text += fmt::format("the same picture twice{}: {} and {}\n",
                            first.label == second.label ? "" : " under two labels", printable(first.path),
                            printable(second.path));
    }
    if (groups.size() > shown)
        text += fmt::format("... and {} more groups of equal pictures (--json lists all)\n",
                            groups.size() - shown);
    for (std::size_t i = 0; i < std::min(set.problems.size(), shown); ++i)
        text += fmt::format("left out: {}: {}\n", printable(set.problems[i].file), set.problems[i].problem);
    if (set.problems.size() > shown)
        text += fmt::format("... and {} more (--json lists all)\n", set.problems.size() - shown);
    if (set.skipped > 0)
        text += fmt::format("skipped: {} that {} not PNG or JPEG by name, or hidden\n",
                            plural(set.skipped, "file"), set.skipped == 1 ? "is" : "are");
    return text;
}

void survey(const Options& options) {
    ImageSet set;
    {
        ProgressBar bar;
        set = read_image_set(options.images, [&](std::int64_t done, std::int64_t total) {
            bar.show("reading images", static_cast<double>(done) / static_cast<double>(total), "");
        });
    }
    if (!options.sheet.empty()) {
        constexpr std::size_t per_class = 10;
        draw_sheet(
            sample_rows(set, per_class, options.seed),
            fmt::format("{}: a random sample of {} images", printable(options.images.filename().string()),
                        with_commas(static_cast<std::int64_t>(set.items.size()))),
            options.sheet);
    }
    if (options.json) {
        print_json(to_json(set));
        return;
    }
    print(fmt::format("{} in {}, {} unreadable\n\n{}\n{}{}{}",
                      plural(static_cast<std::int64_t>(set.items.size()), "image"),
                      fmt::format("{} classes", set.classes.size()), set.problems.size(), class_bars(set),
                      describe_pictures(set), describe_balance(set), describe_problems(set)));
    if (!options.sheet.empty())
        print(fmt::format("sheet written to {}\n", printable(options.sheet.string())));
}

}  // namespace

void add_survey(CLI::App& app) {
    auto options = std::make_shared<Options>();
    auto* command = app.add_subcommand("survey", "look at an image set: counts, sizes, problems, duplicates");
    command->add_option("IMAGES", options->images, "a folder with one folder of images per class")
        ->required();
    command->add_option("--sheet", options->sheet, "draw a labelled random sample (.png or .svg)")
        ->type_name("FILE");
    command->add_option("--seed", options->seed, "of the random sample")->capture_default_str();
    command->add_flag("--json", options->json, "print one JSON document");
    command->callback([options] { survey(*options); });
}

}  // namespace jevrin::app
