#include "jevrin/pages/view.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/pages/view_functions.hpp"

#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <charconv>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

InputError wrong_parameter(const std::string& name, const std::string& wanted) {
    return InputError(fmt::format("parameter '{}': {} is wanted", printable(name), wanted));
}

}  // namespace

const std::string& ViewQuery::text(const std::string& name) const {
    static const std::string none;
    const auto found = parameters.find(name);
    return found == parameters.end() ? none : found->second;
}

const std::string& ViewQuery::required(const std::string& name) const {
    const std::string& value = text(name);
    if (value.empty()) throw wrong_parameter(name, "a name");
    return value;
}

std::vector<std::string> ViewQuery::list(const std::string& name) const {
    const std::string& value = text(name);
    if (value.empty()) return {};
    const Json json = parse_json(value);
    const bool fits = json.is_array() &&
                      std::all_of(json.begin(), json.end(), [](const Json& one) { return one.is_string(); });
    if (!fits) throw wrong_parameter(name, "a JSON array of strings");
    return json.get<std::vector<std::string>>();
}

std::int64_t ViewQuery::number(const std::string& name, std::int64_t otherwise, std::int64_t most) const {
    const std::string& value = text(name);
    if (value.empty()) return otherwise;
    std::int64_t number = -1;
    const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), number);
    if (error != std::errc() || end != value.data() + value.size() || number < 0 || number > most)
        throw wrong_parameter(name, fmt::format("a number from 0 to {}", most));
    return number;
}

std::span<const View> all_views() {
    static const View views[] = {
        {"study", {}, study_view},
        {"choice", {"cost"}, choice_view, Lifetime::results},
        {"settings", {}, settings_view},
        {"curves", {"runs"}, curves_view},
        {"run", {"run"}, run_view},
        {"scores", {"run"}, scores_view, Lifetime::run},
        {"classes", {"run"}, classes_view, Lifetime::run},
        {"matrices", {"run", "from", "to"}, matrices_view},
        {"items", {"run", "epoch"}, items_view, Lifetime::run},
        {"item", {"item"}, item_view},
        {"neighbours", {"run", "item"}, neighbours_view, Lifetime::run},
        {"layers", {"run", "from", "to"}, layers_view},
        {"difference", {"first", "second"}, difference_view, Lifetime::results},
        {"suspects", {"runs", "source"}, suspects_view, Lifetime::results},
        {"marks", {}, marks_view},
        {"thresholds", {"run", "class"}, thresholds_view, Lifetime::run},
        {"survey", {}, survey_view, Lifetime::images},
        {"sample", {"seed", "per_class"}, sample_view, Lifetime::images},
        {"prepared", {"run", "item", "versions"}, prepared_view, Lifetime::run},
        {"network", {"run"}, network_view, Lifetime::run},
        {"activations", {"run", "item", "layer"}, activations_view, Lifetime::run},
    };
    return views;
}

const View& view_called(const std::string& name) {
    const auto views = all_views();
    const auto view =
        std::find_if(views.begin(), views.end(), [&](const View& one) { return name == one.name; });
    if (view == views.end()) throw NoView(fmt::format("there is no view '{}'", printable(name)));
    return *view;
}

Json view_data(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const View& view = view_called(query.view);
    for (const auto& [name, value] : query.parameters)
        if (std::find(view.parameters.begin(), view.parameters.end(), name) == view.parameters.end())
            throw InputError(fmt::format("view '{}' has no parameter '{}'{}", query.view, printable(name),
                                         did_you_mean(name, view.parameters)));
    return view.data(ledger, study, query);
}

std::string without_paths(const std::string& text) {
    static const re2::RE2 path(R"re((^|[\s"'(=:\[])/(?:[^\s"'/]+(?: [^\s"'/]+)*/)+([^\s"'/]*))re");
    std::string result = text;
    re2::RE2::GlobalReplace(&result, path, R"(\1…/\2)");
    return result;
}

Json short_number(double value) {
    if (!std::isfinite(value)) return {};
    if (value == std::round(value) && std::abs(value) < 1e15) return static_cast<std::int64_t>(value);
    const double scale = std::pow(10.0, 5.0 - std::floor(std::log10(std::abs(value))));
    return std::isfinite(scale) && scale > 0.0 ? std::round(value * scale) / scale : value;
}

}  // namespace jevrin::inline v1
