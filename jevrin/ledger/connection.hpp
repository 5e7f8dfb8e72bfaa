// The open database of a ledger and its directory, shared by reading and writing.
#pragma once

#include "jevrin/ledger/database.hpp"

#include <cstdint>
#include <filesystem>
#include <memory>
#include <set>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

struct LedgerConnection {
    std::filesystem::path directory;
    std::unique_ptr<SQLite::Database> database;
    bool immutable = false;                                // OpenedDatabase
    std::pair<std::uint64_t, std::uint64_t> inode;         // of the file that was opened: device and number
    std::filesystem::file_time_type written;               // when, at the latest
    std::set<std::pair<int, std::int64_t>> verified = {};  // verify_once()
    std::vector<std::unique_ptr<SQLite::Database>> retired = {};  // that statements may still use

    LedgerConnection(std::filesystem::path of, DatabaseAccess access);

    std::filesystem::path file() const { return directory / "ledger.db"; }
    std::filesystem::path claims_file() const { return directory / "claims"; }

    // WorkError when the directory now holds another ledger than the one that was opened, or none.
    void require_in_place() const;
    // Opens the file again when it was read as if nobody wrote to it and somebody does.
    void refresh();
};

// Runs work() on what is committed, and translates its SQLite errors.
template <typename Work>
auto reading(LedgerConnection& connection, Work work) -> decltype(work()) {
    connection.refresh();
    return with_database_errors(connection.file(), work);
}

}  // namespace jevrin::inline v1
