#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/plan/recipe.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

namespace jevrin::app {
namespace {

constexpr std::size_t most_warnings = 10;

struct Options {
    std::filesystem::path model;
    std::vector<std::filesystem::path> images;
    std::size_t top = 3;
    bool json = false;
};

// Files as they are, folders as the images below them, a plan as its unlabelled images.
std::vector<std::filesystem::path> files_of(const std::vector<std::filesystem::path>& named) {
    std::vector<std::filesystem::path> files;
    for (const auto& path : named) {
        if (path.extension() != ".toml") {
            for (const auto& file : image_files(path)) files.push_back(file);
            continue;
        }
        const ImageSource source = read_images_of(path).source;
        if (source.unlabelled.empty())
            throw InputError(
                fmt::format("{}: its [images] name no 'unlabelled' folder", printable(path.string())));
        for (const auto& file : image_files(source.unlabelled)) files.push_back(file);
    }
    if (files.empty())
        throw InputError("there is no image to classify; name files, or folders that hold some");
    return files;
}

void classify_files(const Options& options) {
    const Classifier classifier = load_classifier(options.model);
    const std::size_t classes = classifier.classes.size();
    const std::size_t top = options.top == 0 ? classes : std::min(options.top, classes);
    const std::vector<std::filesystem::path> files = files_of(options.images);
    std::vector<std::string> names;
    std::vector<float> probabilities;
    std::size_t refused = 0;
    {
        // Some at a time, so that a large folder takes no more memory than a small one.
        constexpr std::size_t some = 256;
        ProgressBars bar;
        for (std::size_t begin = 0; begin < files.size(); begin += some) {
            std::vector<std::vector<std::uint8_t>> fitted;
            for (std::size_t i = begin; i < std::min(files.size(), begin + some); ++i) try {
                    fitted.push_back(load_fitted(files[i], classifier.preparation.fitting));
                    names.push_back(files[i].string());
                } catch (const InputError& error) {
                    bar.clear();
                    if (refused++ < most_warnings) warn(error.what());
                }
            const std::vector<float> rows = classify(classifier, fitted);
            probabilities.insert(probabilities.end(), rows.begin(), rows.end());
            bar.show("classifying", static_cast<std::int64_t>(std::min(files.size(), begin + some)),
                     static_cast<std::int64_t>(files.size()));
        }
    }
    std::vector<std::string> heads = {"image", "class", "probability"};
    if (top > 1) heads.emplace_back("then");
    Table table(heads, {2});
    Json json = Json::array();
    for (std::size_t i = 0; i < names.size(); ++i) {
        const float* row = probabilities.data() + i * classes;
        std::vector<std::size_t> order(classes);
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return row[a] > row[b]; });
        Json entry = {{"image", names[i]}, {"top", Json::array()}};
        std::string others;
        for (std::size_t k = 0; k < top; ++k) {
            entry["top"].push_back({{"class", classifier.classes[order[k]]}, {"probability", row[order[k]]}});
            if (k > 0)
                others += fmt::format("{}{} {:.3f}", k == 1 ? "" : ", ",
                                      printable(classifier.classes[order[k]]), row[order[k]]);
        }
        json.push_back(entry);
        std::vector<std::string> cells = {printable(names[i]), printable(classifier.classes[order[0]]),
                                          fmt::format("{:.3f}", row[order[0]])};
        if (top > 1) cells.push_back(others);
        table.add(std::move(cells));
    }
    if (options.json)
        print_json(json);
    else if (!names.empty())
        print(table.text());
    if (refused > 0) {
        warn(fmt::format("{} of {} not classified", refused, plural(std::ssize(files), "image")));
        throw CLI::RuntimeError(2);
    }
}

}  // namespace

void add_classify(CLI::App& app) {
    auto options = std::make_shared<Options>();
    auto* command = app.add_subcommand("classify", "classes and probabilities for new images");
    command->add_option("MODEL", options->model, "a model file written by 'jevrin export'")->required();
    command
        ->add_option("IMAGE", options->images,
                     "PNG, JPEG or WebP files, folders of them, or a plan (its unlabelled images)")
        ->required();
    command->add_option("--top", options->top, "how many classes to show (0: all)")->capture_default_str();
    command->add_flag("--json", options->json, "print one JSON document");
    command->callback([options] { classify_files(*options); });
}

}  // namespace jevrin::app
