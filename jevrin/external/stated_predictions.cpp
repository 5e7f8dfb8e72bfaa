#include "jevrin/external/stated_predictions.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/external/statement_reader.hpp"
#include "jevrin/images/number_array.hpp"
#include "jevrin/metrics/confusion_matrix.hpp"
#include "jevrin/metrics/predictions.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <unordered_map>

namespace jevrin::inline v1 {
namespace {

float number_of(const std::string& text, const std::string& place) {
    double value = 0.0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc() || end != text.data() + text.size())
        throw InputError(fmt::format("{}: '{}' is not a number; expected a probability from 0 to 1", place,
                                     printable(text)));
    return static_cast<float>(value);
}

// Row by row, the columns in the study's order.
std::vector<float> from_csv(std::string_view text, const ValidationRows& rows, const std::string& place) {
    const CsvReader table(text, place);
    const std::size_t item_column = table.require("item");
    std::vector<std::size_t> columns;
    for (const std::string& name : rows.classes) columns.push_back(table.require(name));
    std::unordered_map<std::string, std::size_t> by_name;  // ids, and paths that one item alone has
    for (std::size_t i = 0; i < rows.items.size(); ++i) {
        by_name[rows.items[i]] = i;
        const auto [known, is_new] = by_name.try_emplace(path_of_item(rows.items[i]), i);
        if (!is_new && known->second != i) known->second = rows.items.size();
    }
    const std::size_t classes = rows.classes.size();
    std::vector<float> probabilities(rows.items.size() * classes);
    std::vector<std::int64_t> lines(rows.items.size(), 0);
    table.for_each([&](const CsvRow& row) {
        const std::string& name = row.cells[item_column];
        const auto known = by_name.find(name);
        if (known == by_name.end())
            throw InputError(fmt::format("{}: '{}' is no item of the validation part of this split",
                                         table.place(row.line), printable(name)));
        if (known->second == rows.items.size())
            throw InputError(fmt::format("{}: several items have the path '{}'; name it by its id",
                                         table.place(row.line), printable(name)));
        const std::size_t i = known->second;
        if (lines[i] != 0)
            throw InputError(fmt::format("{}: '{}' is predicted in line {} already", table.place(row.line),
                                         printable(name), lines[i]));
        lines[i] = row.line;
        for (std::size_t c = 0; c < classes; ++c)
            probabilities[i * classes + c] = number_of(row.cells[columns[c]], table.place(row.line));
    });
    const auto missing = std::count(lines.begin(), lines.end(), 0);
    if (missing > 0) {
        const auto first = std::find(lines.begin(), lines.end(), 0) - lines.begin();
        throw InputError(fmt::format("{}: {} of the validation part {} not predicted, among them '{}'", place,
                                     plural(missing, "item"), missing == 1 ? "is" : "are",
                                     printable(path_of_item(rows.items[static_cast<std::size_t>(first)]))));
    }
    return probabilities;
}

std::vector<float> from_npy(std::string_view text, const ValidationRows& rows, const std::string& place) {
    const auto bytes = std::as_bytes(std::span(text));
    const auto items = static_cast<std::int64_t>(rows.items.size());
    const auto classes = static_cast<std::int64_t>(rows.classes.size());
    const std::vector<std::int64_t> expected = {items, classes};
    try {
        const ArrayLayout layout = read_layout(bytes, bytes.size());
        if (layout.shape != expected ||
            (layout.type != NumberType::float32 && layout.type != NumberType::float64))
            throw InputError(
                fmt::format("expected float32 or float64 of shape [{}, {}]: a row for each item of the "
                            "validation part, a column for each class",
                            items, classes));
        const NumberRows numbers(layout.type, layout.big_endian,
                                 {bytes.begin() + static_cast<std::ptrdiff_t>(layout.offset), bytes.end()});
        std::vector<float> probabilities(static_cast<std::size_t>(items * classes));
        for (std::int64_t i = 0; i < items; ++i)
            for (std::int64_t c = 0; c < classes; ++c)
                probabilities[static_cast<std::size_t>(i * classes) +
                              rows.columns[static_cast<std::size_t>(c)]] =
                    static_cast<float>(
                        numbers.at(layout.first_index_fastest ? c * items + i : i * classes + c));
        return probabilities;
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", place, error.what()));
    }
}

std::vector<float> from_json(std::string_view text, const ValidationRows& rows, const std::string& place) {
    const Json json = read_json(text, place);
    StatementReader reader(json, place);
    const Json& stated = reader.required("probabilities");
    reader.require_all_known();
    const std::size_t classes = rows.classes.size();
    if (!stated.is_array() || stated.size() != rows.items.size())
        reader.refuse("probabilities", fmt::format("has {} for {} of the validation part",
                                                   plural(static_cast<std::int64_t>(stated.size()), "row"),
                                                   plural(std::ssize(rows.items), "item")));
    std::vector<float> probabilities(rows.items.size() * classes);
    std::size_t i = 0;
    for (const Json& row : stated) {
        if (!row.is_array() || row.size() != classes)
            reader.refuse("probabilities", fmt::format("has a row, number {}, that is no array of {}", i + 1,
                                                       plural(static_cast<std::int64_t>(classes), "number")));
        for (std::size_t c = 0; c < classes; ++c)
            probabilities[i * classes + rows.columns[c]] =
                static_cast<float>(reader.number_of(row[c], "probabilities", 0.0, 1.0));
        ++i;
    }
    return probabilities;
}

}  // namespace

std::vector<float> read_stated_predictions(std::string_view bytes, PredictionForm form,
                                           const ValidationRows& rows, const std::string& place) {
    std::vector<float> probabilities = form == PredictionForm::csv   ? from_csv(bytes, rows, place)
                                       : form == PredictionForm::npy ? from_npy(bytes, rows, place)
                                                                     : from_json(bytes, rows, place);
    PredictionTable table{
        .classes = rows.classes.size(), .labels = rows.labels, .probabilities = std::move(probabilities)};
    try {
        require_probabilities(table);
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", place, error.what()));
    }
    return std::move(table.probabilities);
}

std::vector<PredictionRecord> prediction_records(const ValidationRows& rows,
                                                 std::span<const float> probabilities) {
    const std::size_t classes = rows.classes.size();
    std::vector<PredictionRecord> records;
    for (std::size_t i = 0; i < rows.items.size(); ++i) {
        const auto row = probabilities.subspan(i * classes, classes);
        records.push_back({rows.items[i],
                           rows.labels[i],
                           static_cast<std::size_t>(std::max_element(row.begin(), row.end()) - row.begin()),
                           {row.begin(), row.end()}});
    }
    return records;
}

std::string class_order_doubt(const ValidationRows& rows, const std::vector<PredictionRecord>& predictions) {
    constexpr double clearly_better = 0.3;
    const std::size_t classes = rows.classes.size();
    ConfusionMatrix matrix(classes);
    for (const PredictionRecord& one : predictions) matrix.add(one.label, one.predicted);
    // What each class is called most often.
    std::vector<std::size_t> called(classes);
    std::vector<bool> taken(classes, false);
    std::int64_t right = 0;
    std::int64_t otherwise = 0;
    for (std::size_t i = 0; i < classes; ++i) {
        for (std::size_t j = 0; j < classes; ++j)
            if (matrix.at(i, j) > matrix.at(i, called[i])) called[i] = j;
        if (taken[called[i]]) return "";
        taken[called[i]] = true;
        right += matrix.at(i, i);
        otherwise += matrix.at(i, called[i]);
    }
    if (static_cast<double>(otherwise - right) < clearly_better * static_cast<double>(matrix.total()))
        return "";
    return fmt::format(
        "{} of {} items are right, and {} would be if the classes had another order ('{}' is mostly called "
        "'{}'): is the "
        "order of the classes, or of the rows, the one that was stated?",
        right, matrix.total(), otherwise, printable(rows.classes[0]), printable(rows.classes[called[0]]));
}

}  // namespace jevrin::inline v1
