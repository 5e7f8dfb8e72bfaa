#include "jevrin/study/epoch_note.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/ledger/columns.hpp"

#include <array>

namespace jevrin::inline v1 {

std::string to_text(const EpochNote& note) {
    Json json = {{"best", note.best}, {"warnings", note.warnings}};
    for (const EpochColumn& column : epoch_columns())
        visit_column(column, note.epoch, [&](const auto& number) { json[column.name] = number; });
    const ConfusionMatrix& matrix = note.epoch.validation;
    json["classes"] = matrix.classes();
    json["cells"] = Json::array();
    for (std::size_t i = 0; i < matrix.classes(); ++i)
        for (std::size_t j = 0; j < matrix.classes(); ++j)
            if (matrix.at(i, j) > 0) json["cells"].push_back({i, j, matrix.at(i, j)});
    json["predicted"] = note.predicted;
    json["layers"] = Json::array();
    for (const LayerSummary& l : note.layers)
        json["layers"].push_back(
            {l.layer, l.weight_norm, l.gradient_norm, l.update_ratio, l.dead_fraction, l.learning_rate});
    return json_text(json);
}

std::optional<EpochNote> note_from_text(const std::string& text) {
    if (text.empty()) return std::nullopt;
    try {
        const Json json = parse_json(text);
        EpochNote note{.best = json.at("best").get<bool>(),
                       .warnings = json.at("warnings").get<std::vector<std::string>>(),
                       .predicted = json.value("predicted", std::vector<std::size_t>())};
        for (const EpochColumn& column : epoch_columns())
            visit_column(column, note.epoch, [&](auto& number) {
                number = json.at(column.name).get<std::remove_reference_t<decltype(number)>>();
            });
        const auto classes = json.at("classes").get<std::size_t>();
        note.epoch.validation = ConfusionMatrix(classes);
        for (const auto& [row, column, count] :
             json.at("cells").get<std::vector<std::array<std::int64_t, 3>>>()) {
            if (row < 0 || column < 0 || static_cast<std::size_t>(std::max(row, column)) >= classes)
                throw InputError("a cell lies outside the matrix");
            note.epoch.validation.add(static_cast<std::size_t>(row), static_cast<std::size_t>(column), count);
        }
        for (const Json& l : json.at("layers")) {
            const auto number = [&](std::size_t i) { return l.at(i).get<double>(); };
            note.layers.push_back(
                {l.at(0).get<std::string>(), number(1), number(2), number(3), number(4), number(5)});
        }
        return note;
    } catch (const JsonError&) {
        throw InputError("this checkpoint is invalid; the run starts again");
    }
}

}  // namespace jevrin::inline v1
