// Two ledgers become one: what the other has and this one lacks is copied under this one's own numbers.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/columns.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/statements.hpp"

#include <map>

namespace jevrin::inline v1 {
namespace {

// The numbers of the other ledger and what they are here.
using Numbers = std::map<std::int64_t, std::int64_t>;

void copy_image_sets(SQLite::Database& database, Numbers& image_sets) {
    SQLite::Statement sets(database, "SELECT id, fingerprint, root FROM other.image_sets ORDER BY id");
    while (sets.executeStep()) {
        const std::int64_t theirs = sets.getColumn(0);
        const std::string fingerprint = sets.getColumn(1);
        const std::string root = sets.getColumn(2);
        std::int64_t ours =
            select_number(database, "SELECT id FROM image_sets WHERE fingerprint = ?", fingerprint);
        if (ours == 0) {
            execute(database, R"sql(
                INSERT INTO image_sets (fingerprint, root, version, added, source)
                SELECT fingerprint, root, (SELECT COALESCE(MAX(version), 0) + 1 FROM image_sets WHERE root = ?2), added,
                       source FROM other.image_sets WHERE id = ?1)sql",
                    theirs, root);
            ours = database.getLastInsertRowid();
            execute(database,
                    "INSERT INTO classes SELECT ?2, class, name FROM other.classes WHERE image_set = ?1",
                    theirs, ours);
            execute(database,
                    "INSERT INTO items (image_set, item, class) SELECT ?2, item, class FROM other.items "
                    "WHERE image_set = ?1 ORDER BY id",
                    theirs, ours);
            execute(database,
                    "INSERT INTO unlabelled_items SELECT ?2, item FROM other.unlabelled_items WHERE "
                    "image_set = ?1",
                    theirs, ours);
        }
        image_sets[theirs] = ours;
    }
}

void copy_splits(SQLite::Database& database, const Numbers& image_sets, Numbers& splits) {
    SQLite::Statement query(database, "SELECT id, image_set, hash FROM other.splits ORDER BY id");
    while (query.executeStep()) {
        const std::int64_t theirs = query.getColumn(0);
        const std::int64_t image_set = image_sets.at(query.getColumn(1).getInt64());
        const std::string hash = query.getColumn(2);
        std::int64_t ours = select_number(database, "SELECT id FROM splits WHERE hash = ?", hash);
        if (ours == 0) {
            execute(database,
                    "INSERT INTO splits (image_set, hash, settings) SELECT ?2, hash, settings FROM "
                    "other.splits WHERE id = ?1",
                    theirs, image_set);
            ours = database.getLastInsertRowid();
            execute(database, R"sql(
                INSERT INTO split_items SELECT ?2, ours.id, part, fold FROM other.split_items AS theirs
                JOIN other.items AS item ON item.id = theirs.item
                JOIN items AS ours ON ours.image_set = ?3 AND ours.item = item.item WHERE theirs.split = ?1)sql",
                    theirs, ours, image_set);
        }
        splits[theirs] = ours;
    }
}

void copy_studies(SQLite::Database& database, const Numbers& splits, Numbers& studies,
                  MergeSummary& summary) {
    SQLite::Statement query(database, "SELECT id, name, metric, split FROM other.studies ORDER BY used");
    while (query.executeStep()) {
        const std::string name = query.getColumn(1);
        std::int64_t ours = select_number(database, "SELECT id FROM studies WHERE name = ?", name);
        if (ours == 0) {
            // Behind those that are here: what was trained last stays the study that commands show.
            const std::int64_t used = select_number(database, "SELECT MIN(used) FROM studies");
            execute(database, "INSERT INTO studies (name, metric, split, used) VALUES (?, ?, ?, ?)", name,
                    query.getColumn(2).getString(), splits.at(query.getColumn(3).getInt64()), used - 1);
            ours = database.getLastInsertRowid();
            ++summary.studies;
        }
        studies[query.getColumn(0).getInt64()] = ours;
    }
}

// Everything recorded of a run, under our number of it.
void copy_records(SQLite::Database& database, RunId theirs, RunId ours) {
    const auto copy = [&](const std::string& table, const std::string& columns) {
        execute(database,
                fmt::format("INSERT INTO {0} (run, {1}) SELECT ?2, {1} FROM other.{0} WHERE run = ?1", table,
                            columns),
                theirs, ours);
    };
    copy("epochs", column_names(epoch_columns()));
    copy("confusion", "epoch, true_class, predicted, count");
    copy("layers", "layer, name");
    copy("layer_epochs", "epoch, layer, " + column_names(layer_columns));
    copy("warnings", "epoch, message");
    execute(database, R"sql(
        INSERT INTO predictions SELECT ?2, part, items.id, predicted, probability, probabilities
        FROM other.predictions AS theirs JOIN other.items AS item ON item.id = theirs.item
        JOIN runs ON runs.id = ?2 JOIN splits ON splits.id = runs.split
        JOIN items ON items.image_set = splits.image_set AND items.item = item.item
        WHERE theirs.run = ?1)sql",
            theirs, ours);
}

struct BestScores {
    std::int64_t epoch = 0;
    double accuracy = 0.0;
    double loss = 0.0;

    friend bool operator==(const BestScores&, const BestScores&) = default;
};

BestScores best_scores(SQLite::Database& database, const std::string& schema, RunId run) {
    SQLite::Statement query(database, fmt::format("SELECT epoch, accuracy, validation_loss FROM {0}.epochs "
                                                  "JOIN {0}.runs ON runs.id = run AND epoch = best_epoch "
                                                  "WHERE run = ?",
                                                  schema));
    query.bind(1, run.number);
    if (!query.executeStep()) return {};
    return {query.getColumn(0), query.getColumn(1), query.getColumn(2)};
}

}  // namespace

MergeSummary LedgerWriter::merge(const Ledger& other) {
    std::error_code error;
    if (std::filesystem::equivalent(connection_->directory, other.directory(), error))
        throw InputError(fmt::format("{}: this is the same ledger; name another one",
                                     printable(other.directory().string())));
    const auto file = connection_->directory / "ledger.db";
    with_database_errors(file, [&] {
        SQLite::Statement attach(*connection_->database, "ATTACH DATABASE ? AS other");
        attach.bind(1, std::filesystem::absolute(other.directory() / "ledger.db").string());
        attach.exec();
    });
    struct Detach {
        SQLite::Database& database;
        ~Detach() { database.tryExec("DETACH DATABASE other"); }
    } const detach{*connection_->database};
    MergeSummary summary;
    in_transaction(*connection_, [&] {
        Numbers image_sets;
        Numbers splits;
        Numbers studies;
        copy_image_sets(*connection_->database, image_sets);
        copy_splits(*connection_->database, image_sets, splits);
        copy_studies(*connection_->database, splits, studies, summary);
        execute(*connection_->database, "INSERT OR IGNORE INTO marks SELECT * FROM other.marks");
        SQLite::Statement query(*connection_->database,
                                "SELECT id, study, split, superseded FROM other.runs ORDER BY id");
        while (query.executeStep())
            merge_run(other,
                      {.id = {query.getColumn(0)},
                       .study = {studies.at(query.getColumn(1).getInt64())},
                       .split = {splits.at(query.getColumn(2).getInt64())},
                       .superseded = query.getColumn(3).getInt() != 0},
                      summary);
    });
    return summary;
}

void LedgerWriter::merge_run(const Ledger& other, const ForeignRun& foreign, MergeSummary& summary) {
    const RunId theirs = foreign.id;
    RunId ours{select_number(*connection_->database, R"sql(
        SELECT ours.id FROM runs AS ours JOIN other.runs AS theirs
        ON ours.candidate = theirs.candidate AND ours.seed = theirs.seed AND ours.fold = theirs.fold AND
           ours.identity = theirs.identity
        WHERE ours.study = ? AND theirs.id = ?)sql",
                             foreign.study, theirs)};
    const auto is_finished = [&](const char* schema, RunId run) {
        return select_number(*connection_->database,
                             fmt::format("SELECT state = 'finished' FROM {}.runs WHERE id = ?", schema),
                             run) != 0;
    };
    bool copies = false;
    if (!ours) {
        execute(*connection_->database,
                fmt::format("INSERT INTO runs (study, split, superseded, {0}) SELECT ?2, ?3, ?4, {0} FROM "
                            "other.runs WHERE id = ?1",
                            column_names(run_columns)),
                theirs, foreign.study, foreign.split, std::int64_t{foreign.superseded});
        ours = RunId{connection_->database->getLastInsertRowid()};
        // Of two that have one name the one that was here stands.
        execute(*connection_->database, R"sql(
            UPDATE runs SET superseded = 1 WHERE id = ?1 AND EXISTS (
                SELECT 1 FROM runs AS other_run WHERE other_run.id != ?1 AND other_run.superseded = 0 AND
                other_run.study = runs.study AND other_run.candidate = runs.candidate AND
                other_run.seed = runs.seed AND other_run.fold = runs.fold))sql",
                ours);
        copies = true;
        ++summary.runs;
    } else {
        ++summary.known;
        const bool finished_here = is_finished("main", ours);
        const bool finished_there = is_finished("other", theirs);
        if (finished_here && finished_there &&
            best_scores(*connection_->database, "main", ours) !=
                best_scores(*connection_->database, "other", theirs))
            ++summary.differing;
        if (!finished_here && finished_there) {
            const std::optional<PlaceLock> claimed = claim(ours);
            if (claimed) {
                forget_records(ours);
                execute(*connection_->database, R"sql(
                    UPDATE runs SET (state, best_epoch, jevrin_version, finished, plan, environment) =
                        (SELECT state, best_epoch, jevrin_version, finished, plan, environment FROM other.runs WHERE id = ?1),
                        superseded = min(superseded, ?3) WHERE id = ?2)sql",
                        theirs, ours, std::int64_t{foreign.superseded});
                copies = true;
                ++summary.runs;
            }
        }
    }
    execute(*connection_->database,
            "INSERT OR IGNORE INTO run_tags SELECT ?2, tag FROM other.run_tags WHERE run = ?1", theirs, ours);
    execute(*connection_->database, R"sql(
        INSERT INTO test_looks (run, looked) SELECT ?2, looked FROM other.test_looks AS theirs WHERE run = ?1 AND
        NOT EXISTS (SELECT 1 FROM test_looks AS known WHERE known.run = ?2 AND known.looked = theirs.looked)
        ORDER BY id)sql",
            theirs, ours);
    if (!copies) return;
    copy_records(*connection_->database, theirs, ours);
    for (const std::filesystem::path& file : other.model_files(theirs)) {
        // "run-7.onnx", "run-7-epoch-3.onnx": the part behind the number stays.
        const std::string rest = file.filename().string().substr(fmt::format("run-{}", theirs.number).size());
        const std::filesystem::path copy =
            connection_->directory / "models" / fmt::format("run-{}{}", ours.number, rest);
        std::error_code error;
        std::filesystem::copy_file(file, copy, std::filesystem::copy_options::overwrite_existing, error);
        if (error)
            throw WorkError(
                fmt::format("{}: cannot copy this model to {}: {}; free some space and merge again",
                            printable(file.string()), printable(copy.string()), error.message()));
    }
}

}  // namespace jevrin::inline v1
