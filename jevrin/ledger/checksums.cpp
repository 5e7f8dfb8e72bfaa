#include "jevrin/ledger/checksums.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/columns.hpp"

#include <fmt/format.h>
#include <sqlite3.h>

#include <array>
#include <cassert>
#include <cstring>
#include <map>
#include <string_view>
#include <vector>

namespace jevrin::inline v1 {
namespace {

void append_value(std::string& bytes, sqlite3_value* value) {
    const int type = sqlite3_value_type(value);
    bytes += static_cast<char>(type);
    const auto append = [&](const auto& number) {
        char raw[sizeof(number)];
        std::memcpy(raw, &number, sizeof(number));
        bytes.append(raw, sizeof(number));
    };
    if (type == SQLITE_INTEGER) {
        append(sqlite3_value_int64(value));
    } else if (type == SQLITE_FLOAT) {
        append(sqlite3_value_double(value));
    } else if (type != SQLITE_NULL) {
        const void* data = sqlite3_value_blob(value);
        const int size = sqlite3_value_bytes(value);
        append(size);
        if (size > 0) bytes.append(static_cast<const char*>(data), static_cast<std::size_t>(size));
    }
}

std::uint64_t checksum_of(int count, sqlite3_value** values) {
    thread_local std::string bytes;  // a ledger has hundreds of thousands of rows
    bytes.clear();
    for (int i = 0; i < count; ++i) append_value(bytes, values[i]);
    return content_number(bytes);
}

void return_checksum(sqlite3_context* context, std::uint64_t checksum) {
    sqlite3_result_int64(context, static_cast<sqlite3_int64>(checksum));
}

void row_function(sqlite3_context* context, int count, sqlite3_value** values) {
    return_checksum(context, checksum_of(count, values));
}

// The sum of the rows' checksums, which does not depend on their order.

void add_row(sqlite3_context* context, int count, sqlite3_value** values) {
    auto* sum = static_cast<std::uint64_t*>(sqlite3_aggregate_context(context, sizeof(std::uint64_t)));
    if (sum != nullptr) *sum += checksum_of(count, values);
}

void end_rows(sqlite3_context* context) {
    const auto* sum = static_cast<std::uint64_t*>(sqlite3_aggregate_context(context, 0));
    return_checksum(context, sum == nullptr ? 0 : *sum);
}

struct SealedTable {
    std::string name;
    std::vector<std::string> key;
    std::string columns;
};

const std::vector<SealedTable>& sealed_tables() {
    static const std::vector<SealedTable> tables = {
        {"runs", {"id"}, "id, study, split, superseded, " + column_names(run_columns)},
        {"epochs", {"run", "epoch"}, "run, " + column_names(epoch_columns())},
        {"studies", {"id"}, "id, name, metric, split, used, runs, margin, most_seeds"},
        {"image_sets", {"id"}, "id, fingerprint, root, version, added, source"},
        {"splits", {"id"}, "id, image_set, hash, settings"},
        {"models", {"run", "epoch"}, "run, epoch, hash"},
        {"epoch_predictions", {"run", "epoch"}, "run, epoch, predicted"},
        {"cross_fitted", {"run", "metric"}, "run, metric, predicted"},
        {"prediction_costs", {"run"}, "run, milliseconds, batch_milliseconds, bytes"},
        {"external_runs", {"run"}, "run, stated"},
        {"external_epochs", {"run", "epoch"}, "run, epoch, content, waiting, numbers"},
        {"seed_looks", {"study", "seeds"}, "study, seeds, looked"},
        {"warnings", {"id"}, "id, run, epoch, message"},
        {"marks", {"root", "item"}, "root, item, label, excluded, note, marked"},
        {"test_looks", {"id"}, "id, look, run, split, what, looked"},
    };
    return tables;
}

// `rows` refers to the table that holds the checksum by its name, and to others behind {0}, the schema.
struct Group {
    const char* what;
    const char* table;
    const char* column;
    std::string rows;
};

const Group& group_of(SealedRows rows) {
    static const std::map<SealedRows, Group> groups = {
        {SealedRows::epochs,
         {"the epochs of a run", "runs", "epochs_checksum",
          "SELECT rows_checksum(epoch, epochs.checksum) FROM {0}.epochs WHERE epochs.run = runs.id"}},
        {SealedRows::matrix,
         {"a confusion matrix", "epochs", "matrix_checksum",
          "SELECT rows_checksum(true_class, predicted, count) FROM {0}.confusion AS cell "
          "WHERE cell.run = epochs.run AND cell.epoch = epochs.epoch"}},
        {SealedRows::layers,
         {"the record of layers", "epochs", "layers_checksum",
          "SELECT rows_checksum(layer.layer, layers.name, " + column_names(layer_columns) +
              ") FROM {0}.layer_epochs AS layer JOIN {0}.layers ON layers.run = layer.run AND "
              "layers.layer = layer.layer WHERE layer.run = epochs.run AND layer.epoch = epochs.epoch"}},
        {SealedRows::outcomes,
         {"a run's predictions", "part_checksums", "outcomes",
          "SELECT rows_checksum(one.item, items.class, one.predicted) FROM {0}.predictions AS one "
          "JOIN {0}.items ON items.id = one.item "
          "WHERE one.run = part_checksums.run AND one.part = part_checksums.part"}},
        {SealedRows::probabilities,
         {"a run's probabilities", "part_checksums", "probabilities",
          "SELECT rows_checksum(items.item, items.class, one.predicted, probability, one.probabilities) FROM "
          "{0}.predictions AS one JOIN {0}.items ON items.id = one.item "
          "WHERE one.run = part_checksums.run AND one.part = part_checksums.part"}},
        {SealedRows::items,
         {"the list of items", "image_sets", "items_checksum",
          "SELECT rows_checksum(items.id, item, class) FROM {0}.items NOT INDEXED "
          "WHERE image_set = image_sets.id"}},
        {SealedRows::classes,
         {"the list of classes", "image_sets", "classes_checksum",
          "SELECT rows_checksum(class, name) FROM {0}.classes WHERE image_set = image_sets.id"}},
        {SealedRows::split_items,
         {"a split", "splits", "items_checksum",
          "SELECT rows_checksum(item, part, fold, unit) FROM {0}.split_items WHERE split = splits.id"}},
    };
    return groups.at(rows);
}

constexpr SealedRows all_groups[] = {SealedRows::epochs,   SealedRows::matrix,        SealedRows::layers,
                                     SealedRows::outcomes, SealedRows::probabilities, SealedRows::items,
                                     SealedRows::classes,  SealedRows::split_items};

std::string sealing_statement(SealedRows rows, const std::string& condition) {
    const Group& group = group_of(rows);
    return fmt::format("UPDATE {} SET {} = ({}) WHERE {}", group.table, group.column,
                       fmt::format(fmt::runtime(group.rows), "main"), condition);
}

std::int64_t count_damaged(const LedgerConnection& connection, const Group& group, const std::string& schema,
                           const std::string& condition, std::initializer_list<std::int64_t> numbers) {
    SQLite::Statement query(
        *connection.database,
        fmt::format("SELECT COUNT(*) FROM {}.{} WHERE ({}) AND {} IS NOT ({})", schema, group.table,
                    condition, group.column, fmt::format(fmt::runtime(group.rows), schema)));
    int place = 0;
    for (const std::int64_t number : numbers) query.bind(++place, number);
    query.executeStep();
    return query.getColumn(0).getInt64();
}

}  // namespace

std::uint64_t checksum_of_numbers(std::initializer_list<std::int64_t> numbers) {
    std::array<char, 64> bytes;  // up to seven numbers, each behind its type
    assert(numbers.size() * (1 + sizeof(std::int64_t)) <= bytes.size());
    std::size_t size = 0;
    for (const std::int64_t number : numbers) {
        bytes[size++] = static_cast<char>(SQLITE_INTEGER);
        std::memcpy(bytes.data() + size, &number, sizeof(number));
        size += sizeof(number);
    }
    return content_number(std::string_view(bytes.data(), size));
}

void add_checksum_functions(SQLite::Database& database) {
    constexpr int any_number = -1;
    constexpr int flags = SQLITE_UTF8 | SQLITE_DETERMINISTIC;
    sqlite3* handle = database.getHandle();
    sqlite3_create_function_v2(handle, "row_checksum", any_number, flags, nullptr, row_function, nullptr,
                               nullptr, nullptr);
    sqlite3_create_function_v2(handle, "rows_checksum", any_number, flags, nullptr, nullptr, add_row,
                               end_rows, nullptr);
}

void add_sealing_triggers(SQLite::Database& database) {
    for (const SealedTable& table : sealed_tables()) {
        std::string same;
        for (const std::string& column : table.key)
            same += fmt::format("{}{} = NEW.{}", same.empty() ? "" : " AND ", column, column);
        for (const char* event : {"INSERT", "UPDATE"})
            database.exec(
                fmt::format("CREATE TEMP TRIGGER seal_{0}_{1} AFTER {1} ON main.{0} BEGIN "
                            "UPDATE {0} SET checksum = row_checksum({2}) WHERE {3}; END",
                            table.name, event, table.columns, same));
    }
    // Rows that a damaged page hides have no checksum to miss: they are counted.
    database.exec(
        "CREATE TEMP TRIGGER count_runs AFTER INSERT ON main.runs BEGIN "
        "UPDATE studies SET runs = runs + 1 WHERE id = NEW.study; END");
    database.exec(
        "CREATE TEMP TRIGGER count_looks AFTER INSERT ON main.test_looks BEGIN "
        "UPDATE ledger SET looks = looks + 1; END");
}

void seal_studies(SQLite::Database& database) {
    for (const SealedTable& table : sealed_tables())
        if (table.name == "studies")
            database.exec(
                fmt::format("UPDATE {} SET checksum = row_checksum({})", table.name, table.columns));
}

void seal_everything(SQLite::Database& database) {
    database.exec("INSERT INTO part_checksums (run, part) SELECT DISTINCT run, part FROM predictions");
    for (const SealedTable& table : sealed_tables())
        database.exec(fmt::format("UPDATE {} SET checksum = row_checksum({})", table.name, table.columns));
    for (const SealedRows rows : all_groups) seal(database, rows, "TRUE", {});
}

const std::string& is_sealed(const std::string& name) {
    static const std::map<std::string, std::string> conditions = [] {
        std::map<std::string, std::string> all;
        for (const SealedTable& table : sealed_tables()) {
            std::string columns = table.name + ".";
            for (const char c : table.columns) {
                columns += c;
                if (c == ' ') columns += table.name + ".";
            }
            all[table.name] = fmt::format("{}.checksum IS row_checksum({})", table.name, columns);
        }
        return all;
    }();
    return conditions.at(name);
}

void seal(SQLite::Database& database, SealedRows rows, const std::string& condition,
          std::initializer_list<std::int64_t> numbers) {
    SQLite::Statement update(database, sealing_statement(rows, condition));
    int place = 0;
    for (const std::int64_t number : numbers) update.bind(++place, number);
    update.exec();
}

void seal(LedgerConnection& connection, SealedRows rows, const std::string& condition,
          std::initializer_list<std::int64_t> numbers) {
    LentStatement update = connection.prepared(sealing_statement(rows, condition));
    int place = 0;
    for (const std::int64_t number : numbers) update->bind(++place, number);
    update->exec();
}

void verify(const LedgerConnection& connection, SealedRows rows, const std::string& condition,
            std::initializer_list<std::int64_t> numbers) {
    const Group& group = group_of(rows);
    if (count_damaged(connection, group, "main", condition, numbers) > 0)
        throw_damaged(connection.file(), group.what);
}

void verify_once(LedgerConnection& connection, SealedRows rows, std::int64_t id) {
    if (!connection.verified.insert({static_cast<int>(rows), id}).second) return;
    verify(connection, rows, "id = ?", {id});
}

void verify_everything(const LedgerConnection& connection, const std::string& schema,
                       const std::filesystem::path& file) {
    for (const SealedTable& table : sealed_tables()) {
        SQLite::Statement query(*connection.database, fmt::format("SELECT COUNT(*) FROM {}.{} WHERE NOT ({})",
                                                                  schema, table.name, is_sealed(table.name)));
        query.executeStep();
        if (query.getColumn(0).getInt64() > 0) throw_damaged(file, fmt::format("a row of '{}'", table.name));
    }
    for (const SealedRows rows : all_groups)
        if (count_damaged(connection, group_of(rows), schema, "TRUE", {}) > 0)
            throw_damaged(file, group_of(rows).what);
}

void throw_damaged(const std::filesystem::path& file, const std::string& what) {
    throw InputError(
        fmt::format("{}: {}: not what was written; the database is damaged, or another program "
                    "changed it; restore it from a backup",
                    printable(file.string()), what));
}

}  // namespace jevrin::inline v1
