// The tables of a ledger, and the way from every earlier version to this one.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <filesystem>

namespace jevrin::inline v1 {

// The version of the schema this code writes.
inline constexpr int schema_version = 13;

int stored_version(SQLite::Database& database);  // 0: not a ledger, or an empty one

// In the ledger of this directory, inside a transaction, on a connection with the functions of checksums.hpp.
void create_tables(SQLite::Database& database, const std::filesystem::path& directory);
void bring_up_to_date(SQLite::Database& database, const std::filesystem::path& directory);

}  // namespace jevrin::inline v1
