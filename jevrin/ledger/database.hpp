// The database behind a ledger: its schema, and SQLite's errors as text.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <filesystem>
#include <memory>
#include <utility>

namespace jevrin::inline v1 {

// The version of the schema this code writes.
inline constexpr int schema_version = 9;

enum class DatabaseAccess { read, write };

std::unique_ptr<SQLite::Database> open_database(const std::filesystem::path& file, DatabaseAccess access);

// Throws the WorkError or InputError that says what an SQLite error means for this file.
[[noreturn]] void throw_database_error(const std::filesystem::path& file, const SQLite::Exception& error);

// Runs work() and translates its SQLite errors.
template <typename Work>
auto with_database_errors(const std::filesystem::path& file, Work work) -> decltype(work()) {
    try {
        return work();
    } catch (const SQLite::Exception& error) {
        throw_database_error(file, error);
    }
}

}  // namespace jevrin::inline v1
