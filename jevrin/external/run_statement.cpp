#include "jevrin/external/run_statement.hpp"

#include "jevrin/base/hash.hpp"
#include "jevrin/external/statement_reader.hpp"

#include <algorithm>
#include <array>
#include <cstring>
#include <limits>

namespace jevrin::inline v1 {
namespace {

constexpr double nan = std::numeric_limits<double>::quiet_NaN();
constexpr double infinity = std::numeric_limits<double>::infinity();
constexpr std::int64_t most_epochs = 1'000'000;

PredictionCost read_cost(const Json& json, const std::string& place) {
    StatementReader reader(json, place);
    PredictionCost cost{
        .milliseconds = reader.number_of(reader.required("milliseconds"), "milliseconds", 0.0, infinity),
        .batch_milliseconds =
            reader.number_of(reader.required("batch_milliseconds"), "batch_milliseconds", 0.0, infinity),
        .bytes = reader.integer("bytes", 0, 0)};
    reader.require_all_known();
    return cost;
}

// {"size": 224 or [height, width], "fit", "channels", "mean", "deviation"}; the last two of values from 0
// to 1.
Preparation read_preparation(const Json& json, const std::string& place) {
    constexpr std::int64_t largest = 4096;
    StatementReader reader(json, place);
    Preparation preparation;
    const Json& size = reader.required("size");
    const auto side = [&](const Json& value) {
        if (!value.is_integer() || value.get<std::int64_t>() < 1 || value.get<std::int64_t>() > largest)
            reader.refuse("size",
                          fmt::format("is no side, or pair of height and width, from 1 to {}", largest));
        return value.get<std::int64_t>();
    };
    if (size.is_array() && size.size() == 2)
        preparation.fitting.size = ImageSize(side(size[0]), side(size[1]));
    else
        preparation.fitting.size = ImageSize(side(size));
    try {
        preparation.fitting.fit = value_named<Fit>(reader.text("fit", name_of(Fit::stretch)));
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", place, error.what()));
    }
    preparation.fitting.channels = static_cast<int>(reader.integer("channels", 1, 3));
    if (preparation.fitting.channels != 1 && preparation.fitting.channels != 3)
        reader.refuse("channels", "is neither 1 (grey) nor 3 (colour)");
    const auto numbers = [&](const char* key, std::array<double, 3>& into, double lowest) {
        const Json* values = reader.find(key);
        if (values == nullptr) return;
        const auto count = static_cast<std::size_t>(preparation.fitting.channels);
        if (!values->is_array() || values->size() != count)
            reader.refuse(key, fmt::format("is no array of {}, one for each channel", count));
        for (std::size_t c = 0; c < into.size(); ++c)
            into[c] = reader.number_of((*values)[std::min(c, count - 1)], key, lowest, 1000.0);
    };
    numbers("mean", preparation.scaling.mean, -1000.0);
    numbers("deviation", preparation.scaling.deviation, 1e-6);
    reader.require_all_known();
    return preparation;
}

// Of all metrics that are stated; NaN the others.
MetricScores read_scores(const Json* json, const std::string& place) {
    MetricScores scores;
    for (const Metric metric : all_metrics) scores[metric] = nan;
    if (json == nullptr) return scores;
    StatementReader reader(*json, place);
    for (const Metric metric : all_metrics) scores[metric] = reader.number(name_of(metric), 0.0, 1.0, nan);
    reader.require_all_known();
    return scores;
}

std::int64_t count_of(const Json& value, const StatementReader& reader, const char* key) {
    if (!value.is_integer() || value.get<std::int64_t>() < 0)
        reader.refuse(key, "holds something that is no count");
    return value.get<std::int64_t>();
}

// Rows of true classes over predicted ones, both in the order in which the run states its classes.
void add_rows(const Json& json, const ValidationRows& rows, const StatementReader& reader,
              ConfusionMatrix& matrix) {
    const std::size_t classes = rows.classes.size();
    const auto is_row = [&](const Json& row) { return row.is_array() && row.size() == classes; };
    if (!is_row(json) || !std::all_of(json.begin(), json.end(), is_row))
        reader.refuse("confusion", fmt::format("is no matrix of {0} rows with {0} counts", classes));
    for (std::size_t i = 0; i < classes; ++i)
        for (std::size_t j = 0; j < classes; ++j)
            matrix.add(rows.columns[i], rows.columns[j], count_of(json[i][j], reader, "confusion"));
}

std::size_t class_of(const Json& value, const ValidationRows& rows, const StatementReader& reader,
                     const char* key) {
    if (value.is_integer()) {
        const std::int64_t place = value.get<std::int64_t>();
        if (place < 0 || place >= std::ssize(rows.columns))
            reader.refuse(
                key, fmt::format("holds {}; places of classes are 0 to {}", place, rows.columns.size() - 1));
        return rows.columns[static_cast<std::size_t>(place)];
    }
    if (!value.is_string()) reader.refuse(key, "holds neither names nor places of classes");
    const std::string name = value.get<std::string>();
    const auto found = std::find(rows.classes.begin(), rows.classes.end(), name);
    if (found == rows.classes.end())
        reader.refuse(key, fmt::format("holds '{}', which is no class of the study{}", printable(name),
                                       did_you_mean(name, rows.classes)));
    return static_cast<std::size_t>(found - rows.classes.begin());
}

// [true class, predicted class, count], the nonzero ones.
void add_cells(const Json& json, const ValidationRows& rows, const StatementReader& reader,
               ConfusionMatrix& matrix) {
    constexpr const char* key = "confusion_cells";
    if (!json.is_array()) reader.refuse(key, "is no array of [true class, predicted class, count]");
    for (const Json& cell : json) {
        if (!cell.is_array() || cell.size() != 3)
            reader.refuse(key, "holds something else than [true class, predicted class, count]");
        matrix.add(class_of(cell[0], rows, reader, key), class_of(cell[1], rows, reader, key),
                   count_of(cell[2], reader, key));
    }
}

// Every item of the part was counted, in the row of its class.
void require_whole_part(const ConfusionMatrix& matrix, const ValidationRows& rows,
                        const StatementReader& reader, const char* key) {
    for (std::size_t i = 0; i < rows.classes.size(); ++i) {
        std::int64_t sum = 0;
        for (std::size_t j = 0; j < rows.classes.size(); ++j) sum += matrix.at(i, j);
        if (sum != static_cast<std::int64_t>(rows.class_counts[i]))
            reader.refuse(key,
                          fmt::format("counts {} of class '{}'; the validation part has {}. Rows are true "
                                      "classes, and every item is counted once",
                                      plural(sum, "item"), printable(rows.classes[i]), rows.class_counts[i]));
    }
}

ConfusionMatrix matrix_of(const std::vector<std::size_t>& predicted, const ValidationRows& rows) {
    return ConfusionMatrix(rows.classes.size(), rows.labels, predicted);
}

std::vector<std::size_t> read_predicted(const Json& json, const ValidationRows& rows,
                                        const StatementReader& reader) {
    constexpr const char* key = "predicted";
    if (!json.is_array())
        reader.refuse(key, "is no array of classes, one for each item of the validation part");
    if (json.size() != rows.items.size())
        reader.refuse(key,
                      fmt::format("has {} classes for {} of the validation part, in the order of its rows",
                                  json.size(), plural(std::ssize(rows.items), "item")));
    std::vector<std::size_t> predicted;
    for (const Json& one : json) predicted.push_back(class_of(one, rows, reader, key));
    return predicted;
}

// Counts as they are stated: from predictions, as rows or as cells; of none the matrix is empty.
ConfusionMatrix read_counts(StatementReader& reader, const ValidationRows& rows,
                            const std::vector<std::size_t>& predicted) {
    ConfusionMatrix counts(rows.classes.size());
    bool any = !predicted.empty();
    if (any) counts = matrix_of(predicted, rows);
    const auto take = [&](const char* key, auto add) {
        const Json* json = reader.find(key);
        if (json == nullptr) return;
        ConfusionMatrix stated(rows.classes.size());
        add(*json, rows, reader, stated);
        require_whole_part(stated, rows, reader, key);
        if (any && !same_counts(stated, counts))
            reader.refuse(key, "differs from what else is stated of this epoch");
        counts = std::move(stated);
        any = true;
    };
    take("confusion", add_rows);
    take("confusion_cells", add_cells);
    return counts;
}

void require_claims_fit(const MetricScores& claimed, const MetricScores& counted,
                        const StatementReader& reader) {
    for (const Metric metric : all_metrics)
        if (std::abs(claimed[metric] - counted[metric]) > rounding_of_claims)
            reader.refuse("scores", fmt::format("claims {} {:.4f}; the counts give {:.4f}", name_of(metric),
                                                claimed[metric], counted[metric]));
}

std::map<std::string, double> read_numbers(const Json* json, const StatementReader& reader) {
    std::map<std::string, double> numbers;
    if (json == nullptr) return numbers;
    if (!json->is_object()) reader.refuse("numbers", "is no object of numbers by name");
    for (const auto& [name, value] : json->items()) {
        if (name.empty() || name.size() > 100 || printable(name) != name)
            reader.refuse("numbers",
                          "has a name that is empty, longer than 100 bytes or holds control characters");
        numbers[name] = reader.number_of(value, "numbers." + name, -infinity, infinity);
    }
    return numbers;
}

Json scores_json(const MetricScores& scores) {
    Json json = Json::object();
    for (const Metric metric : all_metrics) json[name_of(metric)] = scores[metric];
    return json;
}

// Of all numbers by their bytes.
std::string content_of(const EpochStatement& statement) {
    const RecordedEpoch& e = statement.epoch;
    std::string bytes;
    const auto put = [&](const auto number) {
        char raw[sizeof number];
        std::memcpy(raw, &number, sizeof number);
        bytes.append(raw, sizeof number);
    };
    put(e.epoch);
    put(e.step);
    // A number that was not stated is one NaN, whatever its bits.
    const auto put_number = [&](double number) { put(std::isnan(number) ? nan : number); };
    for (const double number : {e.training_loss, e.validation_loss, e.learning_rate, e.seconds})
        put_number(number);
    for (const Metric metric : all_metrics) {
        put_number(e.training_scores[metric]);
        put_number(e.validation_scores[metric]);
    }
    for (std::size_t i = 0; i < e.validation.classes(); ++i)
        for (std::size_t j = 0; j < e.validation.classes(); ++j) put(e.validation.at(i, j));
    put(statement.predicted.size());
    for (const std::size_t one : statement.predicted) put(static_cast<std::uint32_t>(one));
    for (const auto& [name, number] : statement.numbers) {
        put(name.size());
        bytes += name;
        put_number(number);
    }
    return content_hash(bytes);
}

}  // namespace

bool same_counts(const ConfusionMatrix& a, const ConfusionMatrix& b) {
    for (std::size_t i = 0; i < a.classes(); ++i)
        for (std::size_t j = 0; j < a.classes(); ++j)
            if (a.at(i, j) != b.at(i, j)) return false;
    return true;
}

std::string RunStatement::name() const {
    return RunRecord{.candidate = candidate, .seed = seed, .fold = fold}.name();
}

RunStatement read_run_statement(const Json& json, const std::string& place) {
    StatementReader reader(json, place);
    RunStatement run;
    run.study = reader.text("study");
    run.split = reader.required_text("split");
    run.candidate = reader.required_text("candidate");
    if (run.candidate.find('/') != std::string::npos)
        reader.refuse("candidate", "holds '/', which separates candidate and seed");
    try {
        run.regime = value_named<Regime>(reader.required_text("regime"));
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", place, error.what()));
    }
    reader.required("seed");
    run.seed = reader.integer("seed", 0, 0);
    run.fold = reader.integer("fold", 0, 0);
    if (const Json* settings = reader.find("settings")) {
        if (!settings->is_object()) reader.refuse("settings", "is no JSON object");
        run.settings = json_text(*settings);
    }
    run.program = reader.text("program");
    run.hardware = reader.text("hardware");
    run.planned_epochs = reader.integer("planned_epochs", 0, 0);
    if (run.planned_epochs > most_epochs)
        reader.refuse("planned_epochs", fmt::format("is more than {}", most_epochs));
    run.batch = reader.integer("batch", 0, 0);
    run.training_fraction = reader.number("training_fraction", 1e-6, 1.0, 1.0);
    run.parameters = reader.integer("parameters", 0, 0);
    run.trainable_parameters = reader.integer("trainable_parameters", 0, 0);
    if (run.parameters > 0 && run.trainable_parameters > run.parameters)
        reader.refuse("trainable_parameters", "is more than 'parameters'");
    run.multiplications = reader.integer("multiplications", 0, 0);
    if (const Json* cost = reader.find("prediction_cost"))
        run.prediction_cost = read_cost(*cost, place + ": prediction_cost");
    if (const Json* preparation = reader.find("preparation"))
        run.preparation = read_preparation(*preparation, place + ": preparation");
    run.items = reader.texts("items");
    run.classes = reader.texts("classes");
    reader.require_all_known();
    return run;
}

std::string to_text(const RunStatement& run) {
    Json json = {{"study", run.study},
                 {"split", run.split},
                 {"candidate", run.candidate},
                 {"regime", name_of(run.regime)},
                 {"seed", run.seed},
                 {"fold", run.fold},
                 {"settings", parse_json(run.settings)},
                 {"program", run.program},
                 {"hardware", run.hardware},
                 {"planned_epochs", run.planned_epochs},
                 {"batch", run.batch},
                 {"training_fraction", run.training_fraction},
                 {"parameters", run.parameters},
                 {"trainable_parameters", run.trainable_parameters},
                 {"multiplications", run.multiplications}};
    if (run.prediction_cost)
        json["prediction_cost"] = {{"milliseconds", run.prediction_cost->milliseconds},
                                   {"batch_milliseconds", run.prediction_cost->batch_milliseconds},
                                   {"bytes", run.prediction_cost->bytes}};
    if (run.preparation) {
        const Fitting& fitting = run.preparation->fitting;
        const auto channels = static_cast<std::ptrdiff_t>(fitting.channels);
        const auto by_channel = [&](const std::array<double, 3>& values) {
            return std::vector<double>(values.begin(), values.begin() + channels);
        };
        json["preparation"] = {{"size", std::vector<std::int64_t>{fitting.size.height, fitting.size.width}},
                               {"fit", name_of(fitting.fit)},
                               {"channels", fitting.channels},
                               {"mean", by_channel(run.preparation->scaling.mean)},
                               {"deviation", by_channel(run.preparation->scaling.deviation)}};
    }
    if (!run.items.empty()) json["items"] = run.items;
    if (!run.classes.empty()) json["classes"] = run.classes;
    return json_text(json);
}

std::string to_text(const EpochStatement& statement) {
    const RecordedEpoch& e = statement.epoch;
    Json cells = Json::array();
    for (std::size_t i = 0; i < e.validation.classes(); ++i)
        for (std::size_t j = 0; j < e.validation.classes(); ++j)
            if (e.validation.at(i, j) != 0) cells.push_back(Json::array({i, j, e.validation.at(i, j)}));
    Json json = {{"epoch", e.epoch},
                 {"step", e.step},
                 {"training_loss", e.training_loss},
                 {"validation_loss", e.validation_loss},
                 {"learning_rate", e.learning_rate},
                 {"seconds", e.seconds},
                 {"training_scores", scores_json(e.training_scores)},
                 {"scores", scores_json(e.validation_scores)},
                 {"numbers", statement.numbers}};
    if (!cells.empty()) json["confusion_cells"] = std::move(cells);
    if (!statement.predicted.empty()) json["predicted"] = statement.predicted;
    return json_text(json);
}

EpochStatement read_epoch_statement(const Json& json, const ValidationRows& rows, const std::string& place) {
    StatementReader reader(json, place);
    reader.required("epoch");
    EpochRecord epoch;
    epoch.epoch = reader.integer("epoch", 1, 0);
    if (epoch.epoch > most_epochs) reader.refuse("epoch", fmt::format("is more than {}", most_epochs));
    epoch.step = reader.integer("step", 0, 0);
    epoch.training_loss =
        reader.number_of(reader.required("training_loss"), "training_loss", -infinity, infinity);
    epoch.validation_loss =
        reader.number_of(reader.required("validation_loss"), "validation_loss", -infinity, infinity);
    epoch.objective = epoch.training_loss;
    epoch.learning_rate = reader.number("learning_rate", 0.0, infinity, nan);
    epoch.seconds = reader.number("seconds", 0.0, infinity, nan);
    epoch.training_scores = read_scores(reader.find("training_scores"), place + ": training_scores");
    const MetricScores claimed = read_scores(reader.find("scores"), place + ": scores");
    epoch.validation_scores = claimed;

    EpochStatement statement{.epoch = {epoch, ConfusionMatrix(rows.classes.size())}};
    if (const Json* predicted = reader.find("predicted"))
        statement.predicted = read_predicted(*predicted, rows, reader);
    ConfusionMatrix counts = read_counts(reader, rows, statement.predicted);
    if (counts.total() > 0) {
        statement.epoch = recorded_epoch(epoch, std::move(counts));
        require_claims_fit(claimed, statement.epoch.validation_scores, reader);
    } else if (std::all_of(std::begin(all_metrics), std::end(all_metrics),
                           [&](Metric metric) { return std::isnan(claimed[metric]); })) {
        throw InputError(fmt::format(
            "{}: nothing says how good the epoch is on the validation part; state 'predicted', 'confusion', "
            "'confusion_cells' or 'scores'",
            place));
    }
    statement.numbers = read_numbers(reader.find("numbers"), reader);
    reader.require_all_known();
    statement.content = content_of(statement);
    return statement;
}

}  // namespace jevrin::inline v1
