// Reading what a ledger knows of items: where they lie, what runs predicted for them, what is marked.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/statements.hpp"

#include <fmt/format.h>

#include <cstring>

namespace jevrin::inline v1 {
namespace {

// The predictions of a part fit their checksum, and have one.
void require_part_checksum(const LedgerConnection& connection, SealedRows rows, RunId run, Part part) {
    const auto count = [&](const char* table) {
        return select_number(
            *connection.database,
            fmt::format("SELECT EXISTS (SELECT 1 FROM {} WHERE run = ? AND part = ?)", table), run,
            name_of(part));
    };
    if (count("predictions") != count("part_checksums"))
        throw_damaged(connection.file(), "what a run predicted");
    verify(connection, rows, fmt::format("run = ? AND part = '{}'", name_of(part)), {run.number});
}

std::vector<float> probabilities_of(const SQLite::Column& blob) {
    std::vector<float> probabilities(static_cast<std::size_t>(blob.getBytes()) / sizeof(float));
    if (!probabilities.empty())
        std::memcpy(probabilities.data(), blob.getBlob(), probabilities.size() * sizeof(float));
    return probabilities;
}

// The items of a split, or of the set of a study, as they were written.
void verify_items(LedgerConnection& connection, std::int64_t image_set, std::int64_t split) {
    verify_once(connection, SealedRows::items, image_set);
    if (split != 0) verify_once(connection, SealedRows::split_items, split);
}

}  // namespace

std::vector<PredictionRecord> Ledger::predictions(RunId run, Part part) const {
    return reading(*connection_, [&] {
        require_row(*connection_, "runs", run, "run");
        SQLite::Statement query(*connection_->database, R"sql(
            SELECT items.item, class, predicted, probabilities FROM predictions JOIN items ON items.id = predictions.item
            WHERE run = ? AND part = ? ORDER BY items.item)sql");
        query.bind(1, run.number);
        query.bind(2, name_of(part));
        require_part_checksum(*connection_, SealedRows::probabilities, run, part);
        std::vector<PredictionRecord> predictions;
        while (query.executeStep()) {
            PredictionRecord record{.item = query.getColumn(0),
                                    .label = static_cast<std::size_t>(query.getColumn(1).getInt64()),
                                    .predicted = static_cast<std::size_t>(query.getColumn(2).getInt64()),
                                    .probabilities = {}};
            record.probabilities = probabilities_of(query.getColumn(3));
            predictions.push_back(std::move(record));
        }
        return predictions;
    });
}

std::int64_t split_of(LedgerConnection& connection, RunId run) {
    LentStatement query = connection.prepared("SELECT split FROM runs WHERE id = ?");
    query->bind(1, run.number);
    if (!query->executeStep()) throw_no_row(connection, run.number, "run");
    return query->getColumn(0).getInt64();
}

const SplitItems& items_of_split(LedgerConnection& connection, std::int64_t split) {
    if (const auto known = connection.splits.find(split); known != connection.splits.end())
        return known->second;
    SplitItems result;
    verify_once(connection, SealedRows::split_items, split);
    SQLite::Statement query(*connection.database, R"sql(
        SELECT place.item, COALESCE(NULLIF(unit, 0), place.item), class FROM split_items AS place
        JOIN items ON items.id = place.item WHERE split = ? ORDER BY place.item)sql");
    query.bind(1, split);
    while (query.executeStep())
        result.items.push_back({query.getColumn(0), query.getColumn(1),
                                static_cast<std::size_t>(query.getColumn(2).getInt64())});
    result.classes =
        static_cast<std::size_t>(select_number(*connection.database,
                                               "SELECT COUNT(*) FROM splits JOIN classes ON "
                                               "classes.image_set = splits.image_set WHERE splits.id = ?",
                                               split));
    return connection.splits[split] = std::move(result);
}

std::vector<OutcomeRecord> Ledger::outcomes(RunId run, Part part) const {
    return reading(*connection_, [&] {
        const SplitItems& split = items_of_split(*connection_, split_of(*connection_, run));
        LentStatement query = connection_->prepared(
            "SELECT item, predicted FROM predictions WHERE run = ? AND part = ? ORDER BY item");
        query->bind(1, run.number);
        query->bind(2, name_of(part));
        std::vector<OutcomeRecord> outcomes;
        std::uint64_t checksum = 0;
        auto item = split.items.begin();
        while (query->executeStep()) {
            const std::int64_t number = query->getColumn(0);
            const std::int64_t predicted = query->getColumn(1);
            while (item != split.items.end() && item->number < number) ++item;
            if (item == split.items.end() || item->number != number)
                throw_damaged(connection_->file(), "what a run predicted");
            outcomes.push_back({{number}, {item->unit}, item->label, static_cast<std::size_t>(predicted)});
            checksum += checksum_of_numbers({number, static_cast<std::int64_t>(item->label), predicted});
        }
        LentStatement sealed =
            connection_->prepared("SELECT outcomes FROM part_checksums WHERE run = ? AND part = ?");
        sealed->bind(1, run.number);
        sealed->bind(2, name_of(part));
        const bool is_sealed = sealed->executeStep();
        if (is_sealed != !outcomes.empty() ||
            (is_sealed && checksum != static_cast<std::uint64_t>(sealed->getColumn(0).getInt64())))
            throw_damaged(connection_->file(), "a run's predictions");
        return outcomes;
    });
}

std::map<std::string, std::int64_t> Ledger::units(RunId run, Part part) const {
    return reading(*connection_, [&] {
        verify_once(*connection_, SealedRows::split_items,
                    select_number(*connection_->database, "SELECT split FROM runs WHERE id = ?", run));
        SQLite::Statement query(*connection_->database, R"sql(
            SELECT items.item, COALESCE(NULLIF(unit, 0), items.id) FROM runs
            JOIN split_items ON split_items.split = runs.split JOIN items ON items.id = split_items.item
            WHERE runs.id = ? AND part = ?)sql");
        query.bind(1, run.number);
        query.bind(2, name_of(part));
        std::map<std::string, std::int64_t> units;
        while (query.executeStep()) units[query.getColumn(0)] = query.getColumn(1);
        return units;
    });
}

namespace {

// The splits of a study and of its runs, as a query whose first parameter is the study.
constexpr const char* splits_of_study =
    "SELECT split FROM studies WHERE id = ?1 UNION SELECT split FROM runs WHERE study = ?1";

}  // namespace

ItemRecord Ledger::unsealed_item(StudyId study, const std::string& id) const {
    return reading(*connection_, [&] {
        LentStatement query = connection_->prepared(fmt::format(R"sql(
            SELECT class, MAX(part = 'test') FROM items JOIN split_items ON split_items.item = items.id
            WHERE items.item = ?2 AND split IN ({0})
            AND image_set IN (SELECT image_set FROM splits WHERE id IN ({0})) GROUP BY items.id)sql",
                                                                splits_of_study));
        query->bind(1, study.number);
        query->bind(2, id);
        std::optional<ItemRecord> item;
        while (query->executeStep()) {
            if (query->getColumn(1).getInt64() != 0)
                throw InputError(fmt::format("{}: this item is in the test part, which is sealed",
                                             printable(path_of_item(id))));
            item = {id, static_cast<std::size_t>(query->getColumn(0).getInt64())};
        }
        if (!item)
            throw InputError(
                fmt::format("the runs of this study saw no item '{}'", printable(path_of_item(id))));
        return *item;
    });
}

std::set<std::string> Ledger::sealed_elsewhere(StudyId study) const {
    return reading(*connection_, [&] {
        LentStatement query = connection_->prepared(fmt::format(R"sql(
            SELECT DISTINCT items.item FROM split_items AS sealed JOIN items ON items.id = sealed.item
            WHERE sealed.split IN ({0}) AND sealed.part = 'test' AND EXISTS (
                SELECT 1 FROM split_items AS seen
                WHERE seen.item = sealed.item AND seen.split IN ({0}) AND seen.part != 'test'))sql",
                                                                splits_of_study));
        query->bind(1, study.number);
        std::set<std::string> ids;
        while (query->executeStep()) ids.insert(query->getColumn(0));
        return ids;
    });
}

std::vector<std::pair<std::string, PredictionRecord>> Ledger::predictions_of_item(
    StudyId study, const std::string& id) const {
    return reading(*connection_, [&] {
        LentStatement query = connection_->prepared(R"sql(
            SELECT candidate, class, predicted, probabilities, seed, fold FROM items CROSS JOIN runs
            JOIN predictions ON predictions.run = runs.id AND part = 'validation' AND predictions.item = items.id
            WHERE items.item = ?2 AND study = ?1 AND superseded = 0 AND archived = 0 ORDER BY runs.id)sql");
        query->bind(1, study.number);
        query->bind(2, id);
        std::vector<std::pair<std::string, PredictionRecord>> predictions;
        while (query->executeStep())
            predictions.emplace_back(
                RunRecord{.candidate = query->getColumn(0),
                          .seed = query->getColumn(4),
                          .fold = query->getColumn(5)}
                    .name(),
                PredictionRecord{.item = id,
                                 .label = static_cast<std::size_t>(query->getColumn(1).getInt64()),
                                 .predicted = static_cast<std::size_t>(query->getColumn(2).getInt64()),
                                 .probabilities = probabilities_of(query->getColumn(3))});
        return predictions;
    });
}

std::string Ledger::item_id(ItemNumber number) const {
    return select_text("SELECT item FROM items WHERE id = ?", number.number, "item");
}

std::int64_t Ledger::count_items(SplitId split, Part part) const {
    return reading(*connection_, [&] {
        verify_once(*connection_, SealedRows::split_items, split.number);
        SQLite::Statement query(*connection_->database,
                                "SELECT COUNT(*) FROM split_items WHERE split = ?1 AND part = ?2");
        query.bind(1, split.number);
        query.bind(2, name_of(part));
        query.executeStep();
        return query.getColumn(0).getInt64();
    });
}

KnownPlaces Ledger::known_places(const std::string& parts_settings) const {
    return reading(*connection_, [&] {
        SQLite::Statement query(*connection_->database, R"sql(
            SELECT items.item, part, fold FROM split_items JOIN items ON items.id = split_items.item
            JOIN splits ON splits.id = split WHERE settings = ? ORDER BY splits.id DESC)sql");
        query.bind(1, parts_settings);
        KnownPlaces places;
        while (query.executeStep()) {
            const std::string id = query.getColumn(0);
            const auto content = ContentHash::from_text(std::string_view(id).substr(id.rfind('#') + 1));
            const auto part = part_from_name(query.getColumn(1));
            if (!content || !part) continue;
            const std::int64_t fold = query.getColumn(2);
            // With folds every item that is not in the test part has one, whichever is validation.
            places.emplace(*content, Place{fold > 0 ? Part::training : *part, fold});
        }
        return places;
    });
}

std::vector<ItemRecord> Ledger::items(RunId run, Part part) const {
    return reading(*connection_, [&] {
        require_row(*connection_, "runs", run, "run");
        SQLite::Database& database = *connection_->database;
        verify_items(
            *connection_,
            select_number(database,
                          "SELECT image_set FROM splits JOIN runs ON split = splits.id WHERE runs.id = ?",
                          run),
            select_number(database, "SELECT split FROM runs WHERE id = ?", run));
        SQLite::Statement query(database, R"sql(
            SELECT items.item, class FROM split_items JOIN items ON items.id = split_items.item
            JOIN runs ON runs.split = split_items.split WHERE runs.id = ? AND part = ? ORDER BY items.item)sql");
        query.bind(1, run.number);
        query.bind(2, name_of(part));
        std::vector<ItemRecord> items;
        while (query.executeStep())
            items.push_back(
                {query.getColumn(0).getString(), static_cast<std::size_t>(query.getColumn(1).getInt64())});
        return items;
    });
}

std::vector<ItemRecord> Ledger::items(StudyId study) const {
    return reading(*connection_, [&] {
        verify_items(*connection_,
                     select_number(*connection_->database,
                                   "SELECT image_set FROM splits JOIN studies ON split = splits.id WHERE "
                                   "studies.id = ?",
                                   study),
                     0);
        SQLite::Statement query(*connection_->database, R"sql(
            SELECT items.item, class FROM items JOIN splits ON splits.image_set = items.image_set
            JOIN studies ON studies.split = splits.id WHERE studies.id = ? ORDER BY items.item)sql");
        query.bind(1, study.number);
        std::vector<ItemRecord> items;
        while (query.executeStep())
            items.push_back(
                {query.getColumn(0).getString(), static_cast<std::size_t>(query.getColumn(1).getInt64())});
        return items;
    });
}

ItemRecord Ledger::item(StudyId study, const std::string& name) const {
    std::vector<ItemRecord> meant;
    std::vector<std::string> paths;
    for (ItemRecord& item : items(study)) {
        const std::string path = path_of_item(item.id);
        if (item.id == name || path == name) return std::move(item);
        if (path.ends_with("/" + name)) meant.push_back(item);
        paths.push_back(path);
    }
    if (meant.size() == 1) return meant.front();
    if (meant.size() > 1)
        throw InputError(fmt::format("{} items are called '{}', '{}' among them; give more of the path",
                                     meant.size(), printable(name), printable(meant.front().id)));
    std::string meant_path = did_you_mean(name, paths);
    const auto begins_so = std::find_if(paths.begin(), paths.end(), [&](const std::string& path) {
        return !name.empty() && ("/" + path).find("/" + name) != std::string::npos;
    });
    if (meant_path.empty() && begins_so != paths.end())
        meant_path = fmt::format(" (did you mean '{}'?)", printable(*begins_so));
    throw InputError(fmt::format("no item is called '{}'{}; give a path below {}", printable(name),
                                 meant_path, printable(study_root(study))));
}

std::vector<MarkRecord> Ledger::marks(StudyId study) const {
    return reading(*connection_, [&] {
        SQLite::Statement query(
            *connection_->database,
            "SELECT item, label, excluded, note, marked FROM marks WHERE root = ? ORDER BY item");
        query.bind(1, study_root(study));
        // Of every place: one whose place is damaged would not be found by it.
        if (select_number(*connection_->database,
                          fmt::format("SELECT COUNT(*) FROM marks WHERE NOT ({})", is_sealed("marks"))) > 0)
            throw_damaged(connection_->file(), "a mark");
        std::vector<MarkRecord> marks;
        while (query.executeStep()) {
            marks.push_back({.item = query.getColumn(0),
                             .label = query.getColumn(1),
                             .excluded = query.getColumn(2).getInt() != 0,
                             .note = query.getColumn(3),
                             .marked = query.getColumn(4)});
        }
        return marks;
    });
}

}  // namespace jevrin::inline v1
