#include "jevrin/ledger/ledger.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/database.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

// As RunIdentity::varied is written: a table of texts by path.
std::vector<VariedSetting> varied_settings(const std::string& text) {
    std::vector<VariedSetting> varied;
    const Json json = parse_json(text);
    if (!json.is_object()) return varied;
    for (const auto& [path, value] : json.items())
        varied.push_back({path, value.is_string() ? value.get<std::string>() : json_text(value)});
    return varied;
}

std::filesystem::path database_file(const std::filesystem::path& directory) {
    return directory / "ledger.db";
}

}  // namespace

const EnumNames<RunState>& names_of(RunState) {
    static const EnumNames<RunState> names(
        "state", {{RunState::waiting, "waiting"}, {RunState::training, "training"}, {RunState::finished, "finished"}, {RunState::failed, "failed"}});
    return names;
}

double validation_score(const EpochRecord& epoch, Metric metric) {
    if (epoch.validation.classes() > 0) return score(epoch.validation, metric);
    const PartScores& scores = epoch.validation_scores;
    return metric == Metric::accuracy            ? scores.accuracy
           : metric == Metric::balanced_accuracy ? scores.balanced_accuracy
                                                 : scores.macro_f1;
}

double training_score(const EpochRecord& epoch, Metric metric) {
    if (metric == Metric::accuracy || epoch.step == 0) return epoch.training_accuracy;
    return metric == Metric::macro_f1 ? epoch.training_macro_f1 : epoch.training_balanced_accuracy;
}

std::string RunRecord::name() const {
    return fold > 0 ? fmt::format("{}/{}/{}", candidate, seed, fold) : fmt::format("{}/{}", candidate, seed);
}

void require_finished(const RunRecord& run) {
    if (run.state != RunState::finished)
        throw InputError(fmt::format("run '{}' is {}, not finished; train it first", printable(run.name()),
                                     name_of(run.state)));
}

Ledger::Ledger(std::filesystem::path directory, std::unique_ptr<SQLite::Database> database)
    : directory_(std::move(directory)), database_(std::move(database)) {}
Ledger::~Ledger() = default;
Ledger::Ledger(Ledger&&) noexcept = default;
Ledger& Ledger::operator=(Ledger&&) noexcept = default;

Ledger Ledger::open(const std::filesystem::path& directory) {
    if (!std::filesystem::exists(database_file(directory)))
        throw InputError(
            fmt::format("{}: there is no ledger here; train a plan first, or give another --ledger",
                        printable(directory.string())));
    return {directory, open_database(database_file(directory), DatabaseAccess::read)};
}

Ledger Ledger::open_or_create(const std::filesystem::path& directory) {
    make_directory(directory);
    Ledger ledger{directory, open_database(database_file(directory), DatabaseAccess::write)};
    make_directory(directory / "models");
    make_directory(directory / "checkpoints");
    return ledger;
}

std::filesystem::path Ledger::model_file(std::int64_t run) const {
    return directory_ / "models" / fmt::format("run-{}.onnx", run);
}

std::filesystem::path Ledger::model_file(std::int64_t run, std::int64_t epoch) const {
    return directory_ / "models" / fmt::format("run-{}-epoch-{}.onnx", run, epoch);
}

std::filesystem::path Ledger::checkpoint_file(std::int64_t run) const {
    return directory_ / "checkpoints" / fmt::format("run-{}.checkpoint", run);
}

std::vector<std::string> Ledger::study_names() const {
    return with_database_errors(database_file(directory_), [&] {
        std::vector<std::string> names;
        SQLite::Statement query(*database_, "SELECT name FROM studies ORDER BY used DESC");
        while (query.executeStep()) names.push_back(query.getColumn(0));
        return names;
    });
}

StudyRecord Ledger::study(const std::string& name) const {
    return with_database_errors(database_file(directory_), [&] {
        SQLite::Statement query(*database_, R"sql(
            SELECT studies.id, studies.name, metric, root, image_sets.id, version, source,
                   (SELECT COUNT(*) FROM test_looks JOIN runs ON runs.id = test_looks.run WHERE runs.study = studies.id)
            FROM studies JOIN divisions ON divisions.id = division JOIN image_sets ON image_sets.id = image_set
            WHERE ?1 = '' OR studies.name = ?1 ORDER BY used DESC LIMIT 1)sql");
        query.bind(1, name);
        if (!query.executeStep()) {
            const std::vector<std::string> names = study_names();
            if (names.empty())
                throw InputError(fmt::format("{}: no study has been trained yet; run 'jevrin train PLAN'",
                                             printable(directory_.string())));
            throw InputError(fmt::format("{}: no study is called '{}'{}", printable(directory_.string()),
                                         printable(name), did_you_mean(name, names)));
        }
        StudyRecord study{.id = query.getColumn(0),
                          .name = query.getColumn(1),
                          .metric = value_named<Metric>(query.getColumn(2).getString()),
                          .image_root = query.getColumn(3),
                          .image_set = query.getColumn(4),
                          .image_set_version = query.getColumn(5),
                          .image_source = query.getColumn(6),
                          .test_looks = query.getColumn(7)};
        SQLite::Statement classes(*database_, "SELECT name FROM classes WHERE image_set = ? ORDER BY class");
        classes.bind(1, query.getColumn(4).getInt64());
        while (classes.executeStep()) study.classes.push_back(classes.getColumn(0));
        return study;
    });
}

std::vector<RunRecord> Ledger::select_runs(const std::string& condition, std::int64_t value,
                                           const std::string& name) const {
    SQLite::Statement query(*database_, fmt::format(R"sql(
        SELECT runs.id, studies.name, candidate, regime, seed, state, reason, planned_epochs, parameters,
               trainable_parameters, best_epoch, runs.division, (SELECT COUNT(*) FROM run_tags WHERE run = runs.id),
               (SELECT version FROM divisions JOIN image_sets ON image_sets.id = image_set
                WHERE divisions.id = runs.division), multiplications, fold, origin, varied, archived, note,
               (SELECT image_set FROM divisions WHERE divisions.id = runs.division), batch, training_fraction
        FROM runs JOIN studies ON studies.id = study WHERE {}
        ORDER BY (SELECT MIN(other.id) FROM runs AS other WHERE other.study = runs.study AND
                  other.candidate = runs.candidate), seed, fold)sql",
                                                    condition));
    query.bind(1, value);
    if (!name.empty()) query.bind(2, name);
    SQLite::Statement length(*database_, "SELECT COUNT(*), TOTAL(seconds) FROM epochs WHERE run = ?");
    SQLite::Statement tags(*database_, "SELECT tag FROM run_tags WHERE run = ? ORDER BY tag");
    std::vector<RunRecord> runs;
    while (query.executeStep()) {
        length.reset();
        length.bind(1, query.getColumn(0).getInt64());
        length.executeStep();
        RunRecord run{.id = query.getColumn(0),
                      .study = query.getColumn(1),
                      .candidate = query.getColumn(2),
                      .origin = query.getColumn(16),
                      .varied = varied_settings(query.getColumn(17)),
                      .regime = value_named<Regime>(query.getColumn(3).getString()),
                      .seed = query.getColumn(4),
                      .fold = query.getColumn(15),
                      .state = value_named<RunState>(query.getColumn(5).getString()),
                      .reason = query.getColumn(6),
                      .epochs = length.getColumn(0),
                      .planned_epochs = query.getColumn(7),
                      .batch = query.getColumn(21),
                      .training_fraction = query.getColumn(22),
                      .parameters = query.getColumn(8),
                      .trainable_parameters = query.getColumn(9),
                      .multiplications = query.getColumn(14),
                      .division = query.getColumn(11),
                      .image_set = query.getColumn(20),
                      .image_set_version = query.getColumn(13),
                      .seconds = length.getColumn(1),
                      .archived = query.getColumn(18).getInt() != 0,
                      .note = query.getColumn(19)};
        run.claimed = run.state != RunState::finished && is_claimed(run.id);
        const std::int64_t best = query.getColumn(10);
        if (best > 0) {
            std::vector<EpochRecord> epochs = select_epochs(run.id, best);
            fill_matrices(run.id, epochs);
            for (EpochRecord& epoch : epochs) run.best = std::move(epoch);
        }
        if (query.getColumn(12).getInt() > 0) {
            tags.reset();
            tags.bind(1, run.id);
            while (tags.executeStep()) run.tags.push_back(tags.getColumn(0));
        }
        runs.push_back(std::move(run));
    }
    return runs;
}

std::vector<RunRecord> Ledger::runs(std::int64_t study) const {
    return with_database_errors(database_file(directory_), [&] {
        return select_runs("study = ?1 AND superseded = 0 AND archived = 0", study);
    });
}

std::vector<RunRecord> Ledger::archived_runs(std::int64_t study) const {
    return with_database_errors(database_file(directory_), [&] {
        return select_runs("study = ?1 AND superseded = 0 AND archived = 1", study);
    });
}

std::vector<std::string> Ledger::candidates(std::int64_t study) const {
    return with_database_errors(database_file(directory_), [&] {
        SQLite::Statement query(*database_, R"sql(
            SELECT candidate FROM runs WHERE study = ? AND superseded = 0 AND archived = 0
            GROUP BY candidate ORDER BY MIN(id))sql");
        query.bind(1, study);
        std::vector<std::string> names;
        while (query.executeStep()) names.push_back(query.getColumn(0));
        return names;
    });
}

RunRecord Ledger::run_by_id(std::int64_t run) const {
    return with_database_errors(database_file(directory_),
                                [&] { return select_runs("runs.id = ?1", run).at(0); });
}

std::optional<RunRecord> Ledger::find_run(const std::string& study, const RunIdentity& run) const {
    return with_database_errors(database_file(directory_), [&]() -> std::optional<RunRecord> {
        SQLite::Statement query(*database_, R"sql(
            SELECT runs.id FROM runs JOIN studies ON studies.id = study
            WHERE studies.name = ? AND candidate = ? AND seed = ? AND fold = ? AND identity = ?)sql");
        std::vector<std::string> keys = {run.key()};
        keys.insert(keys.end(), run.former.begin(), run.former.end());
        for (const std::string& key : keys) {
            query.reset();
            query.bind(1, study);
            query.bind(2, run.candidate);
            query.bind(3, run.seed);
            query.bind(4, run.fold);
            query.bind(5, key);
            if (query.executeStep()) return run_by_id(query.getColumn(0).getInt64());
        }
        return std::nullopt;
    });
}

RunRecord Ledger::run(std::int64_t study, const std::string& name) const {
    return with_database_errors(database_file(directory_), [&] {
        constexpr const char* called =
            "candidate || '/' || seed || CASE fold WHEN 0 THEN '' ELSE '/' || fold END";
        std::vector<RunRecord> found =
            name.empty()
                ? std::vector<RunRecord>()
                : select_runs(fmt::format("study = ?1 AND superseded = 0 AND {} = ?2", called), study, name);
        if (!found.empty()) return std::move(found.front());
        std::vector<std::string> names;
        SQLite::Statement query(
            *database_, fmt::format("SELECT {} FROM runs WHERE study = ? AND superseded = 0", called));
        query.bind(1, study);
        while (query.executeStep()) names.push_back(query.getColumn(0));
        const auto of_candidate = std::find_if(names.begin(), names.end(), [&](const std::string& one) {
            return one.starts_with(name + "/") || one.starts_with(name + ": ");
        });
        if (!name.empty() && of_candidate != names.end())
            throw InputError(fmt::format("'{}' is a candidate; name one of its runs, such as '{}'",
                                         printable(name), printable(*of_candidate)));
        throw InputError(fmt::format("no run is called '{}'{}; 'jevrin runs' lists them", printable(name),
                                     did_you_mean(name, names)));
    });
}

std::vector<EpochRecord> Ledger::epochs(std::int64_t run) const {
    std::vector<EpochRecord> epochs = select_epochs(run, std::nullopt);
    fill_matrices(run, epochs);
    return epochs;
}

std::vector<EpochRecord> Ledger::curve(std::int64_t run) const {
    return select_epochs(run, std::nullopt);
}

std::vector<EpochRecord> Ledger::select_epochs(std::int64_t run, std::optional<std::int64_t> wanted) const {
    return with_database_errors(database_file(directory_), [&] {
        std::vector<EpochRecord> epochs;
        SQLite::Statement query(*database_, R"sql(
            SELECT epoch, training_loss, training_accuracy, validation_loss, learning_rate, seconds, step, objective,
                   training_balanced_accuracy, training_macro_f1, data_seconds, compute_seconds, validation_seconds,
                   memory_bytes, accuracy, balanced_accuracy, macro_f1
            FROM epochs WHERE run = ?1 AND (?2 = 0 OR epoch = ?2) ORDER BY epoch)sql");
        query.bind(1, run);
        query.bind(2, wanted.value_or(0));
        while (query.executeStep())
            epochs.push_back(
                {.epoch = query.getColumn(0),
                 .step = query.getColumn(6),
                 .training_loss = query.getColumn(1),
                 .objective = query.getColumn(7),
                 .training_accuracy = query.getColumn(2),
                 .training_balanced_accuracy = query.getColumn(8),
                 .training_macro_f1 = query.getColumn(9),
                 .validation_loss = query.getColumn(3),
                 .learning_rate = query.getColumn(4),
                 .seconds = query.getColumn(5),
                 .data_seconds = query.getColumn(10),
                 .compute_seconds = query.getColumn(11),
                 .validation_seconds = query.getColumn(12),
                 .memory_bytes = query.getColumn(13),
                 .validation_scores = {query.getColumn(14), query.getColumn(15), query.getColumn(16)},
                 .validation = {}});
        return epochs;
    });
}

void Ledger::fill_matrices(std::int64_t run, std::vector<EpochRecord>& epochs) const {
    if (epochs.empty()) return;
    with_database_errors(database_file(directory_), [&] {
        SQLite::Statement size(*database_, R"sql(
            SELECT COUNT(*) FROM classes JOIN divisions ON divisions.image_set = classes.image_set
            JOIN runs ON runs.division = divisions.id WHERE runs.id = ?)sql");
        size.bind(1, run);
        size.executeStep();
        const auto classes = static_cast<std::size_t>(size.getColumn(0).getInt64());
        for (EpochRecord& epoch : epochs) epoch.validation = ConfusionMatrix(classes);
        SQLite::Statement cells(*database_, R"sql(
            SELECT epoch, true_class, predicted, count FROM confusion
            WHERE run = ?1 AND epoch BETWEEN ?2 AND ?3 ORDER BY epoch)sql");
        cells.bind(1, run);
        cells.bind(2, epochs.front().epoch);
        cells.bind(3, epochs.back().epoch);
        auto epoch = epochs.begin();
        while (cells.executeStep()) {
            while (epoch != epochs.end() && epoch->epoch < cells.getColumn(0).getInt64()) ++epoch;
            const auto row = static_cast<std::size_t>(cells.getColumn(1).getInt64());
            const auto column = static_cast<std::size_t>(cells.getColumn(2).getInt64());
            if (epoch == epochs.end() || row >= classes || column >= classes)
                throw InputError(
                    fmt::format("{}: a confusion matrix does not fit its run; the ledger is damaged",
                                printable(directory_.string())));
            epoch->validation.add(row, column, cells.getColumn(3).getInt64());
        }
    });
}

std::string Ledger::select_text(const char* sql, std::int64_t id) const {
    return with_database_errors(database_file(directory_), [&] {
        SQLite::Statement query(*database_, sql);
        query.bind(1, id);
        if (!query.executeStep()) throw InputError("the ledger has no such entry");
        return query.getColumn(0).getString();
    });
}

std::string Ledger::settings(std::int64_t run) const {
    return select_text("SELECT settings FROM runs WHERE id = ?", run);
}

std::string Ledger::plan(std::int64_t run) const {
    return select_text("SELECT plan FROM runs WHERE id = ?", run);
}

std::string Ledger::environment(std::int64_t run) const {
    return select_text("SELECT environment FROM runs WHERE id = ?", run);
}

std::filesystem::path Ledger::claims_file() const {
    return directory_ / "claims";
}

bool Ledger::is_claimed(std::int64_t run) const {
    return PlaceLock::is_held(claims_file(), run);
}

std::vector<LayerSummary> Ledger::layers(std::int64_t run, std::int64_t epoch) const {
    return with_database_errors(database_file(directory_), [&] {
        SQLite::Statement query(*database_, R"sql(
            SELECT name, weight_norm, gradient_norm, update_ratio, dead_share, learning_rate FROM layer_epochs
            JOIN layers USING (run, layer) WHERE run = ? AND epoch = ? ORDER BY layer)sql");
        query.bind(1, run);
        query.bind(2, epoch);
        std::vector<LayerSummary> layers;
        while (query.executeStep())
            layers.push_back({.layer = query.getColumn(0),
                              .weight_norm = query.getColumn(1),
                              .gradient_norm = query.getColumn(2),
                              .update_ratio = query.getColumn(3),
                              .dead_share = query.isColumnNull(4) ? -1.0 : query.getColumn(4).getDouble(),
                              .learning_rate = query.getColumn(5)});
        return layers;
    });
}

std::vector<WarningRecord> Ledger::warnings(std::int64_t run) const {
    return with_database_errors(database_file(directory_), [&] {
        SQLite::Statement query(*database_, "SELECT epoch, message FROM warnings WHERE run = ? ORDER BY id");
        query.bind(1, run);
        std::vector<WarningRecord> warnings;
        while (query.executeStep()) warnings.push_back({query.getColumn(0), query.getColumn(1)});
        return warnings;
    });
}

std::string Ledger::study_root(std::int64_t study) const {
    return select_text(
        "SELECT root FROM image_sets JOIN divisions ON image_set = image_sets.id JOIN studies ON division = "
        "divisions.id WHERE studies.id = ?",
        study);
}

std::vector<TestLook> Ledger::test_looks(std::int64_t study) const {
    return with_database_errors(database_file(directory_), [&] {
        SQLite::Statement query(*database_, R"sql(
            SELECT candidate, seed, fold, looked FROM test_looks JOIN runs ON runs.id = run
            WHERE study = ? ORDER BY test_looks.id)sql");
        query.bind(1, study);
        std::vector<TestLook> looks;
        while (query.executeStep())
            looks.push_back(
                {RunRecord{
                     .candidate = query.getColumn(0), .seed = query.getColumn(1), .fold = query.getColumn(2)}
                     .name(),
                 query.getColumn(3)});
        return looks;
    });
}

}  // namespace jevrin
