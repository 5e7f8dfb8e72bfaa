// Looks at the test part, which belong to the images that were looked at: neither another name nor another
// split of the same images begins anew.
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/ledger/statements.hpp"

#include <map>
#include <set>

namespace jevrin::inline v1 {
namespace {

// The content hash at the end of an item's id.
constexpr const char* content_of_item = "substr(items.item, -32)";

// The contents of the test part of a split, as a query of one parameter.
std::string test_contents(const char* parameter) {
    return fmt::format(
        "SELECT DISTINCT {} AS content FROM split_items JOIN items ON items.id = split_items.item "
        "WHERE split_items.split = {} AND part = 'test'",
        content_of_item, parameter);
}

std::vector<ContentHash> hashes_of(SQLite::Statement& query) {
    std::vector<ContentHash> hashes;
    while (query.executeStep())
        if (const auto hash = ContentHash::from_text(query.getColumn(0).getString())) hashes.push_back(*hash);
    return hashes;
}

}  // namespace

std::vector<TestLook> Ledger::test_looks(StudyId study) const {
    return reading(*connection_, [&] {
        SQLite::Database& database = *connection_->database;
        const std::int64_t own = select_number(database, "SELECT split FROM studies WHERE id = ?", study);
        std::map<std::int64_t, std::int64_t> shared;  // by split
        const auto shared_with = [&](std::int64_t split) {
            const auto [known, added] = shared.try_emplace(split, 0);
            if (added)
                known->second = select_number(database,
                                              fmt::format("SELECT COUNT(*) FROM ({}) WHERE content IN ({})",
                                                          test_contents("?1"), test_contents("?2")),
                                              own, split);
            return known->second;
        };
        const std::string shared_items = fmt::format(
            "SELECT COUNT(*) FROM look_items WHERE look = ?2 AND content IN ({})", test_contents("?1"));
        SQLite::Statement query(database, fmt::format(R"sql(
            SELECT test_looks.id, test_looks.split, what, looked, candidate, seed, fold, studies.name, study, {}
            FROM test_looks LEFT JOIN runs ON runs.id = run LEFT JOIN studies ON studies.id = study
            ORDER BY test_looks.id)sql",
                                                      is_sealed("test_looks")));
        std::int64_t count = 0;
        std::vector<TestLook> looks;
        while (query.executeStep()) {
            ++count;
            if (query.getColumn(9).getInt() == 0)
                throw_damaged(connection_->file(), "a look at the test part");
            const bool whole = !query.isColumnNull(1);
            const std::int64_t items =
                whole ? shared_with(query.getColumn(1))
                      : select_number(database, shared_items, own, query.getColumn(0).getInt64());
            if (items == 0 && !(whole && query.getColumn(1).getInt64() == own)) continue;
            TestLook look{.run = {},
                          .looked = query.getColumn(3),
                          .what = query.getColumn(2),
                          .study = {},
                          .items = items};
            if (!query.isColumnNull(4))
                look.run = RunRecord{.candidate = query.getColumn(4),
                                     .seed = query.getColumn(5),
                                     .fold = query.getColumn(6)}
                               .name();
            if (!query.isColumnNull(8) && query.getColumn(8).getInt64() != study.number)
                look.study = query.getColumn(7).getString();
            looks.push_back(std::move(look));
        }
        if (count != select_number(database, "SELECT looks FROM ledger"))
            throw_damaged(connection_->file(), "the list of looks at the test part");
        return looks;
    });
}

std::vector<ContentHash> Ledger::looked_at() const {
    return reading(*connection_, [&] {
        SQLite::Statement query(*connection_->database, fmt::format(R"sql(
            SELECT {} FROM split_items JOIN items ON items.id = split_items.item
            WHERE part = 'test' AND split_items.split IN (SELECT split FROM test_looks)
            UNION SELECT content FROM look_items)sql",
                                                                    content_of_item));
        return hashes_of(query);
    });
}

std::set<ContentHash> Ledger::test_images() const {
    return reading(*connection_, [&] {
        SQLite::Statement query(*connection_->database, fmt::format(R"sql(
            SELECT DISTINCT {} FROM split_items JOIN items ON items.id = split_items.item
            WHERE part = 'test' AND split_items.split IN (SELECT split FROM studies UNION SELECT split FROM runs)
            )sql",
                                                                    content_of_item));
        const std::vector<ContentHash> all = hashes_of(query);
        return std::set<ContentHash>(all.begin(), all.end());
    });
}

void LedgerWriter::record_test_look(RunId run, const std::vector<PredictionRecord>& test) {
    in_transaction(*connection_, [&] {
        require_run(run);
        if (!test.empty()) put_predictions(run, Part::test, test);
        execute(
            *connection_->database,
            "INSERT INTO test_looks (look, run, split, what, looked) SELECT ?2, id, split, 'scores', ?3 FROM "
            "runs WHERE id = ?1",
            run, random_digits(), now());
    });
}

void LedgerWriter::record_look(const std::string& what, const std::vector<ContentHash>& images) {
    in_transaction(*connection_, [&] {
        SQLite::Database& database = *connection_->database;
        execute(database, "INSERT INTO test_looks (look, what, looked) VALUES (?, ?, ?)", random_digits(),
                what, now());
        const std::int64_t look = database.getLastInsertRowid();
        for (const ContentHash& image : images)
            execute(database, "INSERT OR IGNORE INTO look_items VALUES (?, ?)", look, image.text());
    });
}

}  // namespace jevrin::inline v1
