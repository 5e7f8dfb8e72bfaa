#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/ledger/database.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/transaction.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

// What it takes to read items again, besides their paths: only arrays need more than that.
std::string source_json(const ImageSource& source) {
    Json json = Json::object();
    if (!source.labels.empty())
        json = {{"array", std::filesystem::absolute(source.from).lexically_normal().string()},
                {"shape", source.shape},
                {"transposed", source.transposed}};
    return json_text(json);
}

// Where paths begin.
std::string root_of(const ImageSet& set) {
    return std::filesystem::absolute(set.root).lexically_normal().string();
}

// A table of texts by path.
std::string varied_text(const std::vector<VariedSetting>& varied) {
    Json json = Json::object();
    for (const VariedSetting& setting : varied) json[setting.path] = setting.value;
    return json_text(json);
}

std::int64_t put_image_set(SQLite::Database& database, const ImageSet& set) {
    const std::string root = root_of(set);
    const std::int64_t known =
        select_number(database, "SELECT id FROM image_sets WHERE fingerprint = ?", set.fingerprint);
    if (known != 0) {
        execute(database, "UPDATE image_sets SET root = ? WHERE id = ?", root, known);
        return known;
    }
    const std::int64_t version =
        1 + select_number(database, "SELECT MAX(version) FROM image_sets WHERE root = ?", root);
    execute(database,
            "INSERT INTO image_sets (fingerprint, root, version, added, source) VALUES (?, ?, ?, ?, ?)",
            set.fingerprint, root, version, now(), source_json(set.source));
    const std::int64_t id = database.getLastInsertRowid();
    for (std::size_t c = 0; c < set.classes.size(); ++c)
        execute(database, "INSERT INTO classes VALUES (?, ?, ?)", id, static_cast<std::int64_t>(c),
                set.classes[c]);
    SQLite::Statement insert(database, "INSERT INTO items (image_set, item, class) VALUES (?, ?, ?)");
    for (const Item& item : set.items) {
        insert.bind(1, id);
        insert.bind(2, item.id);
        insert.bind(3, static_cast<std::int64_t>(item.label));
        insert.exec();
        insert.reset();
    }
    for (const Item& item : set.unlabelled)
        execute(database, "INSERT OR IGNORE INTO unlabelled_items VALUES (?, ?)", id, item.id);
    return id;
}

std::int64_t insert_division(SQLite::Database& database, std::int64_t image_set, const ImageSet& set,
                             const Parts& parts, const std::string& settings) {
    std::string identity = set.fingerprint + '|' + settings;
    for (const Part part : all_parts) {
        identity += '|' + name_of(part);
        for (const std::size_t item : parts.of(part)) identity += ',' + std::to_string(item);
    }
    const std::string hash = content_hash(identity);
    const std::int64_t known = select_number(database, "SELECT id FROM divisions WHERE hash = ?", hash);
    if (known != 0) return known;
    execute(database, "INSERT INTO divisions (image_set, hash, settings) VALUES (?, ?, ?)", image_set, hash,
            settings);
    const std::int64_t id = database.getLastInsertRowid();
    SQLite::Statement insert(
        database,
        "INSERT INTO division_items SELECT ?, id, ?, ? FROM items WHERE image_set = ? AND item = ?");
    for (const Part part : all_parts)
        for (const std::size_t item : parts.of(part)) {
            insert.bind(1, id);
            insert.bind(2, name_of(part));
            insert.bind(3, parts.folds.empty() ? std::int64_t{0} : parts.folds[item]);
            insert.bind(4, image_set);
            insert.bind(5, set.items[item].id);
            insert.exec();
            insert.reset();
        }
    return id;
}

}  // namespace

std::int64_t Ledger::put_study(const std::string& name, Metric metric, const ImageSet& set,
                               const Parts& parts, const std::string& parts_settings) {
    return in_transaction(*database_, directory_, [&] {
        const std::int64_t image_set = put_image_set(*database_, set);
        const std::int64_t division = insert_division(*database_, image_set, set, parts, parts_settings);
        const std::int64_t used = 1 + select_number(*database_, "SELECT MAX(used) FROM studies");
        execute(*database_,
                "INSERT INTO studies (name, metric, division, used) VALUES (?1, ?2, ?3, ?4) ON CONFLICT "
                "(name) DO UPDATE "
                "SET metric = ?2, division = ?3, used = ?4",
                name, name_of(metric), division, used);
        return select_number(*database_, "SELECT id FROM studies WHERE name = ?", name);
    });
}

std::int64_t Ledger::put_division(std::int64_t study, const ImageSet& set, const Parts& parts,
                                  const std::string& parts_settings) {
    return in_transaction(*database_, directory_, [&] {
        const std::int64_t image_set = select_number(
            *database_,
            "SELECT image_set FROM studies JOIN divisions ON divisions.id = division WHERE studies.id = ?",
            study);
        return insert_division(*database_, image_set, set, parts, parts_settings);
    });
}

std::int64_t Ledger::put_run(std::int64_t study, const RunIdentity& run, std::int64_t* superseded_count) {
    const std::string& identity = run.key();
    return in_transaction(*database_, directory_, [&] {
        for (const std::string& former : run.former)
            execute(*database_,
                    "UPDATE OR IGNORE runs SET identity = ? WHERE study = ? AND candidate = ? AND seed = ? AND "
                    "fold = ? AND identity = ?",
                    identity, study, run.candidate, run.seed, run.fold, former);
        execute(
            *database_,
            "UPDATE runs SET superseded = 1 WHERE study = ? AND candidate = ? AND seed = ? AND fold = ? AND "
            "identity != ? AND superseded = 0",
            study, run.candidate, run.seed, run.fold, identity);
        if (superseded_count != nullptr) *superseded_count = database_->getChanges();
        execute(*database_, R"sql(
            INSERT INTO runs (study, division, candidate, origin, varied, regime, seed, fold, settings, identity, batch,
                              training_fraction, state, planned_epochs, parameters, trainable_parameters,
                              multiplications, jevrin_version, added)
            VALUES (?1, CASE ?2 WHEN 0 THEN (SELECT division FROM studies WHERE id = ?1) ELSE ?2 END,
                    ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, 'waiting', ?13, ?14, ?15, ?16, ?17, ?18)
            ON CONFLICT (study, candidate, seed, fold, identity) DO UPDATE SET superseded = 0)sql",
                study, run.division, run.candidate, run.origin.empty() ? run.candidate : run.origin,
                varied_text(run.varied), name_of(run.regime), run.seed, run.fold, run.settings, identity,
                run.batch, run.training_fraction, run.planned_epochs, run.parameters,
                run.trainable_parameters, run.multiplications, JEVRIN_VERSION, now());
        return select_number(
            *database_,
            "SELECT id FROM runs WHERE study = ? AND candidate = ? AND seed = ? AND fold = ? AND identity = ?",
            study, run.candidate, run.seed, run.fold, identity);
    });
}

std::optional<PlaceLock> Ledger::claim(std::int64_t run) {
    return PlaceLock::try_hold(claims_file(), run);
}

void Ledger::begin_run(std::int64_t run, const std::string& plan, const std::string& environment) {
    in_transaction(*database_, directory_, [&] {
        execute(
            *database_,
            "UPDATE runs SET state = 'training', reason = '', plan = ?, environment = ?, jevrin_version = ? "
            "WHERE id = ?",
            plan, environment, JEVRIN_VERSION, run);
    });
}

namespace {

void insert_layers(SQLite::Database& database, std::int64_t run, std::int64_t epoch,
                   const std::vector<LayerSummary>& layers) {
    SQLite::Statement known(database, "SELECT layer FROM layers WHERE run = ? AND name = ?");
    SQLite::Statement name(database,
                           "INSERT INTO layers SELECT ?1, COALESCE(MAX(layer), 0) + 1, ?2 FROM layers WHERE "
                           "run = ?1 RETURNING layer");
    SQLite::Statement row(database, "INSERT INTO layer_epochs VALUES (?, ?, ?, ?, ?, ?, ?, ?)");
    for (const LayerSummary& layer : layers) {
        std::int64_t number = 0;
        for (SQLite::Statement* statement : {&known, &name}) {
            statement->bind(1, run);
            statement->bind(2, layer.layer);
            if (number == 0 && statement->executeStep()) number = statement->getColumn(0).getInt64();
            statement->reset();
        }
        row.bind(1, run);
        row.bind(2, epoch);
        row.bind(3, number);
        row.bind(4, layer.weight_norm);
        row.bind(5, layer.gradient_norm);
        row.bind(6, layer.update_ratio);
        if (layer.dead_share >= 0.0)
            row.bind(7, layer.dead_share);
        else
            row.bind(7);
        row.bind(8, layer.learning_rate);
        row.exec();
        row.reset();
    }
}

}  // namespace

void Ledger::record_epoch(std::int64_t run, const EpochRecord& epoch, bool best,
                          const std::vector<LayerSummary>& layers, const std::vector<std::string>& warnings) {
    in_transaction(*database_, directory_, [&] {
        const ConfusionMatrix& matrix = epoch.validation;
        execute(*database_, R"sql(
            INSERT INTO epochs (run, epoch, training_loss, training_accuracy, validation_loss, accuracy,
                                balanced_accuracy, macro_f1, learning_rate, seconds, step, objective,
                                training_balanced_accuracy, training_macro_f1, data_seconds, compute_seconds,
                                validation_seconds, memory_bytes)
            VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?))sql",
                run, epoch.epoch, epoch.training_loss, epoch.training_accuracy, epoch.validation_loss,
                matrix.accuracy(), matrix.balanced_accuracy(), matrix.macro_f1(), epoch.learning_rate,
                epoch.seconds, epoch.step, epoch.objective, epoch.training_balanced_accuracy,
                epoch.training_macro_f1, epoch.data_seconds, epoch.compute_seconds, epoch.validation_seconds,
                epoch.memory_bytes);
        insert_layers(*database_, run, epoch.epoch, layers);
        for (const std::string& message : warnings)
            execute(*database_, "INSERT INTO warnings (run, epoch, message) VALUES (?, ?, ?)", run,
                    epoch.epoch, message);
        SQLite::Statement cell(*database_, "INSERT INTO confusion VALUES (?, ?, ?, ?, ?)");
        for (std::size_t i = 0; i < matrix.classes(); ++i)
            for (std::size_t j = 0; j < matrix.classes(); ++j) {
                if (matrix.at(i, j) == 0) continue;
                cell.bind(1, run);
                cell.bind(2, epoch.epoch);
                cell.bind(3, static_cast<std::int64_t>(i));
                cell.bind(4, static_cast<std::int64_t>(j));
                cell.bind(5, matrix.at(i, j));
                cell.exec();
                cell.reset();
            }
        execute(*database_, "UPDATE runs SET state = 'training', reason = '' WHERE id = ?", run);
        if (best) execute(*database_, "UPDATE runs SET best_epoch = ? WHERE id = ?", epoch.epoch, run);
    });
}

void Ledger::forget_records(std::int64_t run) {
    for (const char* table : {"confusion", "epochs", "predictions", "layer_epochs", "layers", "warnings"})
        execute(*database_, fmt::format("DELETE FROM {} WHERE run = ?", table).c_str(), run);
    execute(*database_, "UPDATE runs SET state = 'waiting', reason = '', best_epoch = 0 WHERE id = ?", run);
}

void Ledger::restart_run(std::int64_t run) {
    in_transaction(*database_, directory_, [&] { forget_records(run); });
}

void Ledger::put_predictions(std::int64_t run, Part part, const std::vector<PredictionRecord>& predictions) {
    execute(*database_, "DELETE FROM predictions WHERE run = ? AND part = ?", run, name_of(part));
    SQLite::Statement insert(*database_, R"sql(
        INSERT INTO predictions SELECT ?1, ?2, items.id, ?4, ?5, ?6 FROM items
        JOIN divisions ON divisions.image_set = items.image_set JOIN runs ON runs.division = divisions.id
        WHERE runs.id = ?1 AND items.item = ?3)sql");
    for (const PredictionRecord& p : predictions) {
        insert.bind(1, run);
        insert.bind(2, name_of(part));
        insert.bind(3, p.item);
        insert.bind(4, static_cast<std::int64_t>(p.predicted));
        insert.bind(5, static_cast<double>(p.probabilities.at(p.predicted)));
        insert.bind(6, p.probabilities.data(), static_cast<int>(p.probabilities.size() * sizeof(float)));
        if (insert.exec() != 1)
            throw WorkError(
                "a prediction names an item that its run does not have; the ledger is out of step");
        insert.reset();
    }
}

void Ledger::finish_run(std::int64_t run, const std::vector<PredictionRecord>& validation) {
    in_transaction(*database_, directory_, [&] {
        put_predictions(run, Part::validation, validation);
        execute(*database_, "UPDATE runs SET state = 'finished', reason = '', finished = ? WHERE id = ?",
                now(), run);
    });
}

void Ledger::fail_run(std::int64_t run, const std::string& reason) {
    in_transaction(*database_, directory_, [&] {
        execute(*database_, "UPDATE runs SET state = 'failed', reason = ? WHERE id = ?", reason, run);
    });
}

void Ledger::record_test_look(std::int64_t run, const std::vector<PredictionRecord>& test) {
    in_transaction(*database_, directory_, [&] {
        if (!test.empty()) put_predictions(run, Part::test, test);
        execute(*database_, "INSERT INTO test_looks (run, looked) VALUES (?, ?)", run, now());
    });
}

void Ledger::put_mark(std::int64_t study, const MarkRecord& mark) {
    const std::string root = study_root(study);
    in_transaction(*database_, directory_, [&] {
        execute(*database_, "INSERT OR REPLACE INTO marks VALUES (?, ?, ?, ?, ?, ?)", root, mark.item,
                mark.label, std::int64_t{mark.excluded}, mark.note, now());
    });
}

bool Ledger::remove_mark(std::int64_t study, const std::string& item) {
    const std::string root = study_root(study);
    return in_transaction(*database_, directory_, [&] {
        execute(*database_, "DELETE FROM marks WHERE root = ? AND item = ?", root, item);
        return database_->getChanges() > 0;
    });
}

}  // namespace jevrin
