#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/plan/shared_tables.hpp"

#include <fmt/format.h>

#include <cmath>
#include <limits>
#include <set>

namespace jevrin {
namespace {

constexpr double largest_count = 1e6;

void require_whole(const TomlReader& reader, const PartsSettings& parts) {
    for (const double count : {parts.training, parts.validation, parts.test})
        if (count != std::floor(count))
            throw InputError(
                fmt::format("{}: the parts mix shares (below 1) and numbers of images per class; use one "
                            "of them",
                            reader.place()));
}

// One fold, a list of them, or "each".
std::vector<std::int64_t> read_folds(TomlReader& reader, std::int64_t count) {
    std::vector<std::int64_t> folds;
    if (reader.holds_text("fold")) {
        const std::string word = reader.text("fold");
        reader.at("fold", [&] {
            if (word != "each")
                throw InputError(fmt::format(
                    "fold is '{}'; it may be a number, a list of numbers or \"each\"", printable(word)));
        });
        for (std::int64_t fold = 1; fold <= count; ++fold) folds.push_back(fold);
    } else if (reader.holds_list("fold")) {
        folds = reader.integers("fold", 1, count);
        reader.at("fold", [&] {
            if (folds.empty() || std::set<std::int64_t>(folds.begin(), folds.end()).size() != folds.size())
                throw InputError("'fold' is empty or names a fold twice");
        });
    } else {
        folds = {reader.integer("fold", 1, 1, count)};
    }
    return folds;
}

PartsSettings read_part_table(TomlReader& reader, std::vector<std::int64_t>& folds) {
    PartsSettings parts;
    if (reader.truth("given", false)) {
        parts.by = PartsBy::given;
        parts.validation = reader.number("validation", 0.0, 0.0, 0.9);
    } else if (reader.has("folds")) {
        parts.by = PartsBy::folds;
        parts.folds = reader.integer("folds", std::nullopt, 2, 1000);
        folds = read_folds(reader, parts.folds);
        parts.fold = folds.front();
        parts.test = reader.number("test", parts.test, 0.0, 0.9);
    } else {
        parts.validation = reader.number("validation", std::nullopt, 0.01, largest_count);
        const bool counts = parts.validation >= 1.0;
        parts.training = reader.number("training", counts ? std::optional(0.0) : std::nullopt,
                                       counts ? 0.0 : 0.01, counts ? largest_count : 0.99);
        parts.test = reader.number("test", 0.0, 0.0, counts ? largest_count : 0.98);
        if (counts) {
            parts.by = PartsBy::counts;
            require_whole(reader, parts);
        } else if (const double sum = parts.training + parts.validation + parts.test; sum > 1.0 + 1e-9) {
            throw InputError(
                fmt::format("{}: the parts sum to {}; they may sum to at most 1", reader.place(), sum));
        }
    }
    reader.finish();
    return parts;
}

std::optional<PartsSettings> read_parts(TomlReader& reader, std::vector<std::int64_t>& folds) {
    if (reader.holds_text("parts")) {
        const std::string word = reader.text("parts");
        return reader.at("parts", [&]() -> std::optional<PartsSettings> {
            if (word != "given")
                throw InputError(
                    fmt::format("parts is '{}'; it may be \"given\" or a table of shares", printable(word)));
            return PartsSettings{.by = PartsBy::given, .validation = 0.0};
        });
    }
    if (auto table = reader.table("parts")) return read_part_table(*table, folds);
    return std::nullopt;
}

Colour read_colour(TomlReader& reader, const std::string& key, const Colour& otherwise) {
    const auto values = reader.integers(key, 0, 255);
    if (!reader.has(key)) return otherwise;
    return reader.at(key, [&] {
        if (values.size() != 3)
            throw InputError(fmt::format("'{}' needs three numbers: red, green, blue", key));
        Colour colour{};
        for (std::size_t c = 0; c < 3; ++c) colour[c] = static_cast<std::uint8_t>(values[c]);
        return colour;
    });
}

std::array<double, 3> read_three(TomlReader& reader, const std::string& key, double low) {
    const std::vector<double> values = reader.numbers(key, low, 10.0);
    return reader.at(key, [&] {
        if (values.size() != 3)
            throw InputError(fmt::format("'{}' needs three numbers: red, green, blue", key));
        return std::array<double, 3>{values[0], values[1], values[2]};
    });
}

ImageSource read_source(TomlReader& reader, const std::filesystem::path& file) {
    ImageSource source{.from = read_path(reader, "from", file)};
    const auto path = [&](const std::string& key) {
        if (reader.has(key)) return read_path(reader, key, file);
        reader.mention(key);
        return std::filesystem::path();
    };
    source.labels = path("labels");
    source.shape = reader.integers("shape", 1, 16'384);
    source.transposed = reader.truth("transposed", false);
    source.classes = reader.texts("classes");
    if (auto columns = reader.table("columns")) {
        for (const char* meaning : {"path", "label", "part", "weight", "group"})
            if (const std::string name = columns->text(meaning, ""); !name.empty())
                source.columns[meaning] = name;
        columns->finish();
    }
    source.group_pattern = reader.text("group_pattern", "");
    source.corrections = path("corrections");
    source.unlabelled = path("unlabelled");
    return source;
}

}  // namespace

std::optional<StatedScaling> read_scaling(TomlReader& reader) {
    if (reader.holds_text("scaling")) {
        const std::string word = reader.text("scaling");
        return reader.at("scaling", [&] {
            if (word == "training") return StatedScaling{ScalingKind::training, {}};
            if (word == "unit") return StatedScaling{ScalingKind::unit, {}};
            throw InputError(fmt::format(
                "scaling is '{}'; it may be \"training\", \"unit\" or {{ mean = [..], deviation = [..] }}",
                printable(word)));
        });
    }
    auto table = reader.table("scaling");
    if (!table) return std::nullopt;
    const StatedScaling scaling{ScalingKind::stated,
                                {read_three(*table, "mean", -10.0), read_three(*table, "deviation", 1e-6)}};
    table->finish();
    return scaling;
}

std::filesystem::path read_path(TomlReader& reader, const std::string& key,
                                const std::filesystem::path& file) {
    const std::string text = reader.text(key);
    return reader.at(key, [&] {
        if (text.empty()) throw InputError(fmt::format("'{}' is empty; name a file or folder", key));
        return std::filesystem::absolute(file.parent_path() / text).lexically_normal();
    });
}

ImagesPlan read_images(TomlReader reader, const std::filesystem::path& file) {
    ImagesPlan images;
    images.source = read_source(reader, file);
    images.parts = read_parts(reader, images.folds);
    images.division_seed = static_cast<std::uint64_t>(
        reader.integer("division_seed", static_cast<std::int64_t>(images.division_seed), 0,
                       std::numeric_limits<std::int32_t>::max()));
    images.near_duplicates_together =
        reader.truth("near_duplicates_together", images.near_duplicates_together);
    Fitting& fitting = images.fitting;
    fitting.size = reader.integer("size", fitting.size, 8, 1024);
    const std::string fit = reader.text("fit", fit_name(fitting.fit));
    fitting.fit = reader.at("fit", [&] { return fit_from_name(fit); });
    const std::string padding = reader.text("padding", padding_name(fitting.padding));
    fitting.padding = reader.at("padding", [&] { return padding_from_name(padding); });
    fitting.padding_colour = read_colour(reader, "padding_colour", fitting.padding_colour);
    fitting.background = read_colour(reader, "background", fitting.background);
    if (reader.has("channels")) {
        images.channels = static_cast<int>(reader.integer("channels", 3, 1, 3));
        reader.at("channels", [&] {
            if (images.channels == 2) throw InputError("'channels' is 2; it may be 1 (grey) or 3 (colour)");
        });
    } else {
        reader.mention("channels");
    }
    images.scaling = read_scaling(reader);
    reader.finish();
    return images;
}

Json to_json(const ImagesPlan& images) {
    Json json;
    if (images.parts && images.parts->by == PartsBy::given)
        json["parts"] = {{"given", true}, {"validation", images.parts->validation}};
    else if (images.parts && images.parts->by == PartsBy::folds)
        json["parts"] = {
            {"folds", images.parts->folds}, {"fold", images.parts->fold}, {"test", images.parts->test}};
    else if (images.parts)
        json["parts"] = {{"training", images.parts->training},
                         {"validation", images.parts->validation},
                         {"test", images.parts->test}};
    json["division_seed"] = images.division_seed;
    json["near_duplicates_together"] = images.near_duplicates_together;
    json["size"] = images.fitting.size;
    json["fit"] = fit_name(images.fitting.fit);
    json["padding"] = padding_name(images.fitting.padding);
    json["padding_colour"] = images.fitting.padding_colour;
    json["background"] = images.fitting.background;
    json["channels"] = images.fitting.channels;
    return json;
}

Json to_json(const ImageSource& source) {
    Json json = {{"from", source.from.string()}};
    if (!source.labels.empty()) json["labels"] = source.labels.string();
    if (!source.shape.empty()) json["shape"] = source.shape;
    if (source.transposed) json["transposed"] = true;
    if (!source.classes.empty()) json["classes"] = source.classes;
    for (const auto& [meaning, name] : source.columns) json["columns"][meaning] = name;
    if (!source.group_pattern.empty()) json["group_pattern"] = source.group_pattern;
    if (!source.corrections.empty()) json["corrections"] = source.corrections.string();
    if (!source.unlabelled.empty()) json["unlabelled"] = source.unlabelled.string();
    return json;
}

Json to_json(const StatedScaling& scaling) {
    if (scaling.kind == ScalingKind::training) return "training";
    if (scaling.kind == ScalingKind::unit) return "unit";
    return {{"mean", scaling.numbers.mean}, {"deviation", scaling.numbers.deviation}};
}

}  // namespace jevrin
