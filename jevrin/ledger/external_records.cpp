// What a ledger keeps of runs that were trained elsewhere.
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/matrix_rows.hpp"
#include "jevrin/ledger/statements.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

// Epochs from the first to the last of them, in order.
std::vector<ExternalEpoch> select_stated(LedgerConnection& connection, RunId run, EpochRange range) {
    LentStatement query = connection.prepared(fmt::format(
        "SELECT epoch, content, waiting, numbers, {} FROM external_epochs WHERE run = ? AND epoch "
        "BETWEEN ? AND ? ORDER BY epoch",
        is_sealed("external_epochs")));
    query->bind(1, run.number);
    query->bind(2, range.first);
    query->bind(3, range.last);
    std::vector<ExternalEpoch> epochs;
    while (query->executeStep()) {
        if (query->getColumn(4).getInt() == 0)
            throw_damaged(connection.file(), fmt::format("an epoch of run number {}", run.number));
        epochs.push_back({.epoch = query->getColumn(0),
                          .content = query->getColumn(1),
                          .waiting = query->getColumn(2),
                          .numbers = query->getColumn(3)});
    }
    return epochs;
}

}  // namespace

std::string Ledger::external_statement(RunId run) const {
    return reading(*connection_, [&]() -> std::string {
        LentStatement query = connection_->prepared("SELECT stated FROM external_runs WHERE run = ?");
        query->bind(1, run.number);
        return query->executeStep() ? query->getColumn(0).getString() : std::string();
    });
}

std::optional<ExternalEpoch> Ledger::external_epoch(RunId run, std::int64_t epoch) const {
    return reading(*connection_, [&]() -> std::optional<ExternalEpoch> {
        std::vector<ExternalEpoch> found = select_stated(*connection_, run, {epoch, epoch});
        if (found.empty()) return std::nullopt;
        return std::move(found.front());
    });
}

std::vector<ExternalEpoch> Ledger::external_epochs(RunId run) const {
    return reading(*connection_, [&] { return select_stated(*connection_, run, {}); });
}

bool Ledger::has_epoch_predictions(RunId run) const {
    return reading(*connection_, [&] {
        LentStatement query =
            connection_->prepared("SELECT EXISTS (SELECT 1 FROM epoch_predictions WHERE run = ?)");
        query->bind(1, run.number);
        return query->executeStep() && query->getColumn(0).getInt() != 0;
    });
}

std::vector<PlacedItem> Ledger::placed_items(SplitId split) const {
    return reading(*connection_, [&] {
        verify_once(*connection_, SealedRows::split_items, split.number);
        SQLite::Statement query(*connection_->database, R"sql(
            SELECT items.id, items.item, class, part, fold, COALESCE(NULLIF(unit, 0), items.id) FROM splits
            JOIN items ON items.image_set = splits.image_set
            LEFT JOIN split_items ON split_items.split = splits.id AND split_items.item = items.id
            WHERE splits.id = ? ORDER BY items.id)sql");
        query.bind(1, split.number);
        std::vector<PlacedItem> items;
        while (query.executeStep()) {
            PlacedItem& item = items.emplace_back();
            item.number = {query.getColumn(0)};
            item.id = query.getColumn(1).getString();
            item.label = static_cast<std::size_t>(query.getColumn(2).getInt64());
            if (!query.isColumnNull(3)) item.part = stored_value<Part>(*connection_, query.getColumn(3));
            item.fold = query.getColumn(4);
            item.unit = {query.getColumn(5)};
        }
        return items;
    });
}

std::string Ledger::split_hash(SplitId split) const {
    return select_text("SELECT hash FROM splits WHERE id = ?", split.number, "split");
}

std::string Ledger::image_set_fingerprint(SplitId split) const {
    return select_text(
        "SELECT fingerprint FROM splits JOIN image_sets ON image_sets.id = image_set WHERE splits.id = ?",
        split.number, "split");
}

SplitId Ledger::split_with_fold(StudyId study, std::int64_t fold) const {
    return reading(*connection_, [&] {
        SQLite::Database& database = *connection_->database;
        const std::int64_t own = select_number(database, "SELECT split FROM studies WHERE id = ?", study);
        if (fold == 0) return SplitId{own};
        const std::int64_t found = select_number(database, R"sql(
            SELECT split FROM split_items WHERE fold = ?2 AND part = 'validation' AND split IN (
                SELECT same.id FROM splits AS own JOIN splits AS same USING (image_set, settings) WHERE own.id = ?1)
            LIMIT 1)sql",
                                                 own, fold);
        if (found == 0) throw InputError(fmt::format("the study has no fold {} of its images", fold));
        return SplitId{found};
    });
}

std::optional<SplitId> Ledger::find_split(const std::string& hash) const {
    return reading(*connection_, [&]() -> std::optional<SplitId> {
        const std::int64_t id =
            select_number(*connection_->database, "SELECT id FROM splits WHERE hash = ?", hash);
        if (id == 0) return std::nullopt;
        return SplitId{id};
    });
}

void LedgerWriter::together(const std::function<void()>& writes) {
    in_transaction(*connection_, [&] { writes(); });
}

void LedgerWriter::put_external(RunId run, const std::string& stated) {
    in_transaction(*connection_, [&] {
        require_run(run);
        execute(*connection_->database,
                "INSERT INTO external_runs (run, stated) VALUES (?1, ?2) ON CONFLICT (run) DO UPDATE SET "
                "stated = ?2",
                run, stated);
    });
}

void LedgerWriter::put_external_epoch(RunId run, const ExternalEpoch& epoch) {
    in_transaction(*connection_, [&] {
        LentStatement insert = connection_->prepared(
            "INSERT INTO external_epochs (run, epoch, content, waiting, numbers) VALUES (?1, ?2, ?3, ?4, ?5) "
            "ON CONFLICT (run, epoch) DO UPDATE SET content = ?3, waiting = ?4, numbers = ?5");
        insert->bind(1, run.number);
        insert->bind(2, epoch.epoch);
        insert->bind(3, epoch.content);
        insert->bind(4, epoch.waiting);
        insert->bind(5, epoch.numbers);
        insert->exec();
    });
}

void LedgerWriter::put_validation_predictions(RunId run, const std::vector<PredictionRecord>& predictions) {
    in_transaction(*connection_, [&] {
        require_run(run);
        put_predictions(run, Part::validation, predictions);
    });
}

void LedgerWriter::finish_unverified(RunId run) {
    in_transaction(*connection_, [&] {
        require_run(run);
        execute(*connection_->database, "UPDATE runs SET state = ?, reason = '', finished = ? WHERE id = ?",
                name_of(RunState::unverified), now(), run);
    });
}

void LedgerWriter::put_matrix(RunId run, std::int64_t epoch, const ConfusionMatrix& matrix) {
    in_transaction(*connection_, [&] {
        SQLite::Database& database = *connection_->database;
        const MetricScores scores = scores_by_metric(matrix.counts());
        execute(database, "DELETE FROM confusion WHERE run = ? AND epoch = ?", run, epoch);
        insert_matrix(*connection_, run, epoch, matrix);
        for (const Metric metric : all_metrics)
            execute(database,
                    fmt::format("UPDATE epochs SET {} = ? WHERE run = ? AND epoch = ?", name_of(metric)),
                    scores[metric], run, epoch);
        seal(database, SealedRows::matrix, "run = ? AND epoch = ?", {run.number, epoch});
        seal(database, SealedRows::epochs, "id = ?", {run.number});
    });
}

void LedgerWriter::put_warning(RunId run, std::int64_t epoch, const std::string& message) {
    in_transaction(*connection_, [&] {
        execute(*connection_->database, "INSERT INTO warnings (run, epoch, message) VALUES (?, ?, ?)", run,
                epoch, message);
    });
}

void LedgerWriter::put_best_epoch(RunId run, std::int64_t epoch) {
    in_transaction(*connection_, [&] {
        execute(*connection_->database, "UPDATE runs SET best_epoch = ? WHERE id = ?", epoch, run);
    });
}

}  // namespace jevrin::inline v1
