#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

namespace jevrin::app {
namespace {

struct Options {
    std::filesystem::path model;
    std::vector<std::filesystem::path> images;
    std::size_t top = 3;
    bool json = false;
};

void classify_files(const Options& options) {
    const Classifier classifier = load_classifier(options.model);
    const std::size_t classes = classifier.classes.size();
    const std::size_t top = options.top == 0 ? classes : std::min(options.top, classes);
    std::vector<Image> images;
    std::vector<std::string> names;
    std::size_t refused = 0;
    for (const auto& path : options.images) try {
            images.push_back(load_image(path));
            names.push_back(path.string());
        } catch (const InputError& error) {
            warn(error.what());
            ++refused;
        }
    const std::vector<float> probabilities = classify(classifier, images);
    std::vector<std::string> heads = {"image", "class", "probability"};
    if (top > 1) heads.emplace_back("then");
    Table table(heads, {2});
    Json json = Json::array();
    for (std::size_t i = 0; i < images.size(); ++i) {
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
    else if (!images.empty())
        print(table.text());
    if (refused > 0) {
        warn(fmt::format("{} of {} not classified", refused,
                         plural(static_cast<std::int64_t>(options.images.size()), "image")));
        throw CLI::RuntimeError(2);
    }
}

}  // namespace

void add_classify(CLI::App& app) {
    auto options = std::make_shared<Options>();
    auto* command = app.add_subcommand("classify", "classes and probabilities for new images");
    command->add_option("MODEL", options->model, "a model file written by 'jevrin export'")->required();
    command->add_option("IMAGE", options->images, "PNG or JPEG files")->required();
    command->add_option("--top", options->top, "how many classes to show (0: all)")->capture_default_str();
    command->add_flag("--json", options->json, "print one JSON document");
    command->callback([options] { classify_files(*options); });
}

}  // namespace jevrin::app
