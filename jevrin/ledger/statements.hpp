// Statements and transactions on the database of a ledger.
#pragma once

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/connection.hpp"
#include "jevrin/ledger/ids.hpp"
#include "jevrin/ledger/ledger.hpp"

#include <SQLiteCpp/Savepoint.h>
#include <fmt/chrono.h>
#include <fmt/format.h>

#include <cstdint>
#include <ctime>
#include <filesystem>
#include <memory>
#include <string>
#include <type_traits>

namespace jevrin::inline v1 {

// UTC, "2026-01-31T12:00:00Z".
inline std::string now() {
    return fmt::format("{:%Y-%m-%dT%H:%M:%SZ}", fmt::gmtime(std::time(nullptr)));
}

// Runs work() as one transaction that takes the write lock at once, and translates database errors. Inside
// another one it is a part of that: what it wrote is taken back when it throws, and lasts when the other is
// committed.
template <typename Work>
auto in_transaction(LedgerConnection& connection, Work work) -> decltype(work()) {
    connection.require_in_place();
    const auto carry_out = [&](auto transaction, const auto& commit) {
        struct Depth {
            int& depth;
            explicit Depth(int& of) : depth(of) { ++depth; }
            ~Depth() { --depth; }
        } const inside(connection.transactions);
        if constexpr (std::is_void_v<decltype(work())>) {
            work();
            commit(transaction);
        } else {
            auto result = work();
            commit(transaction);
            return result;
        }
    };
    return with_database_errors(connection.file(), [&] {
        SQLite::Database& database = *connection.database;
        if (connection.transactions > 0)
            return carry_out(std::make_unique<SQLite::Savepoint>(database, "part"),
                             [](const auto& savepoint) { savepoint->release(); });
        return carry_out(
            std::make_unique<SQLite::Transaction>(database, SQLite::TransactionBehavior::IMMEDIATE),
            [](const auto& transaction) { transaction->commit(); });
    });
}

template <typename Value>
void bind_value(SQLite::Statement& statement, int place, const Value& value) {
    if constexpr (requires { value.number; })
        statement.bind(place, value.number);
    else
        statement.bind(place, value);
}

// Runs one statement with its values bound in order.
template <typename... Values>
void execute(SQLite::Database& database, const std::string& sql, const Values&... values) {
    SQLite::Statement statement(database, sql);
    int place = 0;
    (bind_value(statement, ++place, values), ...);
    statement.exec();
}

// The same with a statement that the connection keeps.
template <typename... Values>
void execute(LedgerConnection& connection, const std::string& sql, const Values&... values) {
    LentStatement statement = connection.prepared(sql);
    int place = 0;
    (bind_value(*statement.operator->(), ++place, values), ...);
    statement->exec();
}

template <typename... Values>
std::int64_t select_number(SQLite::Database& database, const std::string& sql, const Values&... values) {
    SQLite::Statement statement(database, sql);
    int place = 0;
    (bind_value(statement, ++place, values), ...);
    return statement.executeStep() ? statement.getColumn(0).getInt64() : 0;
}

// What a ledger does not hold: "FILE: there is no run with the number 7".
[[noreturn]] void throw_no_row(const LedgerConnection& connection, std::int64_t number, const char* what);

// InputError when the table has no row with this number.
template <typename Kind>
void require_row(const LedgerConnection& connection, const char* table, LedgerId<Kind> id, const char* what) {
    if (select_number(*connection.database, fmt::format("SELECT COUNT(*) FROM {} WHERE id = ?", table), id) ==
        0)
        throw_no_row(connection, id.number, what);
}

// The split of a run.
std::int64_t split_of(LedgerConnection& connection, RunId run);
// The items of a split, read and verified once for each connection.
const SplitItems& items_of_split(LedgerConnection& connection, std::int64_t split);

// The ids of a split's validation items by number, read once for each connection.
const std::vector<std::string>& validation_ids(LedgerConnection& connection, std::int64_t split);

// A stored value of an enumeration; InputError names the file when it is none.
template <typename Enum>
Enum stored_value(const LedgerConnection& connection, const std::string& name) {
    try {
        return value_named<Enum>(name);
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: {}; the ledger is damaged", printable(connection.file().string()),
                                     error.what()));
    }
}

}  // namespace jevrin::inline v1
