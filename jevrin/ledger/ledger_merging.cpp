// Two ledgers become one: what the other has and this one lacks is copied under this one's own numbers.
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/columns.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/statements.hpp"
#include "jevrin/training/checkpoint.hpp"

#include <map>
#include <optional>

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
            seal(database, SealedRows::items, "id = ?", {ours});
            seal(database, SealedRows::classes, "id = ?", {ours});
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
                INSERT INTO split_items (split, item, part, fold, unit) SELECT ?2, ours.id, part, fold, COALESCE(
                    (SELECT first.id FROM other.items AS their_first JOIN items AS first
                     ON first.image_set = ?3 AND first.item = their_first.item WHERE their_first.id = theirs.unit), 0)
                FROM other.split_items AS theirs JOIN other.items AS item ON item.id = theirs.item
                JOIN items AS ours ON ours.image_set = ?3 AND ours.item = item.item WHERE theirs.split = ?1)sql",
                    theirs, ours, image_set);
            seal(database, SealedRows::split_items, "id = ?", {ours});
        }
        splits[theirs] = ours;
    }
}

void copy_studies(SQLite::Database& database, const Numbers& splits, Numbers& studies,
                  MergeSummary& summary) {
    SQLite::Statement query(
        database, "SELECT id, name, metric, split, margin, most_seeds FROM other.studies ORDER BY used");
    while (query.executeStep()) {
        const std::string name = query.getColumn(1);
        std::int64_t ours = select_number(database, "SELECT id FROM studies WHERE name = ?", name);
        if (ours == 0) {
            // Behind those that are here: what was trained last stays the study that commands show.
            const std::int64_t used = select_number(database, "SELECT MIN(used) FROM studies");
            execute(database,
                    "INSERT INTO studies (name, metric, split, used, margin, most_seeds) VALUES (?, ?, ?, ?, "
                    "?, ?)",
                    name, query.getColumn(2).getString(), splits.at(query.getColumn(3).getInt64()), used - 1,
                    query.getColumn(4).getDouble(), query.getColumn(5).getInt64());
            ours = database.getLastInsertRowid();
            ++summary.studies;
        }
        const std::int64_t theirs = query.getColumn(0);
        execute(database,
                "INSERT OR IGNORE INTO seed_looks (study, seeds, looked) SELECT ?2, seeds, looked FROM "
                "other.seed_looks WHERE study = ?1",
                theirs, ours);
        studies[theirs] = ours;
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
    copy("epoch_predictions", "epoch, predicted");
    copy("cross_fitted", "metric, predicted");
    copy("external_runs", "stated");
    copy("external_epochs", "epoch, content, waiting, numbers");
    copy("prediction_costs", "milliseconds, batch_milliseconds, bytes");
    copy("layers", "layer, name");
    copy("layer_epochs", "epoch, layer, " + column_names(layer_columns));
    copy("warnings", "epoch, message");
    copy("models", "epoch, hash");
    copy("part_checksums", "part");
    execute(database, R"sql(
        INSERT INTO predictions SELECT ?2, part, items.id, predicted, probability, probabilities
        FROM other.predictions AS theirs JOIN other.items AS item ON item.id = theirs.item
        JOIN runs ON runs.id = ?2 JOIN splits ON splits.id = runs.split
        JOIN items ON items.image_set = splits.image_set AND items.item = item.item
        WHERE theirs.run = ?1)sql",
            theirs, ours);
    for (const SealedRows rows :
         {SealedRows::matrix, SealedRows::layers, SealedRows::outcomes, SealedRows::probabilities})
        seal(database, rows, "run = ?", {ours.number});
    seal(database, SealedRows::epochs, "id = ?", {ours.number});
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

namespace {

// The number of our run that is the same as one of the other ledger, or 0.
std::int64_t same_run(SQLite::Database& database, StudyId study, RunId theirs) {
    return select_number(database, R"sql(
        SELECT ours.id FROM runs AS ours JOIN other.runs AS theirs
        ON ours.candidate = theirs.candidate AND ours.seed = theirs.seed AND ours.fold = theirs.fold AND
           ours.identity = theirs.identity
        WHERE ours.study = ? AND theirs.id = ?)sql",
                         study, theirs);
}

// Copies of the other ledger's models and checkpoints in a directory of their own, and then in their places:
// all of them, or none.
class StagedFiles {
  public:
    explicit StagedFiles(const Ledger& ours)
        : ours_(ours), models_(ours.directory() / "models"), staging_(models_) {}
    ~StagedFiles() {
        std::error_code none;
        for (auto move = moved_.rbegin(); move != moved_.rend(); ++move)
            std::filesystem::rename(move->second, move->first, none);
    }
    StagedFiles(const StagedFiles&) = delete;
    StagedFiles& operator=(const StagedFiles&) = delete;

    // InputError when a model is not the one that the other ledger recorded.
    void stage(const Ledger& other, RunId theirs) {
        Copies& copies = copies_[theirs];
        for (const std::filesystem::path& file : other.model_files(theirs)) {
            // "run-7.onnx", "run-7-epoch-3.onnx": the part behind the number stays.
            const std::string rest =
                file.filename().string().substr(fmt::format("run-{}", theirs.number).size());
            const std::filesystem::path copy = staging_.path() / file.filename();
            copy_synced(file, copy);
            const auto hash = other.model_hash(theirs, epoch_of(rest));
            if (hash && content_hash_of_file(copy) != *hash)
                throw InputError(
                    fmt::format("{}: this is not the model that was recorded for its run; it is "
                                "damaged or of another run. Restore it, or delete the run there",
                                printable(file.string())));
            copies.models.emplace_back(copy, rest);
        }
        stage_checkpoint(other, theirs, copies);
    }
    // False when the run was not staged.
    bool move_into_place(RunId theirs, RunId ours) {
        const auto known = copies_.find(theirs);
        if (known == copies_.end()) return false;
        for (const auto& [copy, rest] : known->second.models)
            put(copy, models_ / fmt::format("run-{}{}", ours.number, rest));
        const std::filesystem::path checkpoint = ours_.checkpoint_file(ours);
        if (std::optional<TrainingState>& state = known->second.state) {
            const std::filesystem::path copy = staging_.path() / checkpoint.filename();
            state->owner = ours_.checkpoint_owner(ours);
            write_checkpoint(copy, *state);
            put(copy, checkpoint);
        } else {
            put_away(checkpoint);
        }
        return true;
    }
    void sync() const {
        for (const char* directory : {"models", "checkpoints"}) sync_directory(ours_.directory() / directory);
    }
    // They stay where they are.
    void keep() { moved_.clear(); }

  private:
    struct Copies {
        std::vector<std::pair<std::filesystem::path, std::string>> models;  // each with its ending
        std::optional<TrainingState> state;
    };

    // One that cannot be used is left: its run begins again when it is trained here.
    static void stage_checkpoint(const Ledger& other, RunId theirs, Copies& copies) {
        const std::filesystem::path file = other.checkpoint_file(theirs);
        if (std::filesystem::exists(file)) try {
                TrainingState state = read_checkpoint(file);
                if (state.owner.empty() || state.owner == other.checkpoint_owner(theirs))
                    copies.state = std::move(state);
            } catch (const InputError&) {
            }
    }
    void put(const std::filesystem::path& copy, const std::filesystem::path& place) {
        put_away(place);
        move(copy, place);
    }
    void put_away(const std::filesystem::path& place) {
        if (std::filesystem::exists(place))
            move(place, staging_.path() / ("before-" + place.filename().string()));
    }
    void move(const std::filesystem::path& from, const std::filesystem::path& to) {
        std::error_code error;
        std::filesystem::rename(from, to, error);
        if (error)
            throw WorkError(
                fmt::format("{}: cannot write: {}; merge again", printable(to.string()), error.message()));
        moved_.emplace_back(from, to);
    }
    static std::int64_t epoch_of(const std::string& rest) {
        const std::string before = "-epoch-";
        return rest.starts_with(before) ? std::stoll(rest.substr(before.size())) : 0;
    }

    const Ledger& ours_;
    std::filesystem::path models_;
    StagingDirectory staging_;
    std::map<RunId, Copies> copies_;
    std::vector<std::pair<std::filesystem::path, std::filesystem::path>> moved_;
};

// Whether the other ledger's run, `theirs`, is further than ours: finished, or with more epochs.
constexpr const char* is_further = R"sql(
    (ours.state NOT IN ('finished', 'unverified') AND (theirs.state IN ('finished', 'unverified') OR
     (SELECT COUNT(*) FROM other.epochs WHERE run = theirs.id) > (SELECT COUNT(*) FROM epochs WHERE run = ours.id))))sql";

// Copies the files of all runs that this ledger lacks or that are further there, outside of any transaction.
void stage_files(SQLite::Database& database, const Ledger& other, StagedFiles& files) {
    SQLite::Statement query(database, fmt::format(R"sql(
        SELECT theirs.id FROM other.runs AS theirs JOIN other.studies AS study ON study.id = theirs.study
        WHERE NOT EXISTS (SELECT 1 FROM main.runs AS ours JOIN main.studies ON studies.id = ours.study
            WHERE studies.name = study.name AND ours.candidate = theirs.candidate AND ours.seed = theirs.seed AND
            ours.fold = theirs.fold AND ours.identity = theirs.identity AND NOT {}))sql",
                                                  is_further));
    while (query.executeStep()) files.stage(other, RunId{query.getColumn(0)});
}

// Looks that this ledger does not know, with the images they were at.
void copy_looks(SQLite::Database& database, const Numbers& runs) {
    SQLite::Statement query(database, "SELECT id, run FROM other.test_looks ORDER BY id");
    while (query.executeStep()) {
        const std::int64_t run = query.isColumnNull(1) ? 0 : runs.at(query.getColumn(1).getInt64());
        execute(database, R"sql(
            INSERT OR IGNORE INTO test_looks (look, run, split, what, looked)
            SELECT look, NULLIF(?2, 0), (SELECT ours.id FROM splits AS ours JOIN other.splits AS theirs USING (hash)
                                         WHERE theirs.id = look.split), what, looked
            FROM other.test_looks AS look WHERE id = ?1)sql",
                query.getColumn(0).getInt64(), run);
    }
    execute(database, R"sql(
        INSERT OR IGNORE INTO look_items SELECT ours.id, content FROM other.look_items AS item
        JOIN other.test_looks AS theirs ON theirs.id = item.look
        JOIN test_looks AS ours ON ours.look = theirs.look)sql");
}

}  // namespace

MergeSummary LedgerWriter::merge(const Ledger& other) {
    std::error_code error;
    if (std::filesystem::equivalent(connection_->directory, other.directory(), error))
        throw InputError(fmt::format("{}: this is the same ledger; name another one",
                                     printable(other.directory().string())));
    SQLite::Database& database = *connection_->database;
    const std::filesystem::path other_file = other.connection_->file();
    with_database_errors(other_file, [&] {
        SQLite::Statement attach(database, "ATTACH DATABASE ? AS other");
        attach.bind(1,
                    database_uri(other_file) + (other.connection_->immutable ? "?immutable=1" : "?mode=ro"));
        attach.exec();
    });
    struct Detach {
        SQLite::Database& database;
        ~Detach() { database.tryExec("DETACH DATABASE other"); }
    } const detach{database};
    connection_->require_in_place();
    StagedFiles files(ledger_);
    with_database_errors(other_file, [&] {
        verify_everything(*connection_, "other", other_file);
        stage_files(database, other, files);
    });
    MergeSummary summary;
    in_transaction(*connection_, [&] {
        Numbers image_sets;
        Numbers splits;
        Numbers studies;
        Numbers runs;
        copy_image_sets(database, image_sets);
        copy_splits(database, image_sets, splits);
        copy_studies(database, splits, studies, summary);
        execute(database,
                "INSERT OR IGNORE INTO marks (root, item, label, excluded, note, marked) SELECT root, item, "
                "label, "
                "excluded, note, marked FROM other.marks");
        SQLite::Statement query(database, "SELECT id, study, split, superseded FROM other.runs ORDER BY id");
        while (query.executeStep()) {
            const ForeignRun foreign{.id = {query.getColumn(0)},
                                     .study = {studies.at(query.getColumn(1).getInt64())},
                                     .split = {splits.at(query.getColumn(2).getInt64())},
                                     .superseded = query.getColumn(3).getInt() != 0};
            const MergedRun merged = merge_run(foreign, summary);
            runs[foreign.id.number] = merged.ours.number;
            if (!merged.copied) continue;
            copy_records(database, foreign.id, merged.ours);
            if (!files.move_into_place(foreign.id, merged.ours))
                throw WorkError(fmt::format("{}: it changed while it was merged; merge again",
                                            printable(other.directory().string())));
        }
        copy_looks(database, runs);
        files.sync();
    });
    files.keep();
    return summary;
}

LedgerWriter::MergedRun LedgerWriter::merge_run(const ForeignRun& foreign, MergeSummary& summary) {
    const RunId theirs = foreign.id;
    RunId ours{same_run(*connection_->database, foreign.study, theirs)};
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
        const bool further_there =
            select_number(
                *connection_->database,
                fmt::format("SELECT {} FROM main.runs AS ours, other.runs AS theirs WHERE ours.id = ? "
                            "AND theirs.id = ?",
                            is_further),
                ours, theirs) != 0;
        if (further_there) {
            const std::optional<PlaceLock> claimed = claim(ours);
            if (claimed) {
                forget_records(ours);
                execute(*connection_->database, R"sql(
                    UPDATE runs SET (state, reason, best_epoch, jevrin_version, finished, plan, environment) =
                        (SELECT state, reason, best_epoch, jevrin_version, finished, plan, environment
                         FROM other.runs WHERE id = ?1),
                        superseded = min(superseded, ?3) WHERE id = ?2)sql",
                        theirs, ours, std::int64_t{foreign.superseded});
                copies = true;
                ++summary.runs;
            }
        }
    }
    execute(*connection_->database,
            "INSERT OR IGNORE INTO run_tags SELECT ?2, tag FROM other.run_tags WHERE run = ?1", theirs, ours);
    return {ours, copies};
}

}  // namespace jevrin::inline v1
