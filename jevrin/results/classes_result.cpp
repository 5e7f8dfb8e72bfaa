#include "jevrin/results/classes_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/predictions_json.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <limits>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

struct Column {
    const char* name;
    bool is_count;
    double (*value)(const ClassScores&);
};

double or_nothing(const std::optional<double>& value) {
    return value.value_or(std::numeric_limits<double>::quiet_NaN());
}

constexpr Column all_columns[] = {
    {"support", true, [](const ClassScores& s) { return static_cast<double>(s.support); }},
    {"correct", true, [](const ClassScores& s) { return static_cast<double>(s.true_positives); }},
    {"false_positives", true, [](const ClassScores& s) { return static_cast<double>(s.false_positives); }},
    {"false_negatives", true, [](const ClassScores& s) { return static_cast<double>(s.false_negatives); }},
    {"precision", false, [](const ClassScores& s) { return s.precision; }},
    {"recall", false, [](const ClassScores& s) { return s.recall; }},
    {"f1", false, [](const ClassScores& s) { return s.f1; }},
    {"roc_auc", false, [](const ClassScores& s) { return or_nothing(s.roc_auc); }},
    {"average_precision", false, [](const ClassScores& s) { return or_nothing(s.average_precision); }},
};

const Column& column_called(const std::string& name) {
    std::vector<std::string> names;
    for (const Column& column : all_columns) {
        if (name == column.name) return column;
        names.emplace_back(column.name);
    }
    throw InputError(fmt::format("no column is called '{}'{}; there are {}", printable(name),
                                 did_you_mean(name, names), fmt::join(names, ", ")));
}

std::vector<std::size_t> order_of(const std::vector<ClassScores>& scores, const ClassesQuery& query) {
    std::vector<std::size_t> order(scores.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    if (query.sort != "name") {
        const Column& column = column_called(query.sort);
        const auto key = [&](std::size_t c) {
            const double value = column.value(scores[c]);
            // What is not defined comes last.
            if (std::isnan(value)) return std::numeric_limits<double>::infinity();
            return column.is_count ? -value : value;
        };
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return key(a) < key(b); });
    }
    if (query.reversed) std::reverse(order.begin(), order.end());
    return order;
}

std::string spoken_head(const std::string& name) {
    std::string head = name == "f1" ? "F1" : name == "roc_auc" ? "ROC AUC" : name;
    std::replace(head.begin(), head.end(), '_', ' ');
    return head;
}

std::string confusions(const ClassesResult& result) {
    constexpr std::size_t most = 5;
    const std::vector<std::string>& classes = result.of.classes();
    const std::vector<Confusion> cells = strongest_confusions(result.matrix(), most);
    if (cells.empty()) return "no mistakes\n";
    std::string text = "most frequent confusions:\n";
    for (const Confusion& confusion : cells)
        text +=
            fmt::format("  {} predicted as {}: {} of {}\n", shortened_name(classes[confusion.true_class], 40),
                        shortened_name(classes[confusion.predicted], 40), confusion.count, confusion.support);
    return text;
}

std::string weakest(const ClassesResult& result) {
    constexpr std::size_t most = 3;
    const std::vector<ClassScores>& scores = result.scores;
    std::vector<std::size_t> order;
    for (std::size_t c = 0; c < scores.size(); ++c)
        if (scores[c].support > 0) order.push_back(c);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return scores[a].recall < scores[b].recall; });
    std::string text = "weakest classes: ";
    for (std::size_t k = 0; k < std::min(most, order.size()); ++k) {
        const ClassScores& own = scores[order[k]];
        text += fmt::format("{}{} ({} of {} found, recall {:.3f} to {:.3f})", k == 0 ? "" : ", ",
                            shortened_name(result.of.classes()[order[k]], 40), own.true_positives,
                            own.support, own.recall_interval.low, own.recall_interval.high);
    }
    return text + "\n";
}

}  // namespace

std::string ClassesResult::title() const {
    const ConfusionMatrix all = matrix();
    return fmt::format("{}: {} of {} correct", of.what(), all.correct(), all.total());
}

void require_columns(const ClassesQuery& query) {
    for (const std::string& name : query.columns) column_called(name);
    if (query.sort != "name") column_called(query.sort);
}

ClassesResult report_classes(RunPredictions of, const ClassesQuery& query) {
    require_columns(query);
    ClassesResult result{.of = std::move(of), .scores = {}, .order = {}, .columns = query.columns};
    if (result.columns.empty())
        for (const Column& column : all_columns) result.columns.emplace_back(column.name);
    result.scores = score_classes(result.of.table());
    result.order = order_of(result.scores, query);
    return result;
}

std::string to_json(const ClassesResult& result) {
    const std::vector<std::string>& classes = result.of.classes();
    Json json = head_json(result.of);
    json["correct"] = result.matrix().correct();
    json["classes"] = Json::array();
    for (const std::size_t c : result.order) {
        const ClassScores& scores = result.scores[c];
        Json entry = {{"class", classes[c]}};
        for (const Column& column : all_columns) {
            const double value = column.value(scores);
            entry[column.name] = column.is_count ? Json(static_cast<std::int64_t>(value)) : number(value);
        }
        entry["precision_interval"] = interval_json(scores.precision_interval);
        entry["recall_interval"] = interval_json(scores.recall_interval);
        json["classes"].push_back(std::move(entry));
    }
    json["confusions"] = Json::array();
    constexpr std::size_t most = 100;
    for (const Confusion& confusion : strongest_confusions(result.matrix(), most))
        json["confusions"].push_back({{"true", classes[confusion.true_class]},
                                      {"predicted", classes[confusion.predicted]},
                                      {"count", confusion.count},
                                      {"support", confusion.support}});
    return document(json);
}

ResultTable to_table(const ClassesResult& result) {
    std::vector<TableColumn> columns = {{.key = "class", .head = "class"}};
    for (const std::string& name : result.columns)
        columns.push_back({.key = name, .head = spoken_head(name), .align = Align::right});
    ResultTable table(std::move(columns));
    for (const std::size_t c : result.order) {
        std::vector<TableCell> cells = {name_cell(result.of.classes()[c])};
        for (const std::string& name : result.columns) {
            const Column& column = column_called(name);
            const double value = column.value(result.scores[c]);
            cells.emplace_back(column.is_count ? fmt::format("{:.0f}", value) : three_decimals(value));
        }
        table.add(std::move(cells));
    }
    return table;
}

std::string to_text(const ClassesResult& result, const TextForm& form) {
    const ConfusionMatrix matrix = result.matrix();
    const std::size_t rows = form.rows_of(result.order.size(), 0);
    return fmt::format("{}, {} wrong\n", result.title(), matrix.total() - matrix.correct()) +
           weakest(result) + confusions(result) + "\n" + to_table(result).text(form.width, rows) +
           form.and_more(result.order.size() - rows, "classes") + "\n";
}

}  // namespace jevrin::inline v1
