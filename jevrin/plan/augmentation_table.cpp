#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/shared_tables.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

// A pair [low, high]; one number stands for both.
std::array<double, 2> read_range(TomlReader& reader, const std::string& key, std::array<double, 2> otherwise,
                                 double low, double high) {
    const std::vector<double> values = reader.numbers(key, low, high);
    if (!reader.has(key)) return otherwise;
    return reader.at(key, [&] {
        if (values.size() != 2 || values[0] > values[1])
            throw InputError(fmt::format("'{}' needs two numbers: the smallest and the largest", key));
        return std::array<double, 2>{values[0], values[1]};
    });
}

void read_mixing(TomlReader reader, Mixing& mixing) {
    const std::string form = reader.text("form", mixing_name(mixing.form));
    mixing.form = reader.at("form", [&] { return mixing_from_name(form); });
    mixing.alpha = reader.number("alpha", mixing.alpha, 0.01, 100.0);
    reader.finish();
}

}  // namespace

Overlay read_overlay(TomlReader& reader, const std::filesystem::path& file) {
    Overlay overlay;
    overlay.file = read_path(reader, "file", file);
    overlay.cutout = reader.at("file", [&] {
        const std::vector<std::byte> bytes = read_file(overlay.file);
        try {
            return std::make_shared<const Cutout>(decode_cutout(bytes));
        } catch (const InputError& error) {
            throw InputError(fmt::format("{}: {}", printable(overlay.file.string()), error.what()));
        }
    });
    overlay.share = reader.number("share", overlay.share, 0.0, 1.0);
    const std::vector<double> places = reader.flat_numbers("at", 0.0, 1.0);
    reader.at("at", [&] {
        if (places.size() % 2 != 0)
            throw InputError("'at' needs places [x, y], as shares of width and height: at = [[0.5, 0.5]]");
    });
    for (std::size_t i = 0; i < places.size(); i += 2) overlay.at.push_back({places[i], places[i + 1]});
    overlay.size = read_range(reader, "size", overlay.size, 0.001, 4.0);
    overlay.opacity = read_range(reader, "opacity", overlay.opacity, 0.0, 1.0);
    return overlay;
}

Augmentation read_augmentation(TomlReader& reader, const std::filesystem::path& file,
                               const Augmentation& otherwise) {
    if (reader.holds_text("augment")) {
        const std::string strength = reader.text("augment");
        return reader.at("augment", [&] { return augmentation_of_strength(strength); });
    }
    auto table = reader.table("augment");
    if (!table) return otherwise;
    Augmentation a = otherwise;
    if (const std::string strength = table->text("strength", ""); !strength.empty())
        a = table->at("strength", [&] { return augmentation_of_strength(strength); });
    const auto share = [&](const char* key, double& value, double most) {
        value = table->number(key, value, 0.0, most);
    };
    a.flip = table->truth("flip", a.flip);
    a.flip_vertical = table->truth("flip_vertical", a.flip_vertical);
    share("shift", a.shift, 0.5);
    share("rotation", a.rotation, 180.0);
    share("scale", a.scale, 1.0);
    share("crop", a.crop, 0.95);
    share("brightness", a.brightness, 1.0);
    share("contrast", a.contrast, 1.0);
    share("saturation", a.saturation, 1.0);
    share("hue", a.hue, 180.0);
    share("noise", a.noise, 1.0);
    share("blur", a.blur, 20.0);
    share("erase", a.erase, 1.0);
    if (table->has("overlay")) {
        a.overlays.clear();
        for (TomlReader& overlay : table->tables("overlay")) {
            a.overlays.push_back(read_overlay(overlay, file));
            overlay.finish();
        }
    } else {
        table->mention("overlay");
    }
    if (auto mixing = table->table("mixing")) read_mixing(*mixing, a.mixing);
    table->finish();
    return a;
}

Json to_json(const Augmentation& a) {
    Json json = {
        {"flip", a.flip},
        {"flip_vertical", a.flip_vertical},
        {"shift", a.shift},
        {"rotation", a.rotation},
        {"scale", a.scale},
        {"crop", a.crop},
        {"brightness", a.brightness},
        {"contrast", a.contrast},
        {"saturation", a.saturation},
        {"hue", a.hue},
        {"noise", a.noise},
        {"blur", a.blur},
        {"erase", a.erase},
        {"mixing", {{"form", mixing_name(a.mixing.form)}, {"alpha", a.mixing.alpha}}}};
    json["overlay"] = Json::array();
    for (const Overlay& overlay : a.overlays)
        json["overlay"].push_back(
            {{"content", content_hash(std::as_bytes(std::span(overlay.cutout->colours.pixels))) +
                             content_hash(std::as_bytes(std::span(overlay.cutout->alpha)))},
             {"share", overlay.share},
             {"at", overlay.at},
             {"size", overlay.size},
             {"opacity", overlay.opacity}});
    return json;
}

}  // namespace jevrin
