// The runs of a ledger, and their epochs.
#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/columns.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/statements.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>
#include <map>
#include <tuple>
#include <type_traits>

namespace jevrin::inline v1 {
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

// NULL is what was not stated.
double number_or_nan(const SQLite::Column& column) {
    return column.isNull() ? std::numeric_limits<double>::quiet_NaN() : column.getDouble();
}

std::vector<EpochRecord> select_epochs(const LedgerConnection& connection, RunId run, EpochRange range) {
    SQLite::Database& database = *connection.database;
    SQLite::Statement query(
        database,
        fmt::format("SELECT {}, {} FROM epochs WHERE run = ?1 AND epoch BETWEEN ?2 AND ?3 ORDER BY epoch",
                    column_names(epoch_columns()), is_sealed("epochs")));
    query.bind(1, run.number);
    query.bind(2, range.first);
    query.bind(3, range.last);
    std::vector<EpochRecord> epochs;
    while (query.executeStep()) {
        EpochRecord& epoch = epochs.emplace_back();
        int place = 0;
        for (const EpochColumn& column : epoch_columns())
            visit_column(column, epoch, [&]<typename Number>(Number& number) {
                if constexpr (std::is_floating_point_v<Number>)
                    number = number_or_nan(query.getColumn(place++));
                else
                    number = query.getColumn(place++);
            });
        if (query.getColumn(place).getInt() == 0)
            throw_damaged(connection.file(),
                          fmt::format("epoch {} of run number {}", epoch.epoch, run.number));
    }
    return epochs;
}

// The epochs, in order, with their matrices.
std::vector<RecordedEpoch> with_matrices(const LedgerConnection& connection, RunId run,
                                         const std::vector<EpochRecord>& epochs) {
    std::vector<RecordedEpoch> recorded;
    if (epochs.empty()) return recorded;
    verify(connection, SealedRows::matrix, "run = ? AND epoch BETWEEN ? AND ?",
           {run.number, epochs.front().epoch, epochs.back().epoch});
    SQLite::Database& database = *connection.database;
    const auto classes = static_cast<std::size_t>(select_number(database, R"sql(
        SELECT COUNT(*) FROM classes JOIN splits ON splits.image_set = classes.image_set
        JOIN runs ON runs.split = splits.id WHERE runs.id = ?)sql",
                                                                run));
    for (const EpochRecord& epoch : epochs) recorded.push_back({epoch, ConfusionMatrix(classes)});
    SQLite::Statement cells(database, R"sql(
        SELECT epoch, true_class, predicted, count FROM confusion
        WHERE run = ?1 AND epoch BETWEEN ?2 AND ?3 ORDER BY epoch)sql");
    cells.bind(1, run.number);
    cells.bind(2, epochs.front().epoch);
    cells.bind(3, epochs.back().epoch);
    auto epoch = recorded.begin();
    while (cells.executeStep()) {
        while (epoch != recorded.end() && epoch->epoch < cells.getColumn(0).getInt64()) ++epoch;
        const auto row = static_cast<std::size_t>(cells.getColumn(1).getInt64());
        const auto column = static_cast<std::size_t>(cells.getColumn(2).getInt64());
        if (epoch == recorded.end() || row >= classes || column >= classes)
            throw InputError(fmt::format("{}: a confusion matrix does not fit its run; the ledger is damaged",
                                         printable(connection.file().string())));
        epoch->validation.add(row, column, cells.getColumn(3).getInt64());
    }
    return recorded;
}

}  // namespace

std::vector<RunRecord> Ledger::select_runs(const std::string& condition, std::int64_t value,
                                           const std::string& name) const {
    SQLite::Statement query(*connection_->database, fmt::format(R"sql(
        SELECT runs.id, studies.name, candidate, regime, seed, state, reason, planned_epochs, parameters,
               trainable_parameters, best_epoch, runs.split, (SELECT COUNT(*) FROM run_tags WHERE run = runs.id),
               (SELECT version FROM splits JOIN image_sets ON image_sets.id = image_set
                WHERE splits.id = runs.split), multiplications, fold, origin, varied, archived, note,
               (SELECT image_set FROM splits WHERE splits.id = runs.split), batch, training_fraction, {},
               epochs_checksum
        FROM runs NOT INDEXED JOIN studies ON studies.id = study WHERE {} ORDER BY runs.id)sql",
                                                                is_sealed("runs"), condition));
    query.bind(1, value);
    if (!name.empty()) query.bind(2, name);
    SQLite::Statement length(*connection_->database,
                             "SELECT COUNT(*), CASE WHEN COUNT(seconds) = COUNT(*) THEN TOTAL(seconds) END, "
                             "rows_checksum(epoch, checksum) FROM epochs WHERE run = ?");
    SQLite::Statement tags(*connection_->database, "SELECT tag FROM run_tags WHERE run = ? ORDER BY tag");
    SQLite::Statement origin(
        *connection_->database,
        fmt::format("SELECT stated, {} FROM external_runs WHERE run = ?", is_sealed("external_runs")));
    SQLite::Statement cost(
        *connection_->database,
        fmt::format("SELECT milliseconds, batch_milliseconds, bytes, {} FROM prediction_costs "
                    "WHERE run = ?",
                    is_sealed("prediction_costs")));
    std::vector<RunRecord> runs;
    while (query.executeStep()) {
        length.reset();
        length.bind(1, query.getColumn(0).getInt64());
        length.executeStep();
        RunRecord run{.id = {query.getColumn(0)},
                      .study = query.getColumn(1),
                      .candidate = query.getColumn(2),
                      .origin = query.getColumn(16),
                      .varied = varied_settings(query.getColumn(17)),
                      .regime = stored_value<Regime>(*connection_, query.getColumn(3)),
                      .seed = query.getColumn(4),
                      .fold = query.getColumn(15),
                      .state = stored_value<RunState>(*connection_, query.getColumn(5)),
                      .reason = query.getColumn(6),
                      .epochs = length.getColumn(0),
                      .planned_epochs = query.getColumn(7),
                      .batch = query.getColumn(21),
                      .training_fraction = query.getColumn(22),
                      .parameters = query.getColumn(8),
                      .trainable_parameters = query.getColumn(9),
                      .multiplications = query.getColumn(14),
                      .split = {query.getColumn(11)},
                      .image_set = {query.getColumn(20)},
                      .image_set_version = query.getColumn(13),
                      .seconds = number_or_nan(length.getColumn(1)),
                      .archived = query.getColumn(18).getInt() != 0,
                      .note = query.getColumn(19)};
        if (query.getColumn(23).getInt() == 0 ||
            query.getColumn(24).getInt64() != length.getColumn(2).getInt64())
            throw_damaged(connection_->file(), fmt::format("the run '{}'", printable(run.name())));
        cost.reset();
        cost.bind(1, run.id.number);
        if (cost.executeStep()) {
            if (cost.getColumn(3).getInt() == 0)
                throw_damaged(connection_->file(), fmt::format("the costs of '{}'", printable(run.name())));
            run.prediction_cost = {.milliseconds = cost.getColumn(0),
                                   .batch_milliseconds = cost.getColumn(1),
                                   .bytes = cost.getColumn(2)};
        }
        origin.reset();
        origin.bind(1, run.id.number);
        if (origin.executeStep()) {
            if (origin.getColumn(1).getInt() == 0)
                throw_damaged(connection_->file(), fmt::format("the origin of '{}'", printable(run.name())));
            const Json stated = parse_json(origin.getColumn(0).getString());
            run.external = {.program = stated.value("program", ""), .hardware = stated.value("hardware", "")};
        }
        run.claimed = run.state != RunState::finished && is_claimed(run.id);
        const std::int64_t best = query.getColumn(10);
        if (best > 0) {
            std::vector<RecordedEpoch> epochs =
                with_matrices(*connection_, run.id, select_epochs(*connection_, run.id, {best, best}));
            for (RecordedEpoch& epoch : epochs) run.best = std::move(epoch);
        }
        if (query.getColumn(12).getInt() > 0) {
            tags.reset();
            tags.bind(1, run.id.number);
            while (tags.executeStep()) run.tags.push_back(tags.getColumn(0));
        }
        runs.push_back(std::move(run));
    }
    return runs;
}

std::vector<RunRecord> Ledger::listed_runs(StudyId study, bool archived) const {
    SQLite::Database& database = *connection_->database;
    std::map<std::string, std::int64_t> first;  // by candidate, superseded runs too
    std::int64_t count = 0;
    SQLite::Statement query(
        database,
        "SELECT candidate, MIN(id), COUNT(*) FROM runs NOT INDEXED WHERE study = ? GROUP BY candidate");
    query.bind(1, study.number);
    while (query.executeStep()) {
        first[query.getColumn(0)] = query.getColumn(1);
        count += query.getColumn(2).getInt64();
    }
    if (count != select_number(database, "SELECT runs FROM studies WHERE id = ?", study))
        throw_damaged(connection_->file(), "the list of runs");
    std::vector<RunRecord> runs = select_runs(
        fmt::format("study = ?1 AND superseded = 0 AND archived = {}", archived ? 1 : 0), study.number);
    const auto place = [&](const RunRecord& run) {
        return std::tuple(first[run.candidate], run.seed, run.fold);
    };
    std::sort(runs.begin(), runs.end(),
              [&](const RunRecord& a, const RunRecord& b) { return place(a) < place(b); });
    return runs;
}

std::vector<RunRecord> Ledger::runs(StudyId study) const {
    return reading(*connection_, [&] { return listed_runs(study, false); });
}

std::vector<RunRecord> Ledger::archived_runs(StudyId study) const {
    return reading(*connection_, [&] { return listed_runs(study, true); });
}

std::vector<RunStamp> Ledger::run_stamps(StudyId study) const {
    return reading(*connection_, [&] {
        LentStatement query = connection_->prepared(R"sql(
            SELECT id, state, COALESCE((SELECT MAX(epoch) FROM epochs WHERE run = runs.id), 0)
            FROM runs WHERE study = ? AND superseded = 0 AND archived = 0 ORDER BY id)sql");
        query->bind(1, study.number);
        std::vector<RunStamp> stamps;
        while (query->executeStep()) {
            RunStamp& stamp = stamps.emplace_back();
            stamp.id = {query->getColumn(0)};
            stamp.state = stored_value<RunState>(*connection_, query->getColumn(1));
            stamp.epochs = query->getColumn(2);
            stamp.claimed = stamp.state == RunState::training && is_claimed(stamp.id);
        }
        return stamps;
    });
}

std::vector<std::string> Ledger::candidates(StudyId study) const {
    return reading(*connection_, [&] {
        SQLite::Statement query(*connection_->database, R"sql(
            SELECT candidate FROM runs WHERE study = ? AND superseded = 0 AND archived = 0
            GROUP BY candidate ORDER BY MIN(id))sql");
        query.bind(1, study.number);
        std::vector<std::string> names;
        while (query.executeStep()) names.push_back(query.getColumn(0));
        return names;
    });
}

RunRecord Ledger::run_by_id(RunId run) const {
    return reading(*connection_, [&] {
        std::vector<RunRecord> found = select_runs("runs.id = ?1", run.number);
        if (found.empty()) throw_no_row(*connection_, run.number, "run");
        return std::move(found.front());
    });
}

std::optional<RunRecord> Ledger::find_run(const std::string& study, const RunIdentity& run) const {
    return reading(*connection_, [&]() -> std::optional<RunRecord> {
        SQLite::Statement query(*connection_->database, R"sql(
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
            if (query.executeStep()) return run_by_id(RunId{query.getColumn(0)});
        }
        return std::nullopt;
    });
}

RunRecord Ledger::run(StudyId study, const std::string& name) const {
    return reading(*connection_, [&] {
        constexpr const char* called =
            "candidate || '/' || seed || CASE fold WHEN 0 THEN '' ELSE '/' || fold END";
        std::vector<RunRecord> found =
            name.empty() ? std::vector<RunRecord>()
                         : select_runs(fmt::format("study = ?1 AND superseded = 0 AND {} = ?2", called),
                                       study.number, name);
        if (!found.empty()) return std::move(found.front());
        std::vector<std::string> names;
        SQLite::Statement query(
            *connection_->database,
            fmt::format("SELECT {} FROM runs WHERE study = ? AND superseded = 0", called));
        query.bind(1, study.number);
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

std::vector<RecordedEpoch> Ledger::epochs(RunId run, EpochRange range) const {
    return reading(*connection_, [&] {
        require_row(*connection_, "runs", run, "run");
        return with_matrices(*connection_, run, select_epochs(*connection_, run, range));
    });
}

std::vector<EpochRecord> Ledger::curve(RunId run) const {
    return reading(*connection_, [&] {
        require_row(*connection_, "runs", run, "run");
        return select_epochs(*connection_, run, {});
    });
}

}  // namespace jevrin::inline v1
