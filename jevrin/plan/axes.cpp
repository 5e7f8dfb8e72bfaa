#include "jevrin/plan/axes.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/overloaded.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_combinations = 1000;

bool is_range(const TableReader& table) {
    return table.has("low") || table.has("high");
}

Axis read_range(TableReader range, std::vector<std::string> path) {
    Axis axis{.path = std::move(path)};
    const bool whole = range.holds_integer("low") && range.holds_integer("high");
    constexpr double most = 1e15;
    axis.low = range.number("low", std::nullopt, -most, most);
    axis.high = range.number("high", std::nullopt, -most, most);
    const std::string scale = range.text("scale", "linear");
    range.at("scale", [&] {
        if (scale != "linear" && scale != "log")
            throw InputError(fmt::format("scale is '{}'; it may be linear or log", printable(scale)));
    });
    axis.logarithmic = scale == "log";
    axis.whole = whole;
    range.finish();
    if (axis.low >= axis.high) throw InputError(fmt::format("{}: 'low' must be below 'high'", range.place()));
    if (axis.logarithmic && axis.low <= 0.0)
        throw InputError(fmt::format("{}: on a log scale 'low' must be above 0", range.place()));
    return axis;
}

void collect_axes(TableReader& reader, const std::vector<std::string>& path, std::vector<Axis>& axes) {
    for (const std::string& key : reader.keys()) {
        if (path.empty() && (key == "samples" || key == "seed")) continue;
        std::vector<std::string> here = path;
        here.push_back(key);
        if (reader.holds_list(key)) {
            const std::size_t choices = reader.size_of_list(key);
            reader.at(key, [&] {
                if (choices == 0) throw InputError(fmt::format("'{}' has no values to take", key));
                if (here == std::vector<std::string>{"name"})
                    throw InputError("'name' cannot vary; variants get names of their own");
            });
            axes.push_back({.path = std::move(here), .choices = choices});
        } else if (auto table = reader.table(key)) {
            if (is_range(*table))
                axes.push_back(read_range(*table, std::move(here)));
            else
                collect_axes(*table, here, axes);
        }
    }
}

// A number with four digits, so that its name is exact.
double rounded(double value) {
    return std::stod(fmt::format("{:.4g}", value));
}

AxisValue draw(const Axis& axis, RandomStream& random) {
    const double share = random.uniform();
    if (axis.choices > 0)
        return std::min(axis.choices - 1,
                        static_cast<std::size_t>(share * static_cast<double>(axis.choices)));
    const double value = axis.logarithmic ? axis.low * std::pow(axis.high / axis.low, share)
                                          : axis.low + (axis.high - axis.low) * share;
    if (axis.whole)
        return static_cast<std::int64_t>(
            std::min(axis.high, std::floor(axis.low + (axis.high + 1.0 - axis.low) * share)));
    return std::clamp(rounded(value), axis.low, axis.high);
}

// Every choice of every axis, the last one moving fastest.
std::vector<std::vector<AxisValue>> whole_grid(const std::vector<Axis>& axes, const std::string& place) {
    std::size_t count = 1;
    for (const Axis& axis : axes) {
        count *= axis.choices;
        if (count > most_combinations)
            throw InputError(
                fmt::format("{}: 'vary' makes more than {} combinations; draw some of them: samples = 20",
                            place, most_combinations));
    }
    std::vector<std::vector<AxisValue>> grid;
    for (std::size_t number = 0; number < count; ++number) {
        std::vector<AxisValue> combination(axes.size());
        std::size_t rest = number;
        for (std::size_t a = axes.size(); a-- > 0;) {
            combination[a] = rest % axes[a].choices;
            rest /= axes[a].choices;
        }
        grid.push_back(std::move(combination));
    }
    return grid;
}

std::vector<std::vector<AxisValue>> drawn(const std::vector<Axis>& axes, std::size_t samples,
                                          std::uint64_t seed) {
    std::vector<std::vector<AxisValue>> combinations;
    // What was drawn before is not worth training again.
    const std::size_t patience = 50 * samples;
    for (std::size_t n = 0; n < patience && combinations.size() < samples; ++n) {
        RandomStream random({seed, Purpose::plan_sample, 0, n});
        std::vector<AxisValue> combination;
        for (const Axis& axis : axes) combination.push_back(draw(axis, random));
        if (std::find(combinations.begin(), combinations.end(), combination) == combinations.end())
            combinations.push_back(std::move(combination));
    }
    return combinations;
}

std::string words_of(const SettingNode& node, std::size_t place) {
    return std::visit(Overloaded{
                          [&](const std::string& text) { return text; },
                          [&](std::int64_t number) { return fmt::format("{}", number); },
                          [&](double number) { return fmt::format("{}", number); },
                          [&](bool truth) { return std::string(truth ? "on" : "off"); },
                          [&](const SettingNode::List& list) {
                              std::vector<std::string> parts;
                              for (const SettingNode& element : list) parts.push_back(words_of(element, 0));
                              return parts.empty() ? "none" : fmt::format("{}", fmt::join(parts, "-"));
                          },
                          [&](const SettingNode::Table&) {
                              for (const char* key : {"kind", "family", "strength", "form"})
                                  if (const SettingNode* name = node.find(key);
                                      name != nullptr && name->as<std::string>())
                                      return fmt::format("{} {}", place + 1, *name->as<std::string>());
                              return fmt::format("{}", place + 1);
                          },
                          [&](const SettingNode::Other&) { return fmt::format("{}", place + 1); },
                      },
                      node.value);
}

}  // namespace

Axes read_axes(TableReader vary) {
    Axes result;
    collect_axes(vary, {}, result.axes);
    if (result.axes.empty())
        throw InputError(fmt::format(
            "{}: 'vary' names no setting; for example training.optimiser.learning_rate = [0.01, 0.03]",
            vary.place()));
    const auto samples =
        static_cast<std::size_t>(vary.integer("samples", 0, 1, static_cast<std::int64_t>(most_combinations)));
    const auto seed = static_cast<std::uint64_t>(vary.integer("seed", 1, 0, 2'147'483'647));
    const bool ranges = std::any_of(result.axes.begin(), result.axes.end(),
                                    [](const Axis& axis) { return axis.choices == 0; });
    if (ranges && samples == 0)
        throw InputError(
            fmt::format("{}: 'vary' holds a range and needs 'samples', the number of combinations to draw",
                        vary.place()));
    result.combinations =
        samples > 0 ? drawn(result.axes, samples, seed) : whole_grid(result.axes, vary.place());
    return result;
}

std::vector<VariedSetting> apply_axes(const Axes& axes, const std::vector<AxisValue>& combination,
                                      SettingNode& candidate, const TableReader& places) {
    const SettingNode vary = std::move(*candidate.find("vary"));
    candidate.erase("vary");
    std::vector<VariedSetting> settings;
    for (std::size_t a = 0; a < axes.axes.size(); ++a) {
        const Axis& axis = axes.axes[a];
        SettingNode* target = &candidate;
        const SettingNode* source = &vary;
        const std::string path = fmt::format("{}", fmt::join(axis.path, "."));
        for (std::size_t k = 0; k + 1 < axis.path.size(); ++k) {
            const std::string& key = axis.path[k];
            source = source->find(key);
            SettingNode* next = target->find(key);
            if (next == nullptr) next = &target->put(key, {.value = SettingNode::Table{}, .place = {}});
            if (next->as<SettingNode::Table>() == nullptr)
                places.fail(*source, fmt::format("'vary' goes through '{}', which the candidate does not "
                                                 "state as a table",
                                                 printable(key)));
            target = next;
        }
        const std::string& last = axis.path.back();
        source = source->find(last);
        if (target->find(last) != nullptr)
            places.fail(*source, fmt::format("'{}' is stated and varied; leave one out", printable(path)));
        if (const auto* place = std::get_if<std::size_t>(&combination[a])) {
            const SettingNode& chosen = (*source->as<SettingNode::List>())[*place];
            settings.push_back({path, printable(words_of(chosen, *place))});
            target->put(last, chosen);
        } else if (const auto* whole = std::get_if<std::int64_t>(&combination[a])) {
            settings.push_back({path, fmt::format("{}", *whole)});
            target->put(last, {.value = *whole, .place = {}});
        } else {
            const double value = std::get<double>(combination[a]);
            settings.push_back({path, fmt::format("{}", value)});
            target->put(last, {.value = value, .place = {}});
        }
    }
    return settings;
}

std::string describe(const std::vector<VariedSetting>& settings) {
    const auto last_keys = [](const std::string& path, std::size_t keys) {
        std::size_t begin = path.size() + 1;
        for (std::size_t k = 0; k < keys && begin > 0; ++k)
            begin = begin < 2 ? 0 : path.rfind('.', begin - 2) + 1;
        return path.substr(begin);
    };
    std::vector<std::string> parts;
    for (const VariedSetting& setting : settings) {
        std::string name;
        for (std::size_t keys = 1; keys <= 16; ++keys) {
            name = last_keys(setting.path, keys);
            const auto same = std::count_if(
                settings.begin(), settings.end(),
                [&](const VariedSetting& other) { return last_keys(other.path, keys) == name; });
            if (same == 1) break;
        }
        parts.push_back(name + " " + setting.value);
    }
    return fmt::format("{}", fmt::join(parts, ", "));
}

}  // namespace jevrin::inline v1
