#include "jevrin/evaluation/part_predictions.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_arrays.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

namespace jevrin::inline v1 {
namespace {

std::vector<std::string> ids_of(const std::vector<ItemRecord>& items) {
    std::vector<std::string> ids;
    for (const ItemRecord& item : items) ids.push_back(item.id);
    return ids;
}

std::vector<std::size_t> labels_of(const std::vector<ItemRecord>& items) {
    std::vector<std::size_t> labels;
    for (const ItemRecord& item : items) labels.push_back(item.label);
    return labels;
}

// Rows of what was recorded, in the order of the items.
std::vector<float> recorded_rows(const std::vector<PredictionRecord>& records,
                                 const std::vector<std::string>& items, std::size_t classes) {
    std::vector<std::string> predicted_items;
    for (const PredictionRecord& record : records) {
        if (record.probabilities.size() != classes)
            throw InputError(fmt::format(
                "the prediction of '{}' has {} probabilities for {} classes; the ledger is damaged",
                printable(record.item), record.probabilities.size(), classes));
        predicted_items.push_back(record.item);
    }
    std::vector<float> rows;
    for (const std::size_t place : places_of_items(items, predicted_items))
        rows.insert(rows.end(), records[place].probabilities.begin(), records[place].probabilities.end());
    return rows;
}

std::vector<float> computed_rows(Classifier classifier, const ImageSet& set,
                                 const PredictionProgress& progress) {
    constexpr std::size_t at_a_time = 256;
    classifier.temperature = 1.0;
    classifier.out_of_distribution.reset();
    const Fitting fitting = classifier.preparation.fitting;
    Recogniser recogniser(std::move(classifier));
    std::vector<float> rows;
    for (std::size_t begin = 0; begin < set.items.size(); begin += at_a_time) {
        std::vector<std::vector<std::uint8_t>> fitted;
        for (std::size_t i = begin; i < std::min(set.items.size(), begin + at_a_time); ++i)
            fitted.push_back(load_fitted(set, set.items[i], fitting));
        const std::vector<float> some = recogniser.recognise(fitted).probabilities;
        rows.insert(rows.end(), some.begin(), some.end());
        if (progress) progress(static_cast<std::int64_t>(begin + fitted.size()), std::ssize(set.items));
    }
    return rows;
}

std::vector<PredictionRecord> to_records(const PartPredictions& predictions) {
    std::vector<PredictionRecord> records;
    const PredictionTable& table = predictions.table;
    for (std::size_t i = 0; i < table.items(); ++i) {
        const auto row = table.row(i);
        records.push_back(
            {predictions.items[i], table.labels[i], table.predicted(i), {row.begin(), row.end()}});
    }
    return records;
}

bool is_best(const RunRecord& run, std::optional<std::int64_t> epoch) {
    return !epoch || (run.state == RunState::finished && run.best && *epoch == run.best->epoch);
}

double number_of(const std::string& text, const std::string& place) {
    double value = 0.0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc() || end != text.data() + text.size())
        throw InputError(fmt::format("{}: '{}' is not a number; expected a probability from 0 to 1", place,
                                     printable(text)));
    return value;
}

// The arrays in which images lie; null when they are files. Earlier ledgers name a single one.
std::shared_ptr<const ImageArrays> arrays_of(const Json& source) {
    if (!source.is_object() || (!source.contains("array") && !source.contains("arrays"))) return nullptr;
    const auto arrays = std::make_shared<ImageArrays>();
    const auto add = [&](const std::string& name, const std::filesystem::path& file) {
        arrays->add(name, file, source.value("shape", std::vector<std::int64_t>()),
                    source.value("transposed", false));
    };
    if (source.contains("array")) {
        const std::filesystem::path file = source.at("array").get<std::string>();
        add(file.filename().string(), file);
    }
    if (source.contains("arrays"))
        for (const auto& [name, file] : source.at("arrays").items()) add(name, file.get<std::string>());
    return arrays;
}

}  // namespace

ImageSet items_of(const StudyRecord& study, const std::vector<ItemRecord>& records) {
    ImageSet set;
    set.root = study.image_root;
    set.classes = study.classes;
    const auto source = parse_json(study.image_source);
    set.arrays = arrays_of(source);
    for (const ItemRecord& record : records) {
        const std::size_t mark = record.id.rfind('#');
        Item item{.path = record.id.substr(0, mark), .label = record.label, .id = record.id};
        item.content =
            ContentHash::from_text(std::string_view(record.id).substr(mark + 1)).value_or(ContentHash());
        set.items.push_back(std::move(item));
    }
    return set;
}

PartPredictions predict_part(const std::filesystem::path& ledger_directory, const std::string& study_name,
                             const std::string& run_name, Part part, std::optional<std::int64_t> epoch,
                             const PredictionProgress& progress) {
    const Ledger ledger = Ledger::open(ledger_directory);
    const StudyRecord study = ledger.study(study_name);
    return predict_part(ledger, study, ledger.run(study.id, run_name), part, epoch, progress);
}

PartPredictions predict_part(const Ledger& ledger, const StudyRecord& study, const RunRecord& run, Part part,
                             std::optional<std::int64_t> epoch, const PredictionProgress& progress) {
    const std::filesystem::path model = model_of(ledger, run, epoch);
    const bool best = is_best(run, epoch);
    const std::vector<ItemRecord> items = ledger.items(run.id, part);
    if (items.empty())
        throw InputError(
            fmt::format("this study has no {0} part; add it to 'parts' in the plan", name_of(part)));
    PartPredictions result{
        .items = ids_of(items),
        .table = {.classes = study.classes.size(), .labels = labels_of(items), .probabilities = {}},
        .epoch = best ? run.best->epoch : *epoch};
    if (best && part == Part::validation) {
        result.table.probabilities =
            recorded_rows(ledger.predictions(run.id, part), result.items, result.table.classes);
        require_probabilities(result.table);
        return result;
    }
    result.table.probabilities =
        computed_rows(load_model(ledger, run, epoch), items_of(study, items), progress);
    require_probabilities(result.table);
    if (part == Part::test)
        LedgerWriter::open(ledger.directory())
            .record_test_look(run.id, best ? to_records(result) : std::vector<PredictionRecord>());
    return result;
}

PartPredictions predict_items(const std::filesystem::path& ledger_directory, const std::string& study_name,
                              const std::string& run_name, const std::vector<ItemRecord>& items) {
    const Ledger ledger = Ledger::open(ledger_directory);
    const StudyRecord study = ledger.study(study_name);
    const RunRecord run = ledger.run(study.id, run_name);
    return {.items = ids_of(items),
            .table = {.classes = study.classes.size(),
                      .labels = labels_of(items),
                      .probabilities = computed_rows(load_model(ledger, run), items_of(study, items), {})},
            .epoch = run.best->epoch};
}

std::filesystem::path model_of(const Ledger& ledger, const RunRecord& run,
                               std::optional<std::int64_t> epoch) {
    if (!epoch) require_finished(run);
    if (is_best(run, epoch)) return ledger.model_file(run.id);
    const std::filesystem::path file = ledger.model_file(run.id, *epoch);
    if (!std::filesystem::exists(file))
        throw InputError(
            fmt::format("the model of epoch {} of '{}' was not kept{}; keep the models of all epochs when "
                        "you train, or look "
                        "at the recorded matrix of the epoch",
                        *epoch, run.name(),
                        run.best ? fmt::format(", only that of the best ({})", run.best->epoch) : ""));
    return file;
}

Classifier load_model(const Ledger& ledger, const RunRecord& run, std::optional<std::int64_t> epoch) {
    const std::filesystem::path file = model_of(ledger, run, epoch);
    const auto refuse = [&](const std::string& why) {
        throw InputError(
            fmt::format("{}: {}; restore it from a backup, or delete the run '{}' and train it again",
                        printable(file.string()), why, printable(run.name())));
    };
    if (!std::filesystem::exists(file) && run.external && !ledger.model_hash(run.id))
        throw InputError(
            fmt::format("run '{}' was trained elsewhere and came without a model: it has the predictions of "
                        "its validation part, and can make no others",
                        printable(run.name())));
    if (!std::filesystem::exists(file)) refuse("the model of this run is missing");
    const auto hash = ledger.model_hash(run.id, is_best(run, epoch) ? 0 : *epoch);
    if (hash && content_hash_of_file(file) != *hash)
        refuse("this is not the model that was recorded for its run: it is damaged, or of another one");
    Classifier classifier = load_classifier(file);
    // What an earlier version left there has only been taken for the model of this run.
    const auto differs = [&](const char* key, const std::string& expected) {
        const auto stated = classifier.provenance.find(key);
        return stated != classifier.provenance.end() && stated->second != expected;
    };
    if (differs("run", run.name()) || differs("image_set", ledger.image_fingerprint(run.id)))
        refuse("this is the model of another run");
    return classifier;
}

std::optional<double> temperature_of(const Ledger& ledger, const RunRecord& run, std::int64_t epoch) {
    const std::filesystem::path file = model_of(ledger, run, epoch);
    if (!std::filesystem::exists(file)) return run.external ? std::optional(1.0) : std::nullopt;
    return load_model(ledger, run, epoch).temperature;
}

std::string to_csv(const PartPredictions& predictions, const std::vector<std::string>& classes) {
    std::vector<std::string> cells = {"item", "label", "predicted"};
    cells.insert(cells.end(), classes.begin(), classes.end());
    std::string text = csv_row(cells);
    const PredictionTable& table = predictions.table;
    for (std::size_t i = 0; i < table.items(); ++i) {
        cells = {predictions.items[i], classes.at(table.labels[i]), classes.at(table.predicted(i))};
        for (const float p : table.row(i)) cells.push_back(fmt::format("{}", p));
        text += csv_row(cells);
    }
    return text;
}

PartPredictions read_predictions(const std::filesystem::path& file, const std::vector<ItemRecord>& items,
                                 const std::vector<std::string>& classes) {
    const std::string text = read_text(file, largest_table_file);
    const std::string name = printable(file.string());
    const CsvReader table(text, name);
    const std::size_t item_column = table.require("item");
    std::vector<std::size_t> columns;
    for (const std::string& one : classes) columns.push_back(table.require(one));
    const std::vector<std::string> ids = ids_of(items);
    std::vector<std::string> predicted_items;
    std::vector<float> rows;
    table.for_each([&](const CsvRow& row) {
        // An id has a hash behind the path; a path alone will do.
        const std::string& item = row.cells[item_column];
        const auto known = std::lower_bound(ids.begin(), ids.end(), item);
        const bool is_path = known != ids.end() && known->starts_with(item + "#") &&
                             known->find('#', item.size() + 1) == std::string::npos;
        predicted_items.push_back(is_path ? *known : item);
        for (const std::size_t column : columns)
            rows.push_back(static_cast<float>(number_of(row.cells[column], table.place(row.line))));
    });
    try {
        const std::vector<std::size_t> places = places_of_items(ids, predicted_items);
        PartPredictions result{
            .items = ids,
            .table = {.classes = classes.size(), .labels = labels_of(items), .probabilities = {}}};
        for (const std::size_t place : places) {
            const auto begin = rows.begin() + static_cast<std::ptrdiff_t>(place * classes.size());
            result.table.probabilities.insert(result.table.probabilities.end(), begin,
                                              begin + static_cast<std::ptrdiff_t>(classes.size()));
        }
        require_probabilities(result.table);
        return result;
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}", name, error.what()));
    }
}

}  // namespace jevrin::inline v1
