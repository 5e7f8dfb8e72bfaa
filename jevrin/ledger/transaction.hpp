// Transactions and statements of those who write into a ledger.
#pragma once

#include "jevrin/ledger/database.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <cstdint>
#include <ctime>
#include <filesystem>
#include <string>
#include <type_traits>

namespace jevrin {

// UTC, "2026-01-31T12:00:00Z".
inline std::string now() {
    return fmt::format("{:%Y-%m-%dT%H:%M:%SZ}", fmt::gmtime(std::time(nullptr)));
}

// Runs work() as one transaction that takes the write lock at once, and translates database errors.
template <typename Work>
auto in_transaction(SQLite::Database& database, const std::filesystem::path& directory, Work work)
    -> decltype(work()) {
    return with_database_errors(directory / "ledger.db", [&] {
        SQLite::Transaction transaction(database, SQLite::TransactionBehavior::IMMEDIATE);
        if constexpr (std::is_void_v<decltype(work())>) {
            work();
            transaction.commit();
        } else {
            auto result = work();
            transaction.commit();
            return result;
        }
    });
}

// Runs one statement with its values bound in order.
template <typename... Values>
void execute(SQLite::Database& database, const char* sql, const Values&... values) {
    SQLite::Statement statement(database, sql);
    int place = 0;
    (statement.bind(++place, values), ...);
    statement.exec();
}

template <typename... Values>
std::int64_t select_number(SQLite::Database& database, const char* sql, const Values&... values) {
    SQLite::Statement statement(database, sql);
    int place = 0;
    (statement.bind(++place, values), ...);
    return statement.executeStep() ? statement.getColumn(0).getInt64() : 0;
}

}  // namespace jevrin
