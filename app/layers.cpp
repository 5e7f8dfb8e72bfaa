#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/figures/layer_pictures.hpp"
#include "jevrin/images/preparation.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

constexpr std::size_t pictures_per_row = 12;

struct LayersOptions {
    std::filesystem::path model;
    std::filesystem::path image;
    std::filesystem::path figure;
    std::int64_t size = 0;
    bool json = false;
};

// The model's own preparation, or a plain one when it carries none.
Preparation preparation_of(const LayersOptions& options, Model& model) {
    const auto stored = model.metadata.find("jevrin.preparation");
    if (stored != model.metadata.end()) return Preparation::from_json(stored->second);
    const Shape& input = model.network.input;
    if (input.size() != 3 || input[0] != input[1] || (input[2] != 1 && input[2] != 3))
        throw InputError(fmt::format("{}: it takes {}; only square grey or colour images can be shown",
                                     printable(options.model.string()), to_string(input)));
    warn(fmt::format("{}: it carries no preparation; the image is scaled to 0 to 1",
                     printable(options.model.string())));
    Preparation preparation;
    preparation.fitting.size = input[0];
    preparation.fitting.channels = static_cast<int>(input[2]);
    return preparation;
}

void show_layers(const LayersOptions& options) {
    ReadSettings settings;
    if (options.size > 0) settings.image_size = options.size;
    Model model = read_model(options.model, settings);
    const Preparation preparation = preparation_of(options, model);
    const Fitting& fitting = preparation.fitting;
    if (model.network.input != Shape{fitting.size, fitting.size, fitting.channels})
        throw InputError(fmt::format("{}: its network takes {} and its preparation gives {}x{}x{}",
                                     printable(options.model.string()), to_string(model.network.input),
                                     fitting.size, fitting.size, fitting.channels));
    const std::vector<std::uint8_t> fitted = load_fitted(options.image, fitting);
    std::vector<float> input(fitted.size());
    ScalingTable(preparation.scaling, fitting.channels).apply(fitted, input);
    const std::vector<StageActivation> stages = stage_activations(model.network, input);
    if (!options.figure.empty()) {
        Image seen(fitting.size, fitting.size);
        for (std::size_t i = 0; i < seen.pixels.size(); ++i)
            seen.pixels[i] = fitted[fitting.channels == 3 ? i : i / 3];
        std::vector<SheetRow> rows = {{"as the network sees it", {seen}}};
        if (const Tensor* filters = first_filters(model.network))
            rows.push_back(filter_pictures(*filters, pictures_per_row));
        for (const StageActivation& stage : stages)
            if (SheetRow row = map_pictures(stage, pictures_per_row); !row.pictures.empty())
                rows.push_back(std::move(row));
        draw_sheet(rows,
                   fmt::format("{}: {}", printable(options.model.filename().string()),
                               printable(options.image.string())),
                   options.figure);
    }
    Json json = Json::array();
    Table table({"stage", "layer", "shape", "mean", "deviation", "zeros", "silent"}, {3, 4, 5, 6});
    for (const StageActivation& s : stages) {
        json.push_back({{"stage", s.stage},
                        {"layer", s.layer},
                        {"shape", s.values.shape()},
                        {"mean", s.mean},
                        {"deviation", s.deviation},
                        {"zeros", s.zeros},
                        {"silent", s.silent}});
        table.add({printable(s.stage), printable(s.layer), to_string(s.values.shape()),
                   fmt::format("{:.4f}", s.mean), fmt::format("{:.4f}", s.deviation),
                   fmt::format("{:.1f} %", 100.0 * s.zeros), fmt::format("{:.1f} %", 100.0 * s.silent)});
    }
    if (options.json) {
        print_json(json);
        return;
    }
    print(table.text());
    print("zeros: values that are exactly 0; silent: channels that are 0 everywhere in this image\n");
    print_written({options.figure});
}

}  // namespace

void add_layers(Command& command) {
    auto options = std::make_shared<LayersOptions>();
    command.add_option("MODEL", options->model, "a model file (ONNX)").required();
    command.add_option("IMAGE", options->image, "a PNG, JPEG or WebP file").required();
    add_picture_option(command, "--figure", options->figure, "draw filters and maps");
    command.add_option("--size", options->size, "image size, for models that leave it open")
        .within(1, 16'384);
    command.add_flag("--json", options->json, "print one JSON document");
    command.callback([options] { show_layers(*options); });
}

}  // namespace jevrin::app
