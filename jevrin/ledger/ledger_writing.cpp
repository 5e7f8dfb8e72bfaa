#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/version.hpp"
#include "jevrin/images/image_arrays.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/columns.hpp"
#include "jevrin/ledger/epoch_predictions.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/matrix_rows.hpp"
#include "jevrin/ledger/statements.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// What it takes to read items again, besides their paths: only arrays need more than that.
std::string source_json(const ImageSet& set) {
    Json json = Json::object();
    if (set.arrays) {
        json = {
            {"arrays", Json::object()}, {"shape", set.source.shape}, {"transposed", set.source.transposed}};
        for (const auto& [name, file] : set.arrays->files())
            json["arrays"][name] = std::filesystem::absolute(file).lexically_normal().string();
    }
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
            set.fingerprint, root, version, now(), source_json(set));
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
    seal(database, SealedRows::items, "id = ?", {id});
    seal(database, SealedRows::classes, "id = ?", {id});
    return id;
}

// What stays together in a split, each by the number of the first of its items.
void put_units(SQLite::Database& database, std::int64_t split, std::int64_t image_set, const ImageSet& set,
               const Parts& parts) {
    SQLite::Statement update(database, R"sql(
        UPDATE split_items SET unit = (SELECT id FROM items WHERE image_set = ?2 AND item = ?4)
        WHERE split = ?1 AND item = (SELECT id FROM items WHERE image_set = ?2 AND item = ?3))sql");
    for (std::size_t i = 0; i < parts.units.size(); ++i) {
        update.bind(1, split);
        update.bind(2, image_set);
        update.bind(3, set.items[i].id);
        update.bind(4, set.items[parts.units[i]].id);
        update.exec();
        update.reset();
    }
    seal(database, SealedRows::split_items, "id = ?", {split});
}

std::int64_t insert_split(LedgerConnection& connection, std::int64_t image_set, const ImageSet& set,
                          const Parts& parts, const std::string& settings) {
    SQLite::Database& database = *connection.database;
    std::string identity = set.fingerprint + '|' + settings;
    for (const Part part : all_parts) {
        identity += '|' + name_of(part);
        for (const std::size_t item : parts.of(part)) identity += ',' + std::to_string(item);
    }
    const std::string hash = content_hash(identity);
    const std::int64_t known = select_number(database, "SELECT id FROM splits WHERE hash = ?", hash);
    if (known != 0) {
        // One of an earlier version knows no units yet.
        if (select_number(database, "SELECT MAX(unit) FROM split_items WHERE split = ?", known) == 0) {
            put_units(database, known, image_set, set, parts);
            connection.splits.erase(known);
        }
        return known;
    }
    execute(database, "INSERT INTO splits (image_set, hash, settings) VALUES (?, ?, ?)", image_set, hash,
            settings);
    const std::int64_t id = database.getLastInsertRowid();
    SQLite::Statement insert(
        database,
        "INSERT INTO split_items (split, item, part, fold) SELECT ?, id, ?, ? FROM items WHERE "
        "image_set = ? AND item = ?");
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
    put_units(database, id, image_set, set, parts);
    return id;
}

}  // namespace

LedgerWriter LedgerWriter::open(const std::filesystem::path& directory) {
    make_directory(directory);
    auto connection = std::make_shared<LedgerConnection>(directory, DatabaseAccess::write);
    for (const char* name : {"models", "checkpoints"}) {
        make_directory(directory / name);
        remove_leftovers(directory / name);
    }
    return LedgerWriter(std::move(connection));
}

void LedgerWriter::require_in_place() const {
    connection_->require_in_place();
}

void LedgerWriter::require_run(RunId run) const {
    require_row(*connection_, "runs", run, "run");
}

StudyId LedgerWriter::put_study(const std::string& name, Metric metric, const ImageSet& set,
                                const Parts& parts, const std::string& parts_settings) {
    return in_transaction(*connection_, [&] {
        const std::int64_t image_set = put_image_set(*connection_->database, set);
        const std::int64_t split = insert_split(*connection_, image_set, set, parts, parts_settings);
        const std::int64_t used = 1 + select_number(*connection_->database, "SELECT MAX(used) FROM studies");
        execute(*connection_->database,
                "INSERT INTO studies (name, metric, split, used) VALUES (?1, ?2, ?3, ?4) ON CONFLICT "
                "(name) DO UPDATE "
                "SET metric = ?2, split = ?3, used = ?4",
                name, name_of(metric), split, used);
        return StudyId{select_number(*connection_->database, "SELECT id FROM studies WHERE name = ?", name)};
    });
}

SplitId LedgerWriter::put_split(StudyId study, const ImageSet& set, const Parts& parts,
                                const std::string& parts_settings) {
    return in_transaction(*connection_, [&] {
        const std::int64_t image_set = select_number(
            *connection_->database,
            "SELECT image_set FROM studies JOIN splits ON splits.id = split WHERE studies.id = ?", study);
        return SplitId{insert_split(*connection_, image_set, set, parts, parts_settings)};
    });
}

void LedgerWriter::put_margin(StudyId study, double margin, std::int64_t most_seeds) {
    in_transaction(*connection_, [&] {
        execute(*connection_->database, "UPDATE studies SET margin = ?, most_seeds = ? WHERE id = ?", margin,
                most_seeds, study);
    });
}

void LedgerWriter::put_seed_look(StudyId study, std::int64_t seeds) {
    in_transaction(*connection_, [&] {
        require_row(*connection_, "studies", study, "study");
        execute(*connection_->database,
                "INSERT OR IGNORE INTO seed_looks (study, seeds, looked) VALUES (?, ?, ?)", study, seeds,
                now());
    });
}

RunId LedgerWriter::put_run(StudyId study, const RunIdentity& run, std::int64_t* superseded_count) {
    const std::string& identity = run.key();
    return in_transaction(*connection_, [&] {
        const std::int64_t elsewhere = select_number(*connection_->database, R"sql(
            SELECT COUNT(*) FROM runs JOIN external_runs ON run = runs.id WHERE study = ? AND candidate = ? AND seed = ?
            AND fold = ? AND superseded = 0 AND identity != ?)sql",
                                                     study, run.candidate, run.seed, run.fold, identity);
        if (elsewhere != 0)
            throw InputError(
                fmt::format("the ledger has a run '{}/{}' that was trained elsewhere; name the candidate "
                            "otherwise, or delete that run",
                            printable(run.candidate), run.seed));
        for (const std::string& former : run.former)
            execute(
                *connection_->database,
                "UPDATE OR IGNORE runs SET identity = ? WHERE study = ? AND candidate = ? AND seed = ? AND "
                "fold = ? AND identity = ?",
                identity, study, run.candidate, run.seed, run.fold, former);
        execute(
            *connection_->database,
            "UPDATE runs SET superseded = 1 WHERE study = ? AND candidate = ? AND seed = ? AND fold = ? AND "
            "identity != ? AND superseded = 0",
            study, run.candidate, run.seed, run.fold, identity);
        if (superseded_count != nullptr) *superseded_count = connection_->database->getChanges();
        execute(*connection_->database, R"sql(
            INSERT INTO runs (study, split, candidate, origin, varied, regime, seed, fold, settings, identity, batch,
                              training_fraction, state, planned_epochs, parameters, trainable_parameters,
                              multiplications, jevrin_version, added)
            VALUES (?1, CASE ?2 WHEN 0 THEN (SELECT split FROM studies WHERE id = ?1) ELSE ?2 END,
                    ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, 'waiting', ?13, ?14, ?15, ?16, ?17, ?18)
            ON CONFLICT (study, candidate, seed, fold, identity) DO UPDATE SET superseded = 0)sql",
                study, run.split, run.candidate, run.origin.empty() ? run.candidate : run.origin,
                varied_text(run.varied), name_of(run.regime), run.seed, run.fold, run.settings, identity,
                run.batch, run.training_fraction, run.planned_epochs, run.parameters,
                run.trainable_parameters, run.multiplications, library_version(), now());
        return RunId{select_number(*connection_->database,
                                   "SELECT id FROM runs WHERE study = ? AND candidate = ? AND seed = ? AND "
                                   "fold = ? AND identity = ?",
                                   study, run.candidate, run.seed, run.fold, identity)};
    });
}

std::optional<PlaceLock> LedgerWriter::claim(RunId run) {
    return PlaceLock::try_hold(connection_->claims_file(), run.number);
}

void LedgerWriter::begin_run(RunId run, const std::string& plan, const std::string& environment) {
    in_transaction(*connection_, [&] {
        require_run(run);
        execute(
            *connection_->database,
            "UPDATE runs SET state = 'training', reason = '', plan = ?, environment = ?, jevrin_version = ? "
            "WHERE id = ?",
            plan, environment, library_version(), run);
    });
}

namespace {

void insert_layers(SQLite::Database& database, RunId run, std::int64_t epoch,
                   const std::vector<LayerSummary>& layers) {
    SQLite::Statement known(database, "SELECT layer FROM layers WHERE run = ? AND name = ?");
    SQLite::Statement name(database,
                           "INSERT INTO layers SELECT ?1, COALESCE(MAX(layer), 0) + 1, ?2 FROM layers WHERE "
                           "run = ?1 RETURNING layer");
    SQLite::Statement row(
        database, fmt::format("INSERT INTO layer_epochs (run, epoch, layer, {}) VALUES ({})",
                              column_names(layer_columns), placeholders(3 + std::size(layer_columns))));
    for (const LayerSummary& layer : layers) {
        std::int64_t number = 0;
        for (SQLite::Statement* statement : {&known, &name}) {
            statement->bind(1, run.number);
            statement->bind(2, layer.layer);
            if (number == 0 && statement->executeStep()) number = statement->getColumn(0).getInt64();
            statement->reset();
        }
        row.bind(1, run.number);
        row.bind(2, epoch);
        row.bind(3, number);
        int place = 3;
        for (const LayerColumn& column : layer_columns) {
            ++place;
            if (column.nullable && layer.*column.member < 0.0)
                row.bind(place);
            else
                row.bind(place, layer.*column.member);
        }
        row.exec();
        row.reset();
    }
}

constexpr std::size_t cells_at_a_time = 24;

}  // namespace

void insert_matrix(LedgerConnection& connection, RunId run, std::int64_t epoch,
                   const ConfusionMatrix& matrix) {
    std::vector<std::int64_t> cells;  // row, column, items
    for (std::size_t i = 0; i < matrix.classes(); ++i)
        for (std::size_t j = 0; j < matrix.classes(); ++j)
            if (matrix.at(i, j) != 0)
                cells.insert(cells.end(),
                             {static_cast<std::int64_t>(i), static_cast<std::int64_t>(j), matrix.at(i, j)});
    // Many at a time: a statement for each cell costs more than the cell.
    static const std::string cell = "INSERT INTO confusion VALUES (?, ?, ?, ?, ?)";
    static const std::string many = [] {
        std::string text = cell;
        for (std::size_t i = 1; i < cells_at_a_time; ++i) text += ", (?, ?, ?, ?, ?)";
        return text;
    }();
    for (std::size_t at = 0; at < cells.size();) {
        const std::size_t count = (cells.size() - at) / 3 >= cells_at_a_time ? cells_at_a_time : 1;
        LentStatement insert = connection.prepared(count == 1 ? cell : many);
        int place = 0;
        for (std::size_t i = 0; i < count; ++i, at += 3) {
            insert->bind(++place, run.number);
            insert->bind(++place, epoch);
            for (std::size_t k = 0; k < 3; ++k) insert->bind(++place, cells[at + k]);
        }
        insert->exec();
    }
}

void LedgerWriter::record_epoch(RunId run, const RecordedEpoch& epoch, bool best,
                                const std::vector<LayerSummary>& layers,
                                const std::vector<std::string>& warnings,
                                const std::vector<ItemPrediction>& predicted) {
    // Without counts the scores are what was claimed.
    const RecordedEpoch scored =
        epoch.validation.total() == 0 ? epoch : recorded_epoch(epoch, epoch.validation);
    in_transaction(*connection_, [&] {
        LedgerConnection& connection = *connection_;
        static const std::string insert_epoch =
            fmt::format("INSERT INTO epochs (run, {}) VALUES ({})", column_names(epoch_columns()),
                        placeholders(1 + std::size(epoch_columns())));
        {
            LentStatement insert = connection.prepared(insert_epoch);
            int place = 0;
            insert->bind(++place, run.number);
            for (const EpochColumn& column : epoch_columns())
                visit_column(column, scored, [&](const auto& number) { insert->bind(++place, number); });
            insert->exec();
        }
        for (const std::string& message : warnings)
            execute(connection, "INSERT INTO warnings (run, epoch, message) VALUES (?, ?, ?)", run,
                    epoch.epoch, message);
        insert_matrix(connection, run, epoch.epoch, epoch.validation);
        if (!predicted.empty())
            put_epoch_predictions(connection, run, epoch.epoch, epoch.validation.classes(), predicted);
        seal(connection, SealedRows::matrix, "run = ? AND epoch = ?", {run.number, epoch.epoch});
        // No layers have the checksum that a new epoch has.
        if (!layers.empty()) {
            insert_layers(*connection.database, run, epoch.epoch, layers);
            seal(connection, SealedRows::layers, "run = ? AND epoch = ?", {run.number, epoch.epoch});
        }
        seal(connection, SealedRows::epochs, "id = ?", {run.number});
        execute(
            connection,
            "UPDATE runs SET state = 'training', reason = '', planned_epochs = MAX(planned_epochs, ?) WHERE "
            "id = ?",
            epoch.epoch, run);
        if (best) execute(connection, "UPDATE runs SET best_epoch = ? WHERE id = ?", epoch.epoch, run);
    });
}

void LedgerWriter::forget_records(RunId run) {
    for (const char* table :
         {"confusion", "epochs", "epoch_predictions", "cross_fitted", "predictions", "part_checksums",
          "layer_epochs", "layers", "warnings", "models", "prediction_costs", "external_epochs"})
        execute(*connection_->database, fmt::format("DELETE FROM {} WHERE run = ?", table), run);
    execute(
        *connection_->database,
        "UPDATE runs SET state = 'waiting', reason = '', best_epoch = 0, epochs_checksum = 0 WHERE id = ?",
        run);
}

void LedgerWriter::restart_run(RunId run) {
    in_transaction(*connection_, [&] {
        require_run(run);
        forget_records(run);
    });
}

void LedgerWriter::put_predictions(RunId run, Part part, const std::vector<PredictionRecord>& predictions) {
    execute(*connection_->database, "DELETE FROM predictions WHERE run = ? AND part = ?", run, name_of(part));
    SQLite::Statement insert(*connection_->database, R"sql(
        INSERT INTO predictions SELECT ?1, ?2, items.id, ?4, ?5, ?6 FROM items
        JOIN splits ON splits.image_set = items.image_set JOIN runs ON runs.split = splits.id
        WHERE runs.id = ?1 AND items.item = ?3)sql");
    for (const PredictionRecord& p : predictions) {
        insert.bind(1, run.number);
        insert.bind(2, name_of(part));
        insert.bind(3, p.item);
        insert.bind(4, static_cast<std::int64_t>(p.predicted));
        insert.bind(5, static_cast<double>(p.probabilities.at(p.predicted)));
        insert.bind(6, p.probabilities.data(), static_cast<int>(p.probabilities.size() * sizeof(float)));
        if (insert.exec() != 1)
            throw WorkError(
                "a prediction refers to an item that its run does not have; the ledger is damaged");
        insert.reset();
    }
    execute(*connection_->database, "INSERT OR REPLACE INTO part_checksums (run, part) VALUES (?, ?)", run,
            name_of(part));
    for (const SealedRows rows : {SealedRows::outcomes, SealedRows::probabilities})
        seal(*connection_->database, rows, fmt::format("run = ? AND part = '{}'", name_of(part)),
             {run.number});
}

void LedgerWriter::put_model_hash(RunId run, std::int64_t epoch, const std::string& hash) {
    execute(*connection_->database, "INSERT OR REPLACE INTO models (run, epoch, hash) VALUES (?, ?, ?)", run,
            epoch, hash);
}

void LedgerWriter::put_epoch_model(RunId run, std::int64_t epoch, const std::string& hash) {
    in_transaction(*connection_, [&] {
        require_run(run);
        put_model_hash(run, epoch, hash);
    });
}

void LedgerWriter::put_cost(RunId run, const PredictionCost& cost) {
    execute(*connection_->database,
            "INSERT OR REPLACE INTO prediction_costs (run, milliseconds, batch_milliseconds, bytes) VALUES "
            "(?, ?, "
            "?, ?)",
            run, cost.milliseconds, cost.batch_milliseconds, cost.bytes);
}

void LedgerWriter::put_model(RunId run, const std::string& hash, const PredictionCost& cost) {
    in_transaction(*connection_, [&] {
        require_run(run);
        put_model_hash(run, 0, hash);
        put_cost(run, cost);
    });
}

void LedgerWriter::finish_run(RunId run, const std::vector<PredictionRecord>& validation,
                              const std::string& model_hash, const std::optional<PredictionCost>& cost) {
    in_transaction(*connection_, [&] {
        require_run(run);
        if (cost) put_cost(run, *cost);
        if (!model_hash.empty()) put_model_hash(run, 0, model_hash);
        put_predictions(run, Part::validation, validation);
        put_cross_fitted(run);
        execute(*connection_->database,
                "UPDATE runs SET state = 'finished', reason = '', finished = ? WHERE id = ?", now(), run);
    });
}

void LedgerWriter::fail_run(RunId run, const std::string& reason) {
    in_transaction(*connection_, [&] {
        require_run(run);
        execute(*connection_->database, "UPDATE runs SET state = 'failed', reason = ? WHERE id = ?", reason,
                run);
    });
}

void LedgerWriter::put_mark(StudyId study, const MarkRecord& mark) {
    const std::string root = ledger_.study_root(study);
    in_transaction(*connection_, [&] {
        execute(
            *connection_->database,
            "INSERT OR REPLACE INTO marks (root, item, label, excluded, note, marked) VALUES (?, ?, ?, ?, ?, "
            "?)",
            root, mark.item, mark.label, std::int64_t{mark.excluded}, mark.note, now());
    });
}

bool LedgerWriter::remove_mark(StudyId study, const std::string& item) {
    const std::string root = ledger_.study_root(study);
    return in_transaction(*connection_, [&] {
        execute(*connection_->database, "DELETE FROM marks WHERE root = ? AND item = ?", root, item);
        return connection_->database->getChanges() > 0;
    });
}

}  // namespace jevrin::inline v1
