#include "jevrin/comparison/run_table.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <set>

namespace jevrin::inline v1 {
namespace {

// What a run has besides its settings.
const std::set<std::string>& record_keys() {
    static const std::set<std::string> keys = [] {
        std::set<std::string> all = {"run",
                                     "candidate",
                                     "origin",
                                     "regime",
                                     "seed",
                                     "fold",
                                     "state",
                                     "external",
                                     "epochs",
                                     "best_epoch",
                                     "loss",
                                     "seconds",
                                     "parameters",
                                     "tags",
                                     "note",
                                     "trainable_parameters",
                                     "multiplications",
                                     "prediction_milliseconds",
                                     "prediction_batch_milliseconds",
                                     "prediction_bytes",
                                     "image_set_version"};
        for (const Metric metric : all_metrics) all.insert(name_of(metric));
        return all;
    }();
    return keys;
}

bool is_of_record(const std::string& key) {
    return record_keys().contains(key);
}

std::string spoken_value(const Json& value) {
    if (value.is_null()) return "";
    if (value.is_string()) return value.get<std::string>();
    if (value.is_array()) {
        std::string text;
        for (const Json& element : value) text += (text.empty() ? "" : " ") + spoken_value(element);
        return text;
    }
    if (value.is_float()) return fmt::format("{:.6g}", value.get<double>());
    return json_text(value);
}

RunValue run_value(const Json& value) {
    RunValue result{.text = spoken_value(value), .json = json_text(value)};
    if (value.is_number()) result.number = value.get<double>();
    if (value.is_array())
        for (const Json& element : value) result.elements.push_back(spoken_value(element));
    return result;
}

void flatten(const Json& value, const std::string& path, std::map<std::string, RunValue>& values) {
    if (value.is_object() && (path.empty() || !value.empty())) {
        for (const auto& [key, inner] : value.items())
            flatten(inner, path.empty() ? key : path + "." + key, values);
    } else if (!is_of_record(path)) {
        values[path] = run_value(value);
    }
}

RunRow row_of(const Ledger& ledger, const RunRecord& run) {
    RunRow row{.run = run, .values = {}};
    const Json settings = parse_json(ledger.settings(run.id));
    if (settings.is_object()) flatten(settings, "", row.values);
    const auto put = [&](const std::string& key, const Json& value) { row.values[key] = run_value(value); };
    put("run", run.name());
    put("candidate", run.candidate);
    put("origin", run.origin);
    put("regime", name_of(run.regime));
    put("seed", run.seed);
    put("fold", run.fold);
    put("state", name_of(run.state));
    put("external",
        run.external ? Json(run.external->program.empty() ? "elsewhere" : run.external->program) : Json());
    put("epochs", run.epochs);
    put("seconds", run.seconds);
    put("parameters", run.parameters);
    put("trainable_parameters", run.trainable_parameters);
    put("multiplications", run.multiplications);
    const auto measured = [&](auto PredictionCost::*member) {
        return run.prediction_cost ? Json((*run.prediction_cost).*member) : Json();
    };
    put("prediction_milliseconds", measured(&PredictionCost::milliseconds));
    put("prediction_batch_milliseconds", measured(&PredictionCost::batch_milliseconds));
    put("prediction_bytes", measured(&PredictionCost::bytes));
    put("image_set_version", run.image_set_version);
    put("tags", run.tags);
    put("note", run.note);
    const auto best = [&](auto value) { return run.best ? Json(value(*run.best)) : Json(); };
    put("best_epoch", best([](const EpochRecord& e) { return e.epoch; }));
    put("loss", best([](const EpochRecord& e) { return e.validation_loss; }));
    for (const Metric metric : all_metrics)
        put(name_of(metric), best([metric](const EpochRecord& e) { return validation_score(e, metric); }));
    return row;
}

std::optional<double> number_in(const std::string& text) {
    double value = 0.0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc() || end != text.data() + text.size()) return std::nullopt;
    return value;
}

// Below 0, 0, above 0; nothing when the value is not there.
std::optional<int> compare(const RunValue& value, const std::string& with) {
    if (!value.is_there()) return std::nullopt;
    const std::optional<double> number = number_in(with);
    if (value.number && number) return *value.number < *number ? -1 : *value.number > *number ? 1 : 0;
    return value.text.compare(with);
}

struct Condition {
    std::string key;
    std::string sign;
    std::string value;

    bool holds(const RunRow& row) const {
        const RunValue& own = row.value(key);
        if (key == "tags" && (sign == "=" || sign == "!=")) {
            const bool has = std::find(own.elements.begin(), own.elements.end(), value) != own.elements.end();
            return has == (sign == "=");
        }
        if (sign == "~") return own.is_there() && own.text.find(value) != std::string::npos;
        const std::optional<int> order = compare(own, value);
        if (!order) return sign == "!=";
        if (sign == "=") return *order == 0;
        if (sign == "!=") return *order != 0;
        if (sign == "<") return *order < 0;
        if (sign == "<=") return *order <= 0;
        return sign == ">" ? *order > 0 : *order >= 0;
    }
};

Condition read_condition(const std::vector<RunRow>& rows, const std::string& text) {
    const std::size_t place = text.find_first_of("=!<>~");
    const std::string_view rest =
        place == std::string::npos ? std::string_view() : std::string_view(text).substr(place);
    std::string sign;
    for (const char* candidate : {"!=", "<=", ">=", "=", "<", ">", "~"})
        if (sign.empty() && rest.starts_with(candidate)) sign = candidate;
    if (place == 0 || sign.empty())
        throw InputError(
            fmt::format("'{}' is not a condition; write KEY=VALUE, with =, !=, <, <=, >, >= or ~ (contains)",
                        printable(text)));
    const auto trimmed = [](std::string word) {
        word.erase(0, word.find_first_not_of(' '));
        word.erase(word.find_last_not_of(' ') + 1);
        return word;
    };
    return {key_called(rows, trimmed(text.substr(0, place))), sign,
            trimmed(text.substr(place + sign.size()))};
}

bool comes_before(const RunValue& a, const RunValue& b) {
    return a.number && b.number ? *a.number < *b.number : a.text < b.text;
}

}  // namespace

const RunValue& RunRow::value(const std::string& key) const {
    static const RunValue nothing;
    const auto found = values.find(key);
    return found == values.end() ? nothing : found->second;
}

std::vector<RunRow> run_rows(const Ledger& ledger, const std::vector<RunRecord>& runs) {
    std::vector<RunRow> rows;
    rows.reserve(runs.size());
    for (const RunRecord& run : runs) rows.push_back(row_of(ledger, run));
    return rows;
}

std::string key_called(const std::vector<RunRow>& rows, const std::string& word) {
    std::set<std::string> keys = record_keys();
    for (const RunRow& row : rows)
        for (const auto& [key, value] : row.values) keys.insert(key);
    if (keys.contains(word)) return word;
    std::vector<std::string> meant;
    std::vector<std::string> known;
    for (const std::string& key : keys) {
        if (key.ends_with("." + word)) meant.push_back(key);
        known.push_back(key);
        if (const std::size_t dot = key.rfind('.'); dot != std::string::npos)
            known.push_back(key.substr(dot + 1));
    }
    if (meant.size() == 1) return meant.front();
    if (meant.size() > 1)
        throw InputError(fmt::format("'{}' is ambiguous: {}; write the full key", printable(word),
                                     fmt::join(meant, " or ")));
    throw InputError(fmt::format("no run has a '{}'{}; a table of the runs as CSV has every key",
                                 printable(word), did_you_mean(word, known)));
}

void keep_where(std::vector<RunRow>& rows, const std::vector<std::string>& conditions) {
    std::vector<Condition> all;
    for (const std::string& text : conditions) all.push_back(read_condition(rows, text));
    std::erase_if(rows, [&](const RunRow& row) {
        return !std::all_of(all.begin(), all.end(),
                            [&](const Condition& condition) { return condition.holds(row); });
    });
}

void sort_by(std::vector<RunRow>& rows, const std::string& key) {
    const bool down = key.starts_with("-");
    const std::string called = key_called(rows, down ? key.substr(1) : key);
    std::stable_sort(rows.begin(), rows.end(), [&](const RunRow& a, const RunRow& b) {
        const RunValue& left = a.value(called);
        const RunValue& right = b.value(called);
        if (!left.is_there() || !right.is_there()) return left.is_there() && !right.is_there();
        return down ? comes_before(right, left) : comes_before(left, right);
    });
}

std::vector<std::string> differing_settings(const std::vector<RunRow>& rows) {
    std::set<std::string> keys;
    for (const RunRow& row : rows)
        for (const auto& [key, value] : row.values)
            if (!is_of_record(key) && !key.starts_with("scaling") && key != "images.fingerprint" &&
                key != "images.parts.fold")
                keys.insert(key);
    std::vector<std::string> differing;
    for (const std::string& key : keys)
        if (std::any_of(rows.begin(), rows.end(),
                        [&](const RunRow& row) { return !(row.value(key) == rows.front().value(key)); }))
            differing.push_back(key);
    return differing;
}

std::vector<RunGroup> group_by(const std::vector<RunRow>& rows, const std::string& key, Metric metric) {
    const std::string called = key_called(rows, key);
    std::vector<RunGroup> groups;
    for (const RunRow& row : rows) {
        const std::string value = row.value(called).text;
        auto group = std::find_if(groups.begin(), groups.end(),
                                  [&](const RunGroup& known) { return known.value == value; });
        if (group == groups.end()) group = groups.insert(groups.end(), RunGroup{.value = value});
        ++group->runs;
        group->seconds += row.run.seconds;
        if (row.run.state != RunState::finished || !row.run.best) continue;
        const double reached = validation_score(*row.run.best, metric);
        group->lowest = group->finished == 0 ? reached : std::min(group->lowest, reached);
        group->highest = group->finished == 0 ? reached : std::max(group->highest, reached);
        ++group->finished;
        // The mean so far.
        group->mean = group->mean.value_or(0.0) +
                      (reached - group->mean.value_or(0.0)) / static_cast<double>(group->finished);
    }
    return groups;
}

}  // namespace jevrin::inline v1
