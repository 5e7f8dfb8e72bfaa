// The database behind a ledger: opening it, and SQLite's errors as text.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <cerrno>
#include <filesystem>
#include <memory>
#include <string>
#include <utility>

namespace jevrin::inline v1 {

enum class DatabaseAccess { read, write };

struct OpenedDatabase {
    std::unique_ptr<SQLite::Database> database;
    bool immutable = false;  // read as if nobody ever wrote to it
};

// InputError or WorkError names the file: it is no ledger, damaged, of another version, or cannot be read.
OpenedDatabase open_database(const std::filesystem::path& file, DatabaseAccess access);

// Opens a small database beside a ledger, or makes it. When it is older than this version (PRAGMA
// user_version), tables is carried out, which makes what is not there. InputError when it is of a later one.
std::unique_ptr<SQLite::Database> open_beside_ledger(const std::filesystem::path& file, int version,
                                                     const char* tables);

// Whether the file has a log with changes that may not be in it yet.
bool has_log(const std::filesystem::path& file);

// "file:/..." for SQLite, with nothing in it that means something there.
std::string database_uri(const std::filesystem::path& file);

// Throws the WorkError or InputError that says what an SQLite error means for this file.
[[noreturn]] void throw_database_error(const std::filesystem::path& file, const SQLite::Exception& error);

// Runs work() and translates its SQLite errors.
template <typename Work>
auto with_database_errors(const std::filesystem::path& file, Work work) -> decltype(work()) {
    errno = 0;
    try {
        return work();
    } catch (const SQLite::Exception& error) {
        throw_database_error(file, error);
    }
}

}  // namespace jevrin::inline v1
