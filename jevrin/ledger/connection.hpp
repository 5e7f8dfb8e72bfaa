// The open database of a ledger and its directory, shared by reading and writing.
#pragma once

#include "jevrin/ledger/database.hpp"

#include <filesystem>
#include <memory>

namespace jevrin::inline v1 {

struct LedgerConnection {
    std::filesystem::path directory;
    std::unique_ptr<SQLite::Database> database;

    std::filesystem::path file() const { return directory / "ledger.db"; }
    std::filesystem::path claims_file() const { return directory / "claims"; }
};

}  // namespace jevrin::inline v1
