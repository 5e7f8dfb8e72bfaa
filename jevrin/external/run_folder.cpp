#include "jevrin/external/run_folder.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/external/statement_reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t largest_statement = std::int64_t{1} << 24;
constexpr std::int64_t largest_epochs_file = std::int64_t{1} << 32;

std::string name_of_file(const std::filesystem::path& file) {
    return printable(file.string());
}

std::optional<PredictionForm> form_of(const std::filesystem::path& file) {
    const std::string ending = folded_case(file.extension().string());
    if (ending == ".csv") return PredictionForm::csv;
    if (ending == ".npy") return PredictionForm::npy;
    return std::nullopt;
}

// FOLDER/NAME.csv or FOLDER/NAME.npy; none when there is neither. InputError when there are both.
std::optional<std::filesystem::path> predictions_called(const std::filesystem::path& folder,
                                                        const std::string& name) {
    std::optional<std::filesystem::path> found;
    for (const char* ending : {".csv", ".npy"}) {
        const std::filesystem::path file = folder / (name + ending);
        if (!std::filesystem::exists(file)) continue;
        if (found)
            throw InputError(fmt::format(
                "{}: the folder has the same predictions as CSV and as NPY; remove one", name_of_file(file)));
        found = file;
    }
    return found;
}

// What the folder's run.json says beside the statement.
struct FolderStatement {
    RunStatement run;
    std::int64_t best_epoch = 0;
    std::string failed;
};

FolderStatement read_statement(const std::filesystem::path& file) {
    const std::string place = name_of_file(file);
    Json json = read_json(read_text(file, largest_statement), place);
    StatementReader reader(json, place);
    FolderStatement statement{
        .run = {}, .best_epoch = reader.integer("best_epoch", 1, 0), .failed = reader.text("failed")};
    json.erase("best_epoch");
    json.erase("failed");
    statement.run = read_run_statement(json, place);
    return statement;
}

// The classes that predictions of one epoch give, in the order of the rows.
Json predicted_in(const std::filesystem::path& file, const ValidationRows& rows) {
    const std::vector<float> probabilities = read_stated_predictions(
        read_text(file, largest_table_file), *form_of(file), rows, name_of_file(file));
    Json predicted = Json::array();
    for (const PredictionRecord& one : prediction_records(rows, probabilities))
        predicted.push_back(rows.classes[one.predicted]);
    return predicted;
}

void add_epochs(RunIntake& intake, RunId run, const std::filesystem::path& folder, bool& is_new) {
    const std::filesystem::path file = folder / "epochs.jsonl";
    if (!std::filesystem::exists(file)) return;
    const std::string text = read_text(file, largest_epochs_file);
    std::int64_t line = 0;
    for (std::size_t begin = 0; begin < text.size();) {
        const std::size_t end = std::min(text.find('\n', begin), text.size());
        const std::string_view row = std::string_view(text).substr(begin, end - begin);
        begin = end + 1;
        ++line;
        if (row.find_first_not_of(" \t\r") == std::string_view::npos) continue;
        const std::string place = fmt::format("{}:{}", name_of_file(file), line);
        Json json = read_json(row, place);
        const std::int64_t epoch = StatementReader(json, place).integer("epoch", 1, 0);
        if (const auto predictions = predictions_called(folder, fmt::format("predictions-epoch-{}", epoch))) {
            if (json.contains("predicted"))
                throw InputError(fmt::format("{}: 'predicted' is stated, and {} too; remove one", place,
                                             name_of_file(*predictions)));
            json["predicted"] = predicted_in(*predictions, intake.rows(run));
        }
        is_new = intake.add_epoch(run, json, place) || is_new;
    }
}

TakenRun summary_of(const LedgerWriter& writer, RunId id, const std::filesystem::path& from, bool is_new) {
    const RunRecord run = writer.ledger().run_by_id(id);
    TakenRun taken{.from = from,
                   .name = run.name(),
                   .state = run.state,
                   .epochs = run.epochs,
                   .is_new = is_new,
                   .warnings = {}};
    for (const WarningRecord& warning : writer.ledger().warnings(id))
        taken.warnings.push_back(warning.message);
    return taken;
}

// InputError from work() with the file it is about.
template <typename Work>
void naming(const std::filesystem::path& file, Work work) {
    const std::string place = name_of_file(file);
    try {
        work();
    } catch (const InputError& error) {
        if (std::string_view(error.what()).starts_with(place)) throw;
        throw InputError(fmt::format("{}: {}", place, error.what()));
    }
}

}  // namespace

std::vector<std::filesystem::path> find_run_folders(const std::vector<std::filesystem::path>& paths) {
    const auto is_run = [](const std::filesystem::path& folder) {
        return std::filesystem::is_regular_file(folder / "run.json");
    };
    std::set<std::filesystem::path> folders;
    for (const std::filesystem::path& path : paths) {
        if (is_run(path)) {
            folders.insert(path);
            continue;
        }
        std::error_code error;
        std::size_t found = 0;
        for (std::filesystem::directory_iterator entry(path, error), end; !error && entry != end;
             entry.increment(error))
            if (is_run(entry->path())) {
                folders.insert(entry->path());
                ++found;
            }
        if (error) throw InputError(fmt::format("{}: cannot read: {}", name_of_file(path), error.message()));
        if (found == 0)
            throw InputError(fmt::format("{}: no run is here: neither a file run.json nor folders with one",
                                         name_of_file(path)));
    }
    return {folders.begin(), folders.end()};
}

TakenRun take_run_folder(LedgerWriter& writer, const std::filesystem::path& folder) {
    const std::filesystem::path file = folder / "run.json";
    const FolderStatement statement = read_statement(file);
    RunId run;
    bool is_new = false;
    writer.together([&] {
        RunIntake intake(writer);
        naming(file, [&] {
            const RunIntake::Created created = intake.create(statement.run);
            run = created.run;
            is_new = created.is_new;
        });
        add_epochs(intake, run, folder, is_new);
        if (const auto predictions = predictions_called(folder, "predictions"))
            is_new = intake.add_predictions(run, read_text(*predictions, largest_table_file),
                                            *form_of(*predictions), name_of_file(*predictions)) ||
                     is_new;
        naming(file, [&] {
            if (!statement.failed.empty())
                intake.fail(run, statement.failed);
            else
                intake.finish(run, statement.best_epoch);
        });
    });
    // A model of a run that is recorded; a folder whose model is refused is taken in again when that is
    // mended.
    if (const std::filesystem::path model = folder / "model.onnx"; std::filesystem::exists(model))
        is_new = RunIntake(writer).add_model(run, model) || is_new;
    return summary_of(writer, run, folder, is_new);
}

TakenRun take_predictions(LedgerWriter& writer, const std::filesystem::path& file, RunStatement statement) {
    const auto form = form_of(file);
    if (!form) throw InputError(fmt::format("{}: predictions are a file .csv or .npy", name_of_file(file)));
    if (statement.split.empty()) {
        const Ledger& ledger = writer.ledger();
        statement.split =
            ledger.split_hash(ledger.split_with_fold(ledger.study(statement.study).id, statement.fold));
    }
    RunId run;
    bool is_new = false;
    writer.together([&] {
        RunIntake intake(writer);
        run = intake.create(statement).run;
        is_new = intake.add_predictions(run, read_text(file, largest_table_file), *form, name_of_file(file));
        naming(file, [&] { intake.finish(run); });
    });
    return summary_of(writer, run, file, is_new);
}

}  // namespace jevrin::inline v1
