#include "jevrin/study/epoch_note.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"


#include <array>

namespace jevrin {
namespace {


// Every number of an epoch, by its name; for writing and for reading.
template <typename Epoch, typename Visit>
void for_numbers(Epoch& epoch, Visit visit) {
    visit("epoch", epoch.epoch);
    visit("step", epoch.step);
    visit("training_loss", epoch.training_loss);
    visit("objective", epoch.objective);
    visit("training_accuracy", epoch.training_accuracy);
    visit("training_balanced_accuracy", epoch.training_balanced_accuracy);
    visit("training_macro_f1", epoch.training_macro_f1);
    visit("validation_loss", epoch.validation_loss);
    visit("learning_rate", epoch.learning_rate);
    visit("seconds", epoch.seconds);
    visit("data_seconds", epoch.data_seconds);
    visit("compute_seconds", epoch.compute_seconds);
    visit("validation_seconds", epoch.validation_seconds);
    visit("memory_bytes", epoch.memory_bytes);
}

}  // namespace

std::string to_text(const EpochNote& note) {
    Json json = {{"best", note.best}, {"warnings", note.warnings}};
    for_numbers(note.epoch, [&](const char* name, const auto& value) { json[name] = value; });
    const ConfusionMatrix& matrix = note.epoch.validation;
    json["classes"] = matrix.classes();
    json["cells"] = Json::array();
    for (std::size_t i = 0; i < matrix.classes(); ++i)
        for (std::size_t j = 0; j < matrix.classes(); ++j)
            if (matrix.at(i, j) > 0) json["cells"].push_back({i, j, matrix.at(i, j)});
    json["layers"] = Json::array();
    for (const LayerSummary& l : note.layers)
        json["layers"].push_back(
            {l.layer, l.weight_norm, l.gradient_norm, l.update_ratio, l.dead_share, l.learning_rate});
    return json_text(json);
}

std::optional<EpochNote> note_from_text(const std::string& text) {
    if (text.empty()) return std::nullopt;
    try {
        const Json json = parse_json(text);
        EpochNote note{.best = json.at("best"),
                       .warnings = json.at("warnings").get<std::vector<std::string>>()};
        for_numbers(note.epoch, [&](const char* name, auto& value) { json.at(name).get_to(value); });
        const auto classes = json.at("classes").get<std::size_t>();
        note.epoch.validation = ConfusionMatrix(classes);
        for (const auto& [row, column, count] :
             json.at("cells").get<std::vector<std::array<std::int64_t, 3>>>()) {
            if (row < 0 || column < 0 || static_cast<std::size_t>(std::max(row, column)) >= classes)
                throw InputError("a cell lies outside the matrix");
            note.epoch.validation.add(static_cast<std::size_t>(row), static_cast<std::size_t>(column), count);
        }
        for (const Json& l : json.at("layers"))
            note.layers.push_back({l.at(0), l.at(1), l.at(2), l.at(3), l.at(4), l.at(5)});
        return note;
    } catch (const Json::exception&) {
        throw InputError("this checkpoint is not understood; the run starts again");
    }
}

}  // namespace jevrin
