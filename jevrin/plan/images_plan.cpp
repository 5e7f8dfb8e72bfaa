#include "jevrin/plan/images_plan.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/images/descriptions.hpp"
#include "jevrin/plan/descriptions.hpp"

#include <fmt/format.h>

#include <cmath>
#include <limits>
#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr double largest_count = 1e6;

void require_whole(const TableReader& reader, const PartsSettings& parts) {
    for (const double count : {parts.training, parts.validation, parts.test})
        if (count != std::floor(count))
            throw InputError(
                fmt::format("{}: the parts mix fractions (below 1) and numbers of images per class; use "
                            "one of them",
                            reader.place()));
}

// One fold, a list of them, or "each".
std::vector<std::int64_t> read_folds(TableReader& reader, std::int64_t count) {
    std::vector<std::int64_t> folds;
    if (reader.holds_text("fold")) {
        const std::string word = reader.text("fold");
        reader.at("fold", [&] {
            if (word != "each")
                throw InputError(fmt::format("fold is '{}'; use a number, a list of numbers or \"each\"",
                                             printable(word)));
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

PartsSettings read_part_table(TableReader& reader, std::vector<std::int64_t>& folds) {
    PartsSettings parts;
    if (reader.boolean("given", false)) {
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
                fmt::format("{}: the parts sum to {}; the sum must not exceed 1", reader.place(), sum));
        }
    }
    reader.finish();
    return parts;
}

std::optional<PartsSettings> read_parts(TableReader& reader, std::vector<std::int64_t>& folds) {
    if (reader.holds_text("parts")) {
        const std::string word = reader.text("parts");
        return reader.at("parts", [&]() -> std::optional<PartsSettings> {
            if (word != "given")
                throw InputError(
                    fmt::format("parts is '{}'; use \"given\" or a table of fractions", printable(word)));
            return PartsSettings{.by = PartsBy::given, .validation = 0.0};
        });
    }
    if (auto table = reader.table("parts")) return read_part_table(*table, folds);
    return std::nullopt;
}

std::array<double, 3> read_three(TableReader& reader, const std::string& key, double low) {
    const std::vector<double> values = reader.numbers(key, low, 10.0);
    return reader.at(key, [&] {
        if (values.size() != 3)
            throw InputError(fmt::format("'{}' needs three numbers: red, green, blue", key));
        return std::array<double, 3>{values[0], values[1], values[2]};
    });
}

Json parts_json(const PartsSettings& parts) {
    switch (parts.by) {
        case PartsBy::given:
            return {{"given", true}, {"validation", parts.validation}};
        case PartsBy::folds:
            return {{"folds", parts.folds}, {"fold", parts.fold}, {"test", parts.test}};
        case PartsBy::shares:
        case PartsBy::counts:
            return {{"training", parts.training}, {"validation", parts.validation}, {"test", parts.test}};
    }
    unhandled(parts.by);
}

Description<ImagesPlan> describe_images() {
    using I = ImagesPlan;
    Description<I> d;
    d.custom(
         "parts", "table, or \"given\"",
         [](TableReader& reader, const std::string&, I& i) { i.parts = read_parts(reader, i.folds); },
         [](const I& i) { return i.parts ? parts_json(*i.parts) : Json(); })
        .if_stated()
        .means(
            "fractions or items per class of training, validation and test; or cross-validation: folds, "
            "fold, test");
    d.custom(
         "split_seed", detail::integer_words(0, std::numeric_limits<std::int32_t>::max()),
         [](TableReader& reader, const std::string& k, I& i) {
             i.split_seed = static_cast<std::uint64_t>(
                 reader.integer(k, std::nullopt, 0, std::numeric_limits<std::int32_t>::max()));
         },
         [](const I& i) { return Json(i.split_seed); })
        .means("seed of the random split into parts")
        .was("division_seed");
    d.boolean("group_near_duplicates", &I::group_near_duplicates)
        .means("keep near-duplicates in the same part")
        .was("near_duplicates_together");
    d.include(&I::fitting);
    d.custom(
         "channels", "1 (grey) or 3 (colour)",
         [](TableReader& reader, const std::string& k, I& i) {
             i.channels = static_cast<int>(reader.integer(k, std::nullopt, 1, 3));
             reader.at(k, [&] {
                 if (i.channels == 2) throw InputError("'channels' is 2; it may be 1 (grey) or 3 (colour)");
             });
             i.fitting.channels = *i.channels;
         },
         [](const I& i) { return Json(i.fitting.channels); })
        .means("default: those of the backbone, otherwise those of the images")
        .info.shows_default = false;
    d.custom(
         "scaling", "\"training\", \"unit\", or { mean, deviation }",
         [](TableReader& reader, const std::string& k, I& i) { i.scaling = read_scaling(reader, k); },
         [](const I&) { return Json(); })
        .written_if([](const I&) { return false; })
        .means(
            "input normalisation: mean and deviation of the training part, scaling to [0, 1], or given "
            "values; "
            "default for a pretrained backbone: its own");
    return d;
}

}  // namespace

const Description<ImagesPlan>& description_of(const ImagesPlan&) {
    static const Description<ImagesPlan> description = describe_images();
    return description;
}

StatedScaling read_scaling(TableReader& reader, const std::string& key) {
    if (reader.holds_text(key)) {
        const std::string word = reader.text(key);
        return reader.at(key, [&] {
            if (word == "training") return StatedScaling{ScalingKind::training, {}};
            if (word == "unit") return StatedScaling{ScalingKind::unit, {}};
            throw InputError(fmt::format(
                "scaling is '{}'; use \"training\", \"unit\" or {{ mean = [..], deviation = [..] }}",
                printable(word)));
        });
    }
    auto table = reader.table(key);
    const StatedScaling scaling{ScalingKind::stated,
                                {read_three(*table, "mean", -10.0), read_three(*table, "deviation", 1e-6)}};
    table->finish();
    return scaling;
}

Json scaling_json(const StatedScaling& scaling) {
    switch (scaling.kind) {
        case ScalingKind::training:
            return "training";
        case ScalingKind::unit:
            return "unit";
        case ScalingKind::stated:
            return {{"mean", scaling.numbers.mean}, {"deviation", scaling.numbers.deviation}};
    }
    unhandled(scaling.kind);
}

ImagesPlan read_images(TableReader reader) {
    ImagesPlan images;
    description_of(images.source).read_into(reader, images.source);
    description_of(images).read_into(reader, images);
    reader.finish();
    return images;
}

template class Description<ImagesPlan>;

}  // namespace jevrin::inline v1
