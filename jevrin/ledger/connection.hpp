// The open database of a ledger and its directory, shared by reading and writing.
#pragma once

#include "jevrin/ledger/database.hpp"

#include <cstdint>
#include <filesystem>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// An item of a split.
struct SplitItem {
    std::int64_t number = 0;
    std::int64_t unit = 0;  // its own number, or that of the first of its unit
    std::size_t label = 0;
};
// All of them by number; and how many classes their image set has.
struct SplitItems {
    std::vector<SplitItem> items;
    std::size_t classes = 0;
};

// A statement of a connection, reset when it is given back.
class LentStatement {
  public:
    explicit LentStatement(SQLite::Statement& statement) : statement_(statement) {}
    ~LentStatement() { statement_.tryReset(); }
    LentStatement(const LentStatement&) = delete;
    LentStatement& operator=(const LentStatement&) = delete;

    SQLite::Statement* operator->() { return &statement_; }

  private:
    SQLite::Statement& statement_;
};

struct LedgerConnection {
    std::filesystem::path directory;
    std::unique_ptr<SQLite::Database> database;
    int transactions = 0;                                  // that are open, one inside the other
    bool immutable = false;                                // OpenedDatabase
    std::int64_t opened = 0;                               // how often it was opened again
    std::pair<std::uint64_t, std::uint64_t> inode;         // of the file that was opened: device and number
    std::filesystem::file_time_type written;               // when, at the latest
    std::set<std::pair<int, std::int64_t>> verified = {};  // verify_once()
    std::map<std::int64_t, SplitItems> splits = {};        // items_of_split()
    std::map<std::int64_t, std::vector<std::string>> validation = {};           // validation_ids()
    std::map<std::string, std::unique_ptr<SQLite::Statement>> statements = {};  // prepared()
    std::vector<std::unique_ptr<SQLite::Database>> retired = {};  // that statements may still use

    LedgerConnection(std::filesystem::path of, DatabaseAccess access);

    std::filesystem::path file() const { return directory / "ledger.db"; }
    std::filesystem::path claims_file() const { return directory / "claims"; }

    // WorkError when the directory now holds another ledger than the one that was opened, or none.
    void require_in_place() const;
    // The statement, ready to be bound, kept for the next time: for what is asked once for each of many runs.
    // Whoever has it is done with it before anybody asks for the same.
    LentStatement prepared(const std::string& sql);
    // Whether one is open, of a reading or a writing.
    bool has_transaction() const;
    // Opens the file again when it was read as if nobody wrote to it and somebody does.
    void refresh();
};

// Runs work() on what is committed, and translates its SQLite errors. All its statements, those of readings
// inside it too, see the same commit, whoever writes meanwhile.
template <typename Work>
auto reading(LedgerConnection& connection, Work work) -> decltype(work()) {
    if (connection.has_transaction()) return with_database_errors(connection.file(), work);
    connection.refresh();
    return with_database_errors(connection.file(), [&] {
        const SQLite::Transaction snapshot(*connection.database, SQLite::TransactionBehavior::DEFERRED);
        return work();
    });
}

}  // namespace jevrin::inline v1
