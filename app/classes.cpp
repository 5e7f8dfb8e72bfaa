#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/classes_figure.hpp"
#include "jevrin/metrics/scores.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace jevrin::app {
namespace {

struct Column {
    const char* name;
    bool is_count;
    double (*value)(const ClassScores&);
};

double or_nothing(const std::optional<double>& value) {
    return value.value_or(std::numeric_limits<double>::quiet_NaN());
}

constexpr Column columns[] = {
    {"support", true, [](const ClassScores& s) { return static_cast<double>(s.support); }},
    {"right", true, [](const ClassScores& s) { return static_cast<double>(s.true_positives); }},
    {"false_positives", true, [](const ClassScores& s) { return static_cast<double>(s.false_positives); }},
    {"false_negatives", true, [](const ClassScores& s) { return static_cast<double>(s.false_negatives); }},
    {"precision", false, [](const ClassScores& s) { return s.precision; }},
    {"recall", false, [](const ClassScores& s) { return s.recall; }},
    {"f1", false, [](const ClassScores& s) { return s.f1; }},
    {"roc_auc", false, [](const ClassScores& s) { return or_nothing(s.roc_auc); }},
    {"average_precision", false, [](const ClassScores& s) { return or_nothing(s.average_precision); }},
};

struct ClassesOptions {
    PredictionOptions predictions;
    std::vector<std::string> columns;
    std::string sort = "recall";
    bool reverse = false;
    std::size_t most = 0;  // 0: all
    std::filesystem::path csv;
    std::filesystem::path figure;
};

const Column& column_called(const std::string& name) {
    std::vector<std::string> names;
    for (const Column& column : columns) {
        if (name == column.name) return column;
        names.emplace_back(column.name);
    }
    throw InputError(fmt::format("no column is called '{}'{}; there are {}", printable(name),
                                 did_you_mean(name, names), fmt::join(names, ", ")));
}

// The weakest first; by counts, the largest first; "name" keeps the order of the classes.
std::vector<std::size_t> order_of(const std::vector<ClassScores>& scores, const ClassesOptions& options) {
    std::vector<std::size_t> order(scores.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    if (options.sort != "name") {
        const Column& column = column_called(options.sort);
        const auto key = [&](std::size_t c) {
            const double value = column.value(scores[c]);
            // What is not defined comes last.
            if (std::isnan(value)) return std::numeric_limits<double>::infinity();
            return column.is_count ? -value : value;
        };
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return key(a) < key(b); });
    }
    if (options.reverse) std::reverse(order.begin(), order.end());
    return order;
}

std::string cell(const Column& column, const ClassScores& scores) {
    const double value = column.value(scores);
    return column.is_count ? fmt::format("{:.0f}", value) : three_decimals(value);
}

std::string spoken_head(const std::string& name) {
    std::string head = name == "f1" ? "F1" : name == "roc_auc" ? "ROC AUC" : name;
    std::replace(head.begin(), head.end(), '_', ' ');
    return head;
}

std::string confusions(const OpenPredictions& open) {
    constexpr std::size_t most = 5;
    const std::vector<Confusion> cells = strongest_confusions(open.predictions.matrix(), most);
    if (cells.empty()) return "no mistakes\n";
    std::string text = "strongest confusions:\n";
    for (const Confusion& confusion : cells)
        text +=
            fmt::format("  {} called {}: {} of {}\n", short_cell(open.classes()[confusion.true_class]),
                        short_cell(open.classes()[confusion.predicted]), confusion.count, confusion.support);
    const Confusion& first = cells.front();
    return text + fmt::format("next: jevrin mistakes {} --true {} --called {}\n", shell_word(open.run.name()),
                              shell_word(open.classes()[first.true_class]),
                              shell_word(open.classes()[first.predicted]));
}

std::string weakest(const OpenPredictions& open, const std::vector<ClassScores>& scores) {
    constexpr std::size_t most = 3;
    std::vector<std::size_t> order;
    for (std::size_t c = 0; c < scores.size(); ++c)
        if (scores[c].support > 0) order.push_back(c);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return scores[a].recall < scores[b].recall; });
    std::string text = "weakest classes: ";
    for (std::size_t k = 0; k < std::min(most, order.size()); ++k) {
        const ClassScores& own = scores[order[k]];
        text += fmt::format("{}{} ({} of {} found, recall {:.2f} to {:.2f})", k == 0 ? "" : ", ",
                            short_cell(open.classes()[order[k]]), own.true_positives, own.support,
                            own.recall_interval.low, own.recall_interval.high);
    }
    return text + "\n";
}

Json to_json(const OpenPredictions& open, const std::vector<ClassScores>& scores,
             const std::vector<std::size_t>& order) {
    Json json = open.json();
    json["right"] = open.predictions.matrix().correct();
    json["classes"] = Json::array();
    for (const std::size_t c : order) {
        Json entry = {{"class", open.classes()[c]}};
        for (const Column& column : columns) {
            const double value = column.value(scores[c]);
            entry[column.name] = column.is_count ? Json(static_cast<std::int64_t>(value)) : number(value);
        }
        entry["precision_interval"] = interval_json(scores[c].precision_interval);
        entry["recall_interval"] = interval_json(scores[c].recall_interval);
        json["classes"].push_back(std::move(entry));
    }
    json["confusions"] = Json::array();
    constexpr std::size_t most = 100;
    for (const Confusion& confusion : strongest_confusions(open.predictions.matrix(), most))
        json["confusions"].push_back({{"true", open.classes()[confusion.true_class]},
                                      {"called", open.classes()[confusion.predicted]},
                                      {"count", confusion.count},
                                      {"support", confusion.support}});
    return json;
}

void classes(const ClassesOptions& options) {
    std::vector<const Column*> shown;
    for (const std::string& name : options.columns) shown.push_back(&column_called(name));
    if (shown.empty())
        for (const Column& column : columns) shown.push_back(&column);
    const OpenPredictions open = open_predictions(options.predictions);
    const std::vector<ClassScores> scores = score_classes(open.table());
    const std::vector<std::size_t> order = order_of(scores, options);
    std::vector<std::string> heads = {"class"};
    std::vector<std::size_t> right;
    std::string rows;
    std::vector<std::string> cells = {"class"};
    for (const Column* column : shown) {
        heads.push_back(spoken_head(column->name));
        right.push_back(heads.size() - 1);
        cells.emplace_back(column->name);
    }
    Table table(heads, right);
    std::string csv = csv_row(cells);
    const std::size_t most = options.most == 0 ? order.size() : std::min(options.most, order.size());
    for (std::size_t place = 0; place < order.size(); ++place) {
        const std::size_t c = order[place];
        cells = {open.classes()[c]};
        for (const Column* column : shown) cells.push_back(cell(*column, scores[c]));
        csv += csv_row(cells);
        cells[0] = short_cell(cells[0]);
        if (place < most) table.add(cells);
    }
    if (!options.csv.empty()) write_file(options.csv, csv);
    const ConfusionMatrix matrix = open.predictions.matrix();
    if (!options.figure.empty())
        draw_classes(scores, open.classes(), order,
                     fmt::format("{}: {} of {} right", open.what(), matrix.correct(), matrix.total()),
                     options.figure);
    if (options.predictions.ledger.json) {
        print_json(to_json(open, scores, order));
        return;
    }
    print(fmt::format("{}: {} of {} right, {} wrong\n", open.what(), matrix.correct(), matrix.total(),
                      matrix.total() - matrix.correct()));
    print(weakest(open, scores) + confusions(open) + "\n" + table.text());
    if (most < order.size()) print(fmt::format("... and {} more classes\n", order.size() - most));
    print("\n" + test_look_line(open.open));
    print_written({options.csv, options.figure});
}

}  // namespace

void add_classes(Command& command) {
    auto options = std::make_shared<ClassesOptions>();
    add_prediction_options(command, options->predictions);
    command
        .add_option("--columns", options->columns,
                    "support, right, false_positives, false_negatives, precision, recall, f1, roc_auc, "
                    "average_precision")
        .type_name("NAME,...")
        .delimiter(',');
    command.add_option("--sort", options->sort, "by this column, the weakest first, or by name")
        .type_name("NAME")
        .capture_default_str();
    command.add_flag("--reverse", options->reverse, "the other way round");
    command.add_option("--most", options->most, "rows to print (default: all)").type_name("N");
    add_table_option(command, options->csv, "write the table");
    add_picture_option(command, "--figure", options->figure, "draw recall and precision");
    command.callback([options] { classes(*options); });
}

}  // namespace jevrin::app
