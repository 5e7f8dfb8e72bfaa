#include "commands.hpp"
#include "output.hpp"
#include "runs_table.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/run_table.hpp"

#include <fmt/format.h>

#include <set>

namespace jevrin::app {
namespace {

struct RunsOptions {
    LedgerOptions ledger;
    std::vector<std::string> conditions;
    std::vector<std::string> tags;
    std::string sort;
    std::string group;
    bool differing = false;
    bool archived = false;
    std::filesystem::path csv;

    bool asks_settings() const {
        return !conditions.empty() || !tags.empty() || !sort.empty() || !group.empty() || differing ||
               !csv.empty();
    }
};

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
    json["validation"] = run.best ? Json{{"accuracy", run.best->validation.accuracy()},
                                         {"balanced_accuracy", run.best->validation.balanced_accuracy()},
                                         {"macro_f1", run.best->validation.macro_f1()},
                                         {"loss", run.best->validation_loss}}
                                  : Json();
    json["parameters"] = run.parameters;
    json["trainable_parameters"] = run.trainable_parameters;
    json["multiplications"] = run.multiplications;
    json["seconds"] = run.seconds;
    json["image_set_version"] = run.image_set_version;
    json["tags"] = run.tags;
    json["note"] = run.note;
    json["test_looks"] = looks_with(looks, run.name());
    if (!run.reason.empty()) json["reason"] = run.reason;
    return json;
}

std::string to_csv(const std::vector<RunRow>& rows) {
    std::set<std::string> keys;
    for (const RunRow& row : rows)
        for (const auto& [key, value] : row.values)
            if (key != "run") keys.insert(key);
    std::vector<std::string> cells = {"run"};
    cells.insert(cells.end(), keys.begin(), keys.end());
    std::string text = csv_row(cells);
    for (const RunRow& row : rows) {
        cells = {row.run.name()};
        for (const std::string& key : keys) {
            const auto value = row.values.find(key);
            cells.push_back(value == row.values.end() ? "" : spoken_value(value->second));
        }
        text += csv_row(cells);
    }
    return text;
}

// What is not the same in all of them, setting by setting.
std::string differing_table(const std::vector<RunRow>& rows, Metric metric) {
    const std::vector<std::string> keys = differing_settings(rows);
    if (keys.empty()) return "these runs have the same settings\n";
    std::vector<std::string> heads = {"run"};
    // The end of a path, where it is the only one.
    for (const std::string& key : keys) {
        const std::string end = key.substr(key.rfind('.') == std::string::npos ? 0 : key.rfind('.') + 1);
        const auto same = std::count_if(keys.begin(), keys.end(), [&](const std::string& other) {
            return other == end || other.ends_with("." + end);
        });
        heads.push_back(same == 1 ? end : key);
    }
    heads.push_back(spoken_metric(metric));
    Table table(heads, {heads.size() - 1});
    for (const RunRow& row : rows) {
        std::vector<std::string> cells = {short_cell(row.run.name())};
        for (const std::string& key : keys) {
            const auto value = row.values.find(key);
            cells.push_back(value == row.values.end() ? "" : short_cell(spoken_value(value->second), 24));
        }
        cells.push_back(row.run.best ? three_decimals(validation_score(*row.run.best, metric)) : "-");
        table.add(std::move(cells));
    }
    return table.text();
}

std::string group_table(const std::vector<RunGroup>& groups, const std::string& key, Metric metric) {
    Table table({key, "runs", "finished", spoken_metric(metric), "lowest", "highest", "seconds"},
                {1, 2, 3, 4, 5, 6});
    for (const RunGroup& group : groups)
        table.add({short_cell(group.value), with_commas(group.runs), with_commas(group.finished),
                   group.mean ? three_decimals(*group.mean) : "-",
                   group.mean ? three_decimals(group.lowest) : "-",
                   group.mean ? three_decimals(group.highest) : "-", fmt::format("{:.2f}", group.seconds)});
    return table.text();
}

void print_groups(const RunsOptions& options, const std::vector<RunGroup>& groups, Metric metric) {
    if (!options.ledger.json) {
        print(group_table(groups, options.group, metric));
        return;
    }
    Json json = Json::array();
    for (const RunGroup& group : groups)
        json.push_back({{options.group, group.value},
                        {"runs", group.runs},
                        {"finished", group.finished},
                        {"mean", group.mean ? Json(*group.mean) : Json()},
                        {"lowest", group.mean ? Json(group.lowest) : Json()},
                        {"highest", group.mean ? Json(group.highest) : Json()},
                        {"seconds", group.seconds}});
    print_json(json);
}

void runs(const RunsOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const Metric metric = open.study.metric;
    std::vector<RunRecord> all =
        options.archived ? open.ledger.archived_runs(open.study.id) : open.ledger.runs(open.study.id);
    std::vector<RunRow> rows;
    if (options.asks_settings()) {
        rows = run_rows(open.ledger, all);
        keep_where(rows, options.conditions);
        for (const std::string& tag : options.tags) keep_where(rows, {"tags=" + tag});
        if (!options.sort.empty()) sort_by(rows, options.sort);
        all.clear();
        for (const RunRow& row : rows) all.push_back(row.run);
    }
    if (!options.csv.empty()) write_file(options.csv, to_csv(rows));
    if (!options.group.empty()) {
        print_groups(options, group_by(rows, options.group, metric), metric);
        return;
    }
    if (options.ledger.json) {
        Json json = Json::array();
        const std::vector<TestLook> looks = open.ledger.test_looks(open.study.id);
        const std::vector<std::string> keys =
            options.differing ? differing_settings(rows) : std::vector<std::string>();
        for (std::size_t k = 0; k < all.size(); ++k) {
            json.push_back(to_json(all[k], looks));
            for (const std::string& key : keys)
                json.back()["settings"][key] =
                    rows[k].values.contains(key) ? Json(rows[k].values.at(key)) : Json();
        }
        print_json(json);
        return;
    }
    if (options.differing)
        print(differing_table(rows, metric));
    else
        print(fmt::format("study '{}': {}", open.study.name, runs_table(all, metric)));
    if (open.study.image_set_version > 1)
        print(fmt::format("the image set is version {} of {}; --json says which one each run saw\n",
                          open.study.image_set_version, printable(open.study.image_root)));
    if (!options.archived)
        if (const auto away = open.ledger.archived_runs(open.study.id); !away.empty())
            print(fmt::format("{} put away; --archived shows {}\n", plural(std::ssize(away), "run"),
                              away.size() == 1 ? "it" : "them"));
    print("scores are of the validation part; " + test_look_line(open));
    print_written({options.csv});
}

}  // namespace

void add_runs(Command& command) {
    auto options = std::make_shared<RunsOptions>();
    command
        .add_option(
            "--where", options->conditions,
            "only runs for which this holds, as KEY=VALUE, !=, <, <=, >, >=, or KEY~TEXT; several must all "
            "hold. A key is a column or a setting: regime=frozen, 'learning_rate<0.01'")
        .type_name("CONDITION");
    command.add_option("--tag", options->tags, "only runs with this tag").type_name("TAG");
    command.add_option("--sort", options->sort, "by a column or setting; -KEY from the largest down")
        .type_name("KEY");
    command.add_option("--group", options->group, "a line for each value of a column or setting")
        .type_name("KEY");
    command.add_flag("--differing", options->differing,
                     "show only the settings that are not the same in all");
    command.add_flag("--archived", options->archived, "the runs that were put away");
    add_table_option(command, options->csv, "write them with every setting as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { runs(*options); });
}

}  // namespace jevrin::app
