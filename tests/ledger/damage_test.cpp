// Damage that SQLite does not notice: whatever single value of a ledger changes, it is noticed.
#include "support/recorded_text.hpp"

#include "jevrin/ledger/ledger_writer.hpp"

#include <SQLiteCpp/SQLiteCpp.h>

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

class Damage : public testing::Test {
  protected:
    Damage() {
        fill_with_everything(study_);
        LedgerWriter& writer = study_.writer();
        const RunId run = study_.ledger().run(study_.study().id, "new head/4").id;
        RecordedEpoch epoch;
        epoch.epoch = 3;
        epoch.validation = ConfusionMatrix(4);
        epoch.validation.add(1, 2);
        writer.record_epoch(run, epoch, false,
                            {{.layer = "dense", .weight_norm = 2.0, .dead_fraction = 0.5}});
        writer.put_model(run, "0123456789abcdef",
                         {.milliseconds = 1.5, .batch_milliseconds = 0.5, .bytes = 1000});
        writer.record_look("features", {});
        writer.record_test_look(run, {});
        writer.put_seed_look(study_.study().id, 3);
    }

    SQLite::Database open() { return {(directory_ / "ledger.db").string(), SQLite::OPEN_READWRITE}; }
    // As SQL text.
    static std::string one(const SQLite::Database& database, const std::string& query) {
        SQLite::Statement statement(database, query);
        return statement.executeStep() ? statement.getColumn(0).getString() : "";
    }
    // A merge verifies all that it reads.
    void merge() { another_.merge(Ledger::open(directory_.path())); }

    // Changes each column of the table's first row in turn.
    void expect_every_column_covered(const std::string& table) {
        SQLite::Database database = open();
        std::vector<std::string> columns;
        std::string row;
        SQLite::Statement described(database, "PRAGMA table_info(" + table + ")");
        while (described.executeStep()) {
            columns.push_back(described.getColumn(1).getString());
            if (described.getColumn(5).getInt() == 0) continue;
            const std::string& key = columns.back();
            row += row.empty() ? " WHERE " : " AND ";
            row += key + " IS " + one(database, "SELECT quote(" + key + ") FROM " + table);
        }
        described.reset();
        ASSERT_NE(one(database, "SELECT COUNT(*) FROM " + table + row), "0") << table;
        for (const std::string& column : columns) {
            const auto update = [&](const std::string& value, const std::string& where) {
                EXPECT_EQ(database.exec("UPDATE " + table + " SET " + column + " = " + value + where), 1);
            };
            const std::string old = one(database, "SELECT quote(" + column + ") FROM " + table + row);
            const std::string other =
                one(database, "SELECT quote(CASE typeof(" + column + ") WHEN 'integer' THEN " + column +
                                  " + 1000 WHEN 'real' THEN " + column + " + 0.5 WHEN 'text' THEN " + column +
                                  " || 'x' WHEN 'blob' THEN zeroblob(length(" + column +
                                  ") + 1) ELSE 7 END) FROM " + table + row);
            ASSERT_NE(old, other);
            update(other, row);
            EXPECT_THAT(message_of<InputError>([&] { merge(); }), HasSubstr("not what was written"))
                << table << '.' << column << ' ' << other;
            std::string changed = row;
            if (const std::size_t at = row.find(" " + column + " IS "); at != std::string::npos)
                changed.replace(at + column.size() + 5, old.size(), other);
            update(old, changed);
        }
        EXPECT_NO_THROW(merge()) << table;
    }

    TemporaryDirectory directory_;
    MadeUpStudy study_{directory_.path(), 4, 24};
    LedgerWriter another_ = LedgerWriter::open(directory_ / "another");
};

TEST_F(Damage, OfAnyColumnOfARunIsFound) {
    for (const char* table : {"runs", "epochs", "warnings", "external_runs", "external_epochs"})
        expect_every_column_covered(table);
}

TEST_F(Damage, OfWhatBelongsToAnEpochIsFound) {
    for (const char* table : {"confusion", "layers", "layer_epochs", "predictions", "epoch_predictions",
                              "part_checksums", "cross_fitted", "prediction_costs"})
        expect_every_column_covered(table);
}

TEST_F(Damage, OfWhatBelongsToAStudyIsFound) {
    for (const char* table : {"studies", "image_sets", "classes", "items", "splits", "split_items", "models",
                              "marks", "test_looks", "seed_looks"})
        expect_every_column_covered(table);
}

}  // namespace
}  // namespace jevrin
