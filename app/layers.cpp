#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/layer_images.hpp"
#include "jevrin/results/layers_result.hpp"

#include <fmt/format.h>

#include <charconv>

namespace jevrin::app {
namespace {

struct LayersOptions {
    LayersQuery query;
    std::string size;  // empty: the model states it
    std::filesystem::path figure;
    bool json = false;
};

// The image as the network sees it, its first filters, and the maps of each stage.
void draw(const LayersResult& result, const std::filesystem::path& file) {
    constexpr std::size_t per_row = 12;
    const Fitting& fitting = result.preparation.fitting;
    Image seen(fitting.size.width, fitting.size.height);
    for (std::size_t i = 0; i < seen.pixels.size(); ++i)
        seen.pixels[i] = result.fitted[fitting.channels == 3 ? i : i / 3];
    std::vector<SheetRow> rows = {{"network input", {seen}}};
    if (const Tensor* filters = first_filters(result.network))
        rows.push_back(filter_images(*filters, per_row));
    for (const StageActivation& stage : result.stages)
        if (SheetRow row = map_images(stage, per_row); !row.images.empty()) rows.push_back(std::move(row));
    draw_sheet(rows, result.title(), file);
}

// "64", or "48x64".
ImageSize size_from(const std::string& text) {
    const std::size_t cross = text.find('x');
    const auto side = [&](const std::string& digits) {
        std::int64_t value = 0;
        const char* const end = digits.data() + digits.size();
        const auto [stop, error] = std::from_chars(digits.data(), end, value);
        if (error != std::errc() || stop != end || value < 1 || value > 16'384)
            throw InputError(
                fmt::format("--size '{}': give one number from 1 to 16384, or two as in 48x64: height "
                            "and width",
                            printable(text)));
        return value;
    };
    if (cross == std::string::npos) return side(text);
    return {side(text.substr(0, cross)), side(text.substr(cross + 1))};
}

void show_layers(const LayersOptions& options) {
    LayersQuery query = options.query;
    if (!options.size.empty()) query.size = size_from(options.size);
    const LayersResult result = report_layers(query);
    if (!result.carries_preparation)
        warn(printable(options.query.model.string()) +
             ": it has no preparation; pixel values are scaled to [0, 1]");
    if (!options.figure.empty()) draw(result, options.figure);
    present(result, {.json = options.json, .written = {options.figure}});
}

}  // namespace

void add_layers(Command& command) {
    auto options = std::make_shared<LayersOptions>();
    command.add_option("MODEL", options->query.model, "a model file (ONNX)").required();
    command.add_option("IMAGE", options->query.image, "an image file").required();
    add_figure_option(command, "--figure", options->figure, "draw filters and activation maps");
    command
        .add_option("--size", options->size, "input size, for models with a variable one: N, or HEIGHTxWIDTH")
        .type_name("SIZE");
    add_json_option(command, options->json);
    command.callback([options] { show_layers(*options); });
}

}  // namespace jevrin::app
