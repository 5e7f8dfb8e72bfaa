#include "jevrin/ledger/schema.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/columns.hpp"
#include "jevrin/plan/run_settings.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

const char* const tables = R"sql(
CREATE TABLE image_sets (
    id INTEGER PRIMARY KEY,
    fingerprint TEXT NOT NULL UNIQUE,
    root TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    added TEXT NOT NULL DEFAULT '',
    source TEXT NOT NULL DEFAULT '{}');
CREATE TABLE classes (
    image_set INTEGER NOT NULL REFERENCES image_sets(id),
    class INTEGER NOT NULL,
    name TEXT NOT NULL,
    PRIMARY KEY (image_set, class)) WITHOUT ROWID;
CREATE TABLE items (
    id INTEGER PRIMARY KEY,
    image_set INTEGER NOT NULL REFERENCES image_sets(id),
    item TEXT NOT NULL,
    class INTEGER NOT NULL,
    UNIQUE (image_set, item));
CREATE TABLE splits (
    id INTEGER PRIMARY KEY,
    image_set INTEGER NOT NULL REFERENCES image_sets(id),
    hash TEXT NOT NULL UNIQUE,
    settings TEXT NOT NULL DEFAULT '');
CREATE TABLE unlabelled_items (
    image_set INTEGER NOT NULL REFERENCES image_sets(id),
    item TEXT NOT NULL,
    PRIMARY KEY (image_set, item)) WITHOUT ROWID;
CREATE TABLE split_items (
    split INTEGER NOT NULL REFERENCES splits(id),
    item INTEGER NOT NULL REFERENCES items(id),
    part TEXT NOT NULL,
    fold INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (split, item)) WITHOUT ROWID;
CREATE TABLE studies (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    metric TEXT NOT NULL,
    split INTEGER NOT NULL REFERENCES splits(id),
    used INTEGER NOT NULL);
CREATE TABLE epochs (
    run INTEGER NOT NULL REFERENCES runs(id),
    epoch INTEGER NOT NULL,
    training_loss REAL NOT NULL,
    training_accuracy REAL NOT NULL,
    validation_loss REAL NOT NULL,
    accuracy REAL NOT NULL,
    balanced_accuracy REAL NOT NULL,
    macro_f1 REAL NOT NULL,
    learning_rate REAL NOT NULL,
    seconds REAL NOT NULL,
    step INTEGER NOT NULL DEFAULT 0,
    objective REAL NOT NULL DEFAULT 0,
    training_balanced_accuracy REAL NOT NULL DEFAULT 0,
    training_macro_f1 REAL NOT NULL DEFAULT 0,
    data_seconds REAL NOT NULL DEFAULT 0,
    compute_seconds REAL NOT NULL DEFAULT 0,
    validation_seconds REAL NOT NULL DEFAULT 0,
    memory_bytes INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run, epoch)) WITHOUT ROWID;
CREATE TABLE confusion (
    run INTEGER NOT NULL REFERENCES runs(id),
    epoch INTEGER NOT NULL,
    true_class INTEGER NOT NULL,
    predicted INTEGER NOT NULL,
    count INTEGER NOT NULL,
    PRIMARY KEY (run, epoch, true_class, predicted)) WITHOUT ROWID;
CREATE TABLE predictions (
    run INTEGER NOT NULL REFERENCES runs(id),
    part TEXT NOT NULL,
    item INTEGER NOT NULL REFERENCES items(id),
    predicted INTEGER NOT NULL,
    probability REAL NOT NULL,
    probabilities BLOB NOT NULL,
    PRIMARY KEY (run, part, item)) WITHOUT ROWID;
CREATE TABLE test_looks (
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL REFERENCES runs(id),
    looked TEXT NOT NULL);
)sql";

// Runs as version 7 has them: distinguished by what differs from the defaults, not by the text of all
// settings.
const char* const runs_table = R"sql(
CREATE TABLE runs (
    id INTEGER PRIMARY KEY,
    study INTEGER NOT NULL REFERENCES studies(id),
    split INTEGER NOT NULL REFERENCES splits(id),
    candidate TEXT NOT NULL,
    origin TEXT NOT NULL DEFAULT '',
    varied TEXT NOT NULL DEFAULT '{}',
    regime TEXT NOT NULL,
    seed INTEGER NOT NULL,
    fold INTEGER NOT NULL DEFAULT 0,
    settings TEXT NOT NULL,
    identity TEXT NOT NULL,
    batch INTEGER NOT NULL DEFAULT 0,
    training_fraction REAL NOT NULL DEFAULT 1,
    state TEXT NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    superseded INTEGER NOT NULL DEFAULT 0,
    planned_epochs INTEGER NOT NULL,
    best_epoch INTEGER NOT NULL DEFAULT 0,
    parameters INTEGER NOT NULL,
    trainable_parameters INTEGER NOT NULL,
    multiplications INTEGER NOT NULL DEFAULT 0,
    jevrin_version TEXT NOT NULL,
    added TEXT NOT NULL,
    finished TEXT,
    plan TEXT NOT NULL DEFAULT '',
    environment TEXT NOT NULL DEFAULT '{}',
    archived INTEGER NOT NULL DEFAULT 0,
    note TEXT NOT NULL DEFAULT '',
    UNIQUE (study, candidate, seed, fold, identity));
)sql";

// Tables and columns whose names were others before version 9. This comes first, so that all later steps name
// them as the schema does.
const char* const names_before_version_9 = R"sql(
ALTER TABLE divisions RENAME TO splits;
ALTER TABLE division_items RENAME TO split_items;
ALTER TABLE split_items RENAME COLUMN division TO split;
ALTER TABLE studies RENAME COLUMN division TO split;
ALTER TABLE runs RENAME COLUMN division TO split;
)sql";
const char* const layer_names_before_version_9 =
    "ALTER TABLE layer_epochs RENAME COLUMN dead_share TO dead_fraction;";

// What version 2 added to version 1.
const char* const from_version_1 = R"sql(
ALTER TABLE image_sets ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE image_sets ADD COLUMN added TEXT NOT NULL DEFAULT '';
ALTER TABLE image_sets ADD COLUMN source TEXT NOT NULL DEFAULT '{}';
ALTER TABLE splits ADD COLUMN settings TEXT NOT NULL DEFAULT '';
ALTER TABLE split_items ADD COLUMN fold INTEGER NOT NULL DEFAULT 0;
CREATE TABLE unlabelled_items (
    image_set INTEGER NOT NULL REFERENCES image_sets(id),
    item TEXT NOT NULL,
    PRIMARY KEY (image_set, item)) WITHOUT ROWID;
)sql";

const char* const from_version_2 = "ALTER TABLE runs ADD COLUMN multiplications INTEGER NOT NULL DEFAULT 0;";

const char* const from_version_3 = R"sql(
ALTER TABLE runs ADD COLUMN fold INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN origin TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN varied TEXT NOT NULL DEFAULT '{}';
ALTER TABLE runs ADD COLUMN plan TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN environment TEXT NOT NULL DEFAULT '{}';
ALTER TABLE epochs ADD COLUMN step INTEGER NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN objective REAL NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN training_balanced_accuracy REAL NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN training_macro_f1 REAL NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN data_seconds REAL NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN compute_seconds REAL NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN validation_seconds REAL NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN memory_bytes INTEGER NOT NULL DEFAULT 0;
UPDATE runs SET origin = candidate;
)sql";

// New tables of version 4, in the schema and for ledgers before it.
const char* const tables_of_version_4 = R"sql(
CREATE TABLE layers (
    run INTEGER NOT NULL REFERENCES runs(id),
    layer INTEGER NOT NULL,
    name TEXT NOT NULL,
    PRIMARY KEY (run, layer)) WITHOUT ROWID;
CREATE TABLE layer_epochs (
    run INTEGER NOT NULL REFERENCES runs(id),
    epoch INTEGER NOT NULL,
    layer INTEGER NOT NULL,
    weight_norm REAL NOT NULL,
    gradient_norm REAL NOT NULL,
    update_ratio REAL NOT NULL,
    dead_fraction REAL,
    learning_rate REAL NOT NULL,
    PRIMARY KEY (run, epoch, layer)) WITHOUT ROWID;
CREATE TABLE warnings (
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL REFERENCES runs(id),
    epoch INTEGER NOT NULL,
    message TEXT NOT NULL);
CREATE INDEX warnings_of_run ON warnings (run);
)sql";

// Of version 5, likewise.
const char* const tables_of_version_5 = R"sql(
CREATE TABLE marks (
    root TEXT NOT NULL,
    item TEXT NOT NULL,
    label TEXT NOT NULL,
    excluded INTEGER NOT NULL,
    note TEXT NOT NULL,
    marked TEXT NOT NULL,
    PRIMARY KEY (root, item)) WITHOUT ROWID;
)sql";

const char* const from_version_5 = R"sql(
ALTER TABLE runs ADD COLUMN archived INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN note TEXT NOT NULL DEFAULT '';
)sql";

// Of version 6. The index lets predicted classes be read without the probabilities beside them.
const char* const tables_of_version_6 = R"sql(
CREATE TABLE run_tags (
    run INTEGER NOT NULL REFERENCES runs(id),
    tag TEXT NOT NULL,
    PRIMARY KEY (run, tag)) WITHOUT ROWID;
CREATE INDEX predicted_classes ON predictions (run, part, item, predicted);
)sql";

// From version 6 on. Of runs that differ only in how their settings were written the finished one keeps the
// identity, and stands when one of them did; the others stay behind as superseded.
void bring_runs_to_version_7(SQLite::Database& database) {
    database.exec("ALTER TABLE runs RENAME TO runs_before");
    database.exec(runs_table);
    SQLite::Statement query(database, R"sql(
        SELECT id, settings FROM runs_before ORDER BY state != 'finished', superseded, id)sql");
    SQLite::Statement same(database, R"sql(
        SELECT known.id FROM runs AS known JOIN runs_before AS old ON known.study = old.study AND
            known.candidate = old.candidate AND known.seed = old.seed AND known.fold = old.fold
        WHERE old.id = ?1 AND known.identity = ?2)sql");
    SQLite::Statement stand(database, R"sql(
        UPDATE runs SET superseded = min(superseded, (SELECT superseded FROM runs_before WHERE id = ?2))
        WHERE id = ?1)sql");
    SQLite::Statement insert(database, R"sql(
        INSERT INTO runs SELECT id, study, split, candidate, origin, varied, regime, seed, fold, settings, ?2, ?3, ?4,
            state, reason, max(superseded, ?5), planned_epochs, best_epoch, parameters, trainable_parameters,
            multiplications, jevrin_version, added, finished, plan, environment, archived, note
        FROM runs_before WHERE id = ?1)sql");
    while (query.executeStep()) {
        const std::string text = query.getColumn(1);
        std::string identity = text;
        TrainingSettings training{.batch = 0};
        try {
            const RunSettings settings = parse_settings(text);
            identity = identity_of(settings);
            training = settings.candidate.training;
        } catch (const InputError&) {
            // Recorded by a program of its own: its settings stay what they are.
        }
        const std::int64_t id = query.getColumn(0).getInt64();
        same.bind(1, id);
        same.bind(2, identity);
        const bool known = same.executeStep();
        if (known) {
            stand.bind(1, same.getColumn(0).getInt64());
            stand.bind(2, id);
            stand.exec();
            stand.reset();
        }
        same.reset();
        insert.bind(1, id);
        insert.bind(2, known ? text : identity);
        insert.bind(3, training.batch);
        insert.bind(4, training.fraction);
        insert.bind(5, std::int64_t{known});
        insert.exec();
        insert.reset();
    }
    database.exec("DROP TABLE runs_before");
}

// Writes settings and identities with the keys of this version. An identity that was kept because another run
// has the one of its settings stays what it is.
void rename_keys_of_runs(SQLite::Database& database) {
    SQLite::Statement query(database, "SELECT id, settings, identity FROM runs");
    SQLite::Statement update(database,
                             "UPDATE OR IGNORE runs SET settings = ?2, identity = ?3 WHERE id = ?1");
    while (query.executeStep()) {
        const std::string text = query.getColumn(1);
        const std::string identity = query.getColumn(2);
        if (identity == text) continue;
        try {
            const RunSettings settings = parse_settings(text);
            update.bind(1, query.getColumn(0).getInt64());
            update.bind(2, to_text(settings));
            update.bind(3, identity_of(settings));
            update.exec();
            update.reset();
        } catch (const InputError&) {
            // Recorded by a program of its own: its settings stay what they are.
        }
    }
}

// What version 10 added: what it takes to notice damage, which model belongs to a run, and looks at the test
// part by item.
const char* const from_version_9 = R"sql(
CREATE TABLE ledger (identity TEXT NOT NULL, looks INTEGER NOT NULL DEFAULT 0);
CREATE TABLE models (
    run INTEGER NOT NULL REFERENCES runs(id),
    epoch INTEGER NOT NULL,
    hash TEXT NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run, epoch)) WITHOUT ROWID;
CREATE TABLE part_checksums (
    run INTEGER NOT NULL REFERENCES runs(id),
    part TEXT NOT NULL,
    outcomes INTEGER NOT NULL DEFAULT 0,
    probabilities INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run, part)) WITHOUT ROWID;
ALTER TABLE runs ADD COLUMN checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN epochs_checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN matrix_checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE epochs ADD COLUMN layers_checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE studies ADD COLUMN checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE studies ADD COLUMN runs INTEGER NOT NULL DEFAULT 0;
ALTER TABLE image_sets ADD COLUMN checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE image_sets ADD COLUMN items_checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE image_sets ADD COLUMN classes_checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE splits ADD COLUMN checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE splits ADD COLUMN items_checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE split_items ADD COLUMN unit INTEGER NOT NULL DEFAULT 0;
ALTER TABLE warnings ADD COLUMN checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE marks ADD COLUMN checksum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE test_looks RENAME TO test_looks_before;
CREATE TABLE test_looks (
    id INTEGER PRIMARY KEY,
    look TEXT NOT NULL UNIQUE,
    run INTEGER REFERENCES runs(id),
    split INTEGER REFERENCES splits(id),
    what TEXT NOT NULL,
    looked TEXT NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0);
CREATE TABLE look_items (
    look INTEGER NOT NULL REFERENCES test_looks(id),
    content TEXT NOT NULL,
    PRIMARY KEY (look, content)) WITHOUT ROWID;
INSERT INTO test_looks (id, look, run, split, what, looked)
SELECT old.id, format('%s %s/%s/%d/%d %d', looked, studies.name, candidate, seed, fold,
                      ROW_NUMBER() OVER (PARTITION BY run, looked ORDER BY old.id)),
       run, runs.split, 'scores', looked
FROM test_looks_before AS old JOIN runs ON runs.id = run JOIN studies ON studies.id = study ORDER BY old.id;
DROP TABLE test_looks_before;
UPDATE studies SET runs = (SELECT COUNT(*) FROM runs WHERE study = studies.id);
)sql";

// What version 11 added: predictions by epoch, what a study calls a difference that matters, and looks at its
// evidence while seeds are added.
const char* const from_version_10 = R"sql(
CREATE TABLE epoch_predictions (
    run INTEGER NOT NULL REFERENCES runs(id),
    epoch INTEGER NOT NULL,
    predicted BLOB NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run, epoch)) WITHOUT ROWID;
CREATE TABLE cross_fitted (
    run INTEGER NOT NULL REFERENCES runs(id),
    metric TEXT NOT NULL,
    predicted BLOB NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run, metric)) WITHOUT ROWID;
CREATE TABLE seed_looks (
    study INTEGER NOT NULL REFERENCES studies(id),
    seeds INTEGER NOT NULL,
    looked TEXT NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (study, seeds)) WITHOUT ROWID;
ALTER TABLE studies ADD COLUMN margin REAL NOT NULL DEFAULT 0.01;
ALTER TABLE studies ADD COLUMN most_seeds INTEGER NOT NULL DEFAULT 0;
)sql";

// What version 12 added: what a prediction with a run's model costs.
const char* const from_version_11 = R"sql(
CREATE TABLE prediction_costs (
    run INTEGER PRIMARY KEY REFERENCES runs(id),
    milliseconds REAL NOT NULL,
    batch_milliseconds REAL NOT NULL,
    bytes INTEGER NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0);
)sql";

// What version 13 added: runs that were trained elsewhere. Of an epoch they may not say everything: its
// numbers are NULL then, which the table of earlier versions forbade.
const char* const from_version_12 = R"sql(
CREATE TABLE external_runs (
    run INTEGER PRIMARY KEY REFERENCES runs(id),
    stated TEXT NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0);
CREATE TABLE external_epochs (
    run INTEGER NOT NULL REFERENCES runs(id),
    epoch INTEGER NOT NULL,
    content TEXT NOT NULL,
    waiting TEXT NOT NULL,
    numbers TEXT NOT NULL,
    checksum INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run, epoch)) WITHOUT ROWID;
)sql";

// Without NOT NULL at the numbers that a run from elsewhere may leave out. Rows and their checksums stay.
void loosen_epochs(SQLite::Database& database) {
    std::string table =
        database.execAndGet("SELECT sql FROM sqlite_master WHERE name = 'epochs'").getString();
    constexpr std::string_view strict = " REAL NOT NULL";
    for (std::size_t at = table.find(strict); at != std::string::npos; at = table.find(strict, at))
        table.erase(at + 5, strict.size() - 5);
    const std::string columns =
        "run, " + column_names(epoch_columns()) + ", checksum, matrix_checksum, layers_checksum";
    database.exec("ALTER TABLE epochs RENAME TO epochs_before");
    database.exec(table);
    database.exec(fmt::format("INSERT INTO epochs ({0}) SELECT {0} FROM epochs_before", columns));
    database.exec("DROP TABLE epochs_before");
}

void bring_to_version_13(SQLite::Database& database) {
    database.exec(from_version_12);
    loosen_epochs(database);
}

// What lies there when a ledger is brought up to date is taken for the models of its finished runs.
void record_model_hashes(SQLite::Database& database, const std::filesystem::path& models) {
    SQLite::Statement query(database, "SELECT id FROM runs WHERE state = 'finished'");
    SQLite::Statement insert(database, "INSERT INTO models (run, epoch, hash) VALUES (?, 0, ?)");
    while (query.executeStep()) {
        const std::int64_t run = query.getColumn(0);
        try {
            insert.bind(2, content_hash_of_file(models / fmt::format("run-{}.onnx", run)));
        } catch (const InputError&) {
            continue;  // missing
        }
        insert.bind(1, run);
        insert.exec();
        insert.reset();
    }
}

void bring_to_version_10(SQLite::Database& database, const std::filesystem::path& directory) {
    database.exec(from_version_9);
    record_model_hashes(database, directory / "models");
    SQLite::Statement identity(database, "INSERT INTO ledger VALUES (?, (SELECT COUNT(*) FROM test_looks))");
    identity.bind(1, random_digits());
    identity.exec();
}

}  // namespace

int stored_version(SQLite::Database& database) {
    return database.execAndGet("PRAGMA user_version").getInt();
}

void create_tables(SQLite::Database& database, const std::filesystem::path& directory) {
    database.exec(tables);
    database.exec(runs_table);
    database.exec(tables_of_version_4);
    database.exec(tables_of_version_5);
    database.exec(tables_of_version_6);
    bring_to_version_10(database, directory);
    database.exec(from_version_10);
    database.exec(from_version_11);
    bring_to_version_13(database);
    seal_everything(database);
    database.exec(fmt::format("PRAGMA user_version = {}", schema_version));
}

void bring_up_to_date(SQLite::Database& database, const std::filesystem::path& directory) {
    const int now = stored_version(database);
    if (now <= 8) database.exec(names_before_version_9);
    if (now >= 4 && now <= 8) database.exec(layer_names_before_version_9);
    // From here on a renamed table leaves what refers to its earlier name as it is.
    database.exec("PRAGMA legacy_alter_table = ON");
    if (now == 1) database.exec(from_version_1);
    if (now <= 2) database.exec(from_version_2);
    if (now <= 3) database.exec(from_version_3);
    if (now <= 3) database.exec(tables_of_version_4);
    if (now <= 4) database.exec(tables_of_version_5);
    if (now <= 5) database.exec(from_version_5);
    if (now <= 5) database.exec(tables_of_version_6);
    if (now <= 6) bring_runs_to_version_7(database);
    if (now <= 8) rename_keys_of_runs(database);
    if (now <= 9) bring_to_version_10(database, directory);
    if (now <= 10) database.exec(from_version_10);
    if (now <= 11) database.exec(from_version_11);
    bring_to_version_13(database);
    if (now <= 9)
        seal_everything(database);
    else if (now <= 10)
        seal_studies(database);
    database.exec(fmt::format("PRAGMA user_version = {}", schema_version));
}

}  // namespace jevrin::inline v1
