#include "jevrin/ledger/database.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/file_system.hpp"
#include "jevrin/base/place_lock.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/checksums.hpp"
#include "jevrin/ledger/schema.hpp"

#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <cstring>
#include <new>
#include <thread>

namespace jevrin::inline v1 {
namespace {

constexpr int patience_milliseconds = 10'000;

// Another process may be making the ledger at this moment: then it holds nothing yet.
void await_schema(SQLite::Database& database) {
    constexpr int looks = 50;
    for (int look = 0; look < looks && stored_version(database) == 0 &&
                       database.execAndGet("SELECT COUNT(*) FROM sqlite_master").getInt() == 0;
         ++look)
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
}

// A write-ahead log; where several machines may see the file a journal that is rolled back, since the log
// needs memory that they share. Changing it does not wait for another process that makes the ledger at this
// moment, as other statements do.
void use_journal(SQLite::Database& database, const std::filesystem::path& file) {
    constexpr int looks = 500;
    const char* journal = file_system_of(file.parent_path()).is_shared ? "DELETE" : "WAL";
    for (int look = 0;; ++look) try {
            database.exec(fmt::format("PRAGMA journal_mode = {}", journal));
            return;
        } catch (const SQLite::Exception& error) {
            if (error.getErrorCode() != SQLITE_BUSY || look == looks) throw;
            std::this_thread::sleep_for(std::chrono::milliseconds(20));
        }
}

void check_version(int version, const std::filesystem::path& file) {
    if (version > schema_version)
        throw InputError(
            fmt::format("{}: a newer version of Jevrin wrote this ledger (its format is {}, this version "
                        "knows {}); use the newer one",
                        printable(file.string()), version, schema_version));
    if (version < 1)
        throw InputError(
            fmt::format("{}: this is not a ledger; name the directory of one, or another, empty one",
                        printable(file.string())));
    if (version < schema_version)
        throw InputError(
            fmt::format("{}: an earlier version of Jevrin wrote this ledger; 'jevrin train' with its "
                        "plan brings it up to date and loses nothing",
                        printable(file.string())));
}

}  // namespace

std::string database_uri(const std::filesystem::path& file) {
    std::string uri = "file:";
    for (const char c : std::filesystem::absolute(file).string())
        uri += (c == '?' || c == '#' || c == '%') ? fmt::format("%{:02x}", c) : std::string(1, c);
    return uri;
}

namespace {

bool called_damaged(const SQLite::Exception& error) {
    return error.getErrorCode() == SQLITE_CORRUPT || error.getErrorCode() == SQLITE_NOTADB;
}

// Opens the file by its URI, so that parameters can follow.
std::unique_ptr<SQLite::Database> open_reading(const std::filesystem::path& file, const char* parameters) {
    auto database = std::make_unique<SQLite::Database>(
        database_uri(file) + parameters, SQLite::OPEN_READONLY | SQLite::OPEN_URI, patience_milliseconds);
    try {
        add_checksum_functions(*database);
        await_schema(*database);
        check_version(stored_version(*database), file);
    } catch (const SQLite::Exception& error) {
        // Before closing the database overwrites the system's error.
        if (called_damaged(error)) throw_database_error(file, error);
        throw;
    }
    return database;
}

// Where a reader may not write, SQLite reads beside a log that somebody made, but makes none. Without a log
// the file is all there is; with one that cannot be read, it is not.
OpenedDatabase open_for_reading(const std::filesystem::path& file) {
    try {
        return {open_reading(file, "")};
    } catch (const SQLite::Exception& error) {
        if (error.getErrorCode() != SQLITE_CANTOPEN && error.getErrorCode() != SQLITE_READONLY) throw;
        if (::access(file.c_str(), R_OK) != 0) throw;
        if (has_log(file))
            throw WorkError(fmt::format(
                "{}: what was recorded last is in {}-wal, which cannot be read without the right to write in "
                "this directory; read the ledger once as who may, or copy the directory to where you may "
                "write",
                printable(file.string()), printable(file.filename().string())));
    }
    return {open_reading(file, "?immutable=1"), true};
}

OpenedDatabase open_for_writing(const std::filesystem::path& file) {
    const bool is_shared = file_system_of(file.parent_path()).is_shared;
    // SQLite takes a file system without locks for a database that is busy.
    if (is_shared) PlaceLock::require_locks(file.parent_path() / "claims");
    auto database = std::make_unique<SQLite::Database>(
        database_uri(file), SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE | SQLite::OPEN_URI,
        patience_milliseconds);
    add_checksum_functions(*database);
    if (stored_version(*database) == 0 && !database->tableExists("runs")) {
        use_journal(*database, file);
        SQLite::Transaction transaction(*database, SQLite::TransactionBehavior::IMMEDIATE);
        if (stored_version(*database) == 0) create_tables(*database, file.parent_path());
        transaction.commit();
    }
    if (const int version = stored_version(*database); version >= 1 && version < schema_version) {
        SQLite::Transaction transaction(*database, SQLite::TransactionBehavior::IMMEDIATE);
        if (stored_version(*database) < schema_version) bring_up_to_date(*database, file.parent_path());
        transaction.commit();
    }
    check_version(stored_version(*database), file);
    // One that was copied here from a disk of one machine.
    if (is_shared && database->execAndGet("PRAGMA journal_mode").getString() == "wal")
        use_journal(*database, file);
    add_sealing_triggers(*database);
    database->exec("PRAGMA synchronous = FULL");
    database->exec("PRAGMA foreign_keys = ON");
    return {std::move(database)};
}

}  // namespace

void throw_database_error(const std::filesystem::path& file, const SQLite::Exception& error) {
    const std::string name = printable(file.string());
    // SQLite calls what it cannot read corrupt when the system says that reading failed.
    const bool unreadable = errno == EIO || errno == ENXIO || errno == ERANGE;
    switch (unreadable && called_damaged(error) ? SQLITE_IOERR : error.getErrorCode()) {
        case SQLITE_FULL:
            throw WorkError(fmt::format(
                "{}: the disk is full; free some space and start again, nothing finished is lost", name));
        case SQLITE_READONLY:
        case SQLITE_PERM:
            throw WorkError(fmt::format(
                "{}: the ledger is read-only; check who may write it, or name another directory", name));
        case SQLITE_CANTOPEN:
            throw WorkError(
                fmt::format("{}: the ledger cannot be opened; check who may read and write it", name));
        case SQLITE_BUSY:
        case SQLITE_LOCKED:
            throw WorkError(
                fmt::format("{}: another process is writing to the ledger; try again when it is done", name));
        case SQLITE_IOERR:
            throw WorkError(fmt::format(
                "{}: the ledger cannot be read or written: {}; check the disk, or the network file system, "
                "and start again",
                name, unreadable ? std::strerror(errno) : error.what()));
        case SQLITE_NOMEM:
            throw std::bad_alloc();
        case SQLITE_CORRUPT:
        case SQLITE_NOTADB:
            throw InputError(
                fmt::format("{}: the database is damaged or not a database; restore it from a backup, "
                            "or name another directory",
                            name));
        default:
            throw WorkError(fmt::format(
                "{}: the ledger's database failed: {}; check the disk and start again", name, error.what()));
    }
}

OpenedDatabase open_database(const std::filesystem::path& file, DatabaseAccess access) {
    // Without statistics of memory, whose lock all threads would share.
    [[maybe_unused]] static const int configured = ::sqlite3_config(SQLITE_CONFIG_MEMSTATUS, 0);
    return with_database_errors(file, [&] {
        return access == DatabaseAccess::read ? open_for_reading(file) : open_for_writing(file);
    });
}

std::unique_ptr<SQLite::Database> open_beside_ledger(const std::filesystem::path& file, int version,
                                                     const char* tables) {
    return with_database_errors(file, [&] {
        auto database = std::make_unique<SQLite::Database>(
            database_uri(file), SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE | SQLite::OPEN_URI,
            patience_milliseconds);
        use_journal(*database, file);
        database->exec("PRAGMA synchronous = FULL");
        if (stored_version(*database) < version) {
            SQLite::Transaction transaction(*database, SQLite::TransactionBehavior::IMMEDIATE);
            if (stored_version(*database) < version) {
                database->exec(tables);
                database->exec(fmt::format("PRAGMA user_version = {}", version));
            }
            transaction.commit();
        }
        if (stored_version(*database) > version)
            throw InputError(fmt::format("{}: a newer version of Jevrin wrote this; use the newer one",
                                         printable(file.string())));
        return database;
    });
}

bool has_log(const std::filesystem::path& file) {
    std::error_code error;
    const auto size = std::filesystem::file_size(file.string() + "-wal", error);
    return !error && size > 0;
}

}  // namespace jevrin::inline v1
