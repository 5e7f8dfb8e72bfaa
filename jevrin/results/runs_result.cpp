#include "jevrin/results/runs_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <iterator>
#include <set>

namespace jevrin::inline v1 {
namespace {

Json to_json(const RunRecord& run, const std::vector<TestLook>& looks) {
    Json json = {{"run", run.name()},
                 {"candidate", run.candidate},
                 {"regime", name_of(run.regime)},
                 {"origin", run.origin},
                 {"seed", run.seed},
                 {"fold", run.fold},
                 {"state", name_of(run.state)},
                 {"in_training", run.claimed},
                 {"epochs", run.epochs},
                 {"planned_epochs", run.planned_epochs}};
    json["best_epoch"] = run.best ? Json(run.best->epoch) : Json();
    json["validation"] = Json();
    if (run.best) {
        for (const Metric metric : all_metrics)
            json["validation"][name_of(metric)] = validation_score(*run.best, metric);
        json["validation"]["loss"] = run.best->validation_loss;
    }
    json["parameters"] = run.parameters;
    json["trainable_parameters"] = run.trainable_parameters;
    json["multiplications"] = run.multiplications;
    json["seconds"] = run.seconds;
    json["prediction"] = prediction_json(run.prediction_cost);
    json["external"] = external_json(run.external);
    json["image_set_version"] = run.image_set_version;
    json["tags"] = run.tags;
    json["note"] = run.note;
    json["test_looks"] = looks_with(looks, run.name());
    if (!run.reason.empty()) json["reason"] = run.reason;
    return json;
}

// What is not the same in all of them, setting by setting.
std::string differing_text(const RunsResult& result, std::size_t width) {
    const std::vector<std::string>& keys = result.differing;
    if (keys.empty()) return "these runs have the same settings\n";
    const Metric metric = result.study.metric;
    std::vector<TableColumn> columns = {{.key = {}, .head = "run"}};
    // The end of a path, where it is the only one.
    for (const std::string& key : keys) {
        const std::string end = key.substr(key.rfind('.') == std::string::npos ? 0 : key.rfind('.') + 1);
        const auto same = std::count_if(keys.begin(), keys.end(), [&](const std::string& other) {
            return other == end || other.ends_with("." + end);
        });
        // What makes the variants comes first to the eye: it is left out last.
        const bool is_varied = std::any_of(result.rows.begin(), result.rows.end(), [&](const RunRow& row) {
            return std::any_of(row.run.varied.begin(), row.run.varied.end(),
                               [&](const VariedSetting& one) { return key.ends_with(one.path); });
        });
        columns.push_back({.key = {},
                           .head = same == 1 ? end : key,
                           .optional = is_varied ? 0 : static_cast<int>(columns.size())});
    }
    columns.push_back({.key = {}, .head = spoken_metric(metric), .align = Align::right});
    ResultTable table(std::move(columns));
    for (const RunRow& row : result.rows) {
        std::vector<TableCell> cells = {name_cell(row.run.name())};
        for (const std::string& key : keys) cells.push_back(name_cell(row.value(key).text, 24));
        cells.emplace_back(row.run.best ? three_decimals(validation_score(*row.run.best, metric)) : "-");
        table.add(std::move(cells));
    }
    return table.text(width);
}

}  // namespace

std::string spoken_state(const RunRecord& run) {
    if (run.external && run.state != RunState::unverified) return name_of(run.state) + " elsewhere";
    if (run.claimed) return "training";
    return run.state == RunState::training ? "interrupted" : name_of(run.state);
}

std::string runs_text(const std::vector<RunRecord>& runs, const StudyRecord& study, const TextForm& form) {
    if (runs.empty()) return "no runs yet\n";
    const Metric metric = study.metric;
    const RunRecord* counted = run_that_counts(study, runs);
    std::vector<RunRecord> compared;
    std::ranges::copy_if(runs, std::back_inserter(compared), [&](const RunRecord& run) {
        return run.image_set == (counted == nullptr ? study.image_set : counted->image_set);
    });
    const RunRecord* best = best_run(compared, metric);
    std::int64_t finished = 0;
    const auto number = [](const char* head, int optional) {
        return TableColumn{.key = {}, .head = head, .align = Align::right, .optional = optional};
    };
    const auto others = std::ssize(runs) - std::ssize(compared);
    const bool mixed = others > 0 && !compared.empty();
    std::vector<TableColumn> columns = {{.key = {}, .head = "run"},
                                        {.key = {}, .head = "regime", .optional = 4},
                                        {.key = {}, .head = "state"},
                                        number("epochs", 0),
                                        number("best", 0),
                                        number("accuracy", metric == Metric::accuracy ? 0 : 1),
                                        number("balanced", metric == Metric::balanced_accuracy ? 0 : 1),
                                        number("macro F1", metric == Metric::macro_f1 ? 0 : 2),
                                        number("loss", 0),
                                        number("trainable", 3),
                                        number("seconds", 0)};
    if (mixed) columns.insert(columns.begin() + 3, number("set", 0));
    ResultTable table(std::move(columns));
    for (const RunRecord& run : runs) {
        finished += run.state == RunState::finished;
        std::vector<TableCell> cells = {run.name(), name_of(run.regime), spoken_state(run)};
        if (mixed) cells.emplace_back(std::to_string(run.image_set_version));
        cells.emplace_back(fmt::format("{}/{}", run.epochs, run.planned_epochs));
        if (run.best) {
            cells.emplace_back(std::to_string(run.best->epoch));
            for (const Metric one : all_metrics)
                cells.emplace_back(three_decimals(validation_score(*run.best, one)));
            cells.emplace_back(three_decimals(run.best->validation_loss));
        } else {
            cells.insert(cells.end(), 5, "-");
        }
        cells.push_back(run.trainable_parameters > 0 ? count_cell(run.trainable_parameters) : "");
        cells.emplace_back(std::isnan(run.seconds) ? "" : two_digits(run.seconds));
        table.add(std::move(cells));
    }
    std::string text = fmt::format("{} of {} finished", finished, plural(std::ssize(runs), "run"));
    if (best != nullptr)
        text += fmt::format("; the highest {} on validation is {:.3f}, in {}", spoken_metric(metric),
                            validation_score(*best->best, metric), best->name());
    text += "\n\n" + table.text(form.width);
    if (mixed)
        text += fmt::format(
            "{} another version of the image set and {} not compared with those of version {} (set)\n",
            others == 1 ? "1 run used" : fmt::format("{} runs used", others), others == 1 ? "is" : "are",
            compared.front().image_set_version);
    for (const RunRecord& run : runs)
        if (run.state == RunState::failed) text += fmt::format("{} failed: {}\n", run.name(), run.reason);
    if (std::any_of(runs.begin(), runs.end(),
                    [](const RunRecord& run) { return run.state == RunState::unverified; }))
        text +=
            "unverified: trained elsewhere and taken in without predictions; its scores are what it claims\n";
    return text;
}

RunsResult report_runs(const Ledger& ledger, const StudyRecord& study, const RunsQuery& query) {
    RunsResult result{.study = study,
                      .looks = ledger.test_looks(study.id),
                      .rows = {},
                      .differing = {},
                      .shows_differing = query.differing};
    const std::vector<RunRecord> archived = ledger.archived_runs(study.id);
    result.rows = run_rows(ledger, query.archived ? archived : ledger.runs(study.id));
    keep_where(result.rows, query.conditions);
    for (const std::string& tag : query.tags) keep_where(result.rows, {"tags=" + tag});
    if (!query.sort.empty()) sort_by(result.rows, query.sort);
    if (query.differing) result.differing = differing_settings(result.rows);
    if (!query.archived) result.put_away = std::ssize(archived);
    return result;
}

std::string to_json(const RunsResult& result) {
    Json json = Json::array();
    for (const RunRow& row : result.rows) {
        json.push_back(to_json(row.run, result.looks));
        for (const std::string& key : result.differing)
            json.back()["settings"][key] = parse_json(row.value(key).json);
    }
    return document(json);
}

ResultTable to_table(const RunsResult& result) {
    std::set<std::string> keys;
    for (const RunRow& row : result.rows)
        for (const auto& [key, value] : row.values)
            if (key != "run") keys.insert(key);
    std::vector<TableColumn> columns = {{.key = "run", .head = "run"}};
    for (const std::string& key : keys) columns.push_back({.key = key, .head = key});
    ResultTable table(std::move(columns));
    for (const RunRow& row : result.rows) {
        std::vector<TableCell> cells = {row.run.name()};
        for (const std::string& key : keys) cells.emplace_back(row.value(key).text);
        table.add(std::move(cells));
    }
    return table;
}

std::string to_text(const RunsResult& result, const TextForm& form) {
    const StudyRecord& study = result.study;
    std::string text;
    if (result.shows_differing) {
        text = differing_text(result, form.width);
    } else {
        std::vector<RunRecord> runs;
        for (const RunRow& row : result.rows) runs.push_back(row.run);
        text = fmt::format("study '{}': {}", study.name, runs_text(runs, study, form));
    }
    if (study.image_set_version > 1)
        text += fmt::format("the image set is version {} of {}\n", study.image_set_version,
                            printable(study.image_root));
    if (result.put_away > 0) text += plural(result.put_away, "run") + " archived" + form.hint() + "\n";
    return text + "scores are of the validation part; " + test_look_line(result.looks);
}

RunGroupsResult group_runs(const RunsResult& result, const std::string& key) {
    const Metric metric = result.study.metric;
    return {.key = key, .metric = metric, .groups = group_by(result.rows, key, metric)};
}

std::string to_json(const RunGroupsResult& result) {
    Json json = Json::array();
    for (const RunGroup& group : result.groups)
        json.push_back({{result.key, group.value},
                        {"runs", group.runs},
                        {"finished", group.finished},
                        {"mean", or_null(group.mean)},
                        {"lowest", group.mean ? Json(group.lowest) : Json()},
                        {"highest", group.mean ? Json(group.highest) : Json()},
                        {"seconds", group.seconds}});
    return document(json);
}

std::string to_text(const RunGroupsResult& result, const TextForm& form) {
    ResultTable table(
        {result.key, "runs", "finished", spoken_metric(result.metric), "lowest", "highest", "seconds"},
        {1, 2, 3, 4, 5, 6});
    for (const RunGroup& group : result.groups)
        table.add({name_cell(group.value), count_cell(group.runs), count_cell(group.finished),
                   group.mean ? three_decimals(*group.mean) : "-",
                   group.mean ? three_decimals(group.lowest) : "-",
                   group.mean ? three_decimals(group.highest) : "-", two_digits(group.seconds)});
    return table.text(form.width);
}

}  // namespace jevrin::inline v1
