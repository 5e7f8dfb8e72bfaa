// The tables of a ledger, and the way from every earlier version to this one.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

namespace jevrin::inline v1 {

// The version of the schema this code writes.
inline constexpr int schema_version = 10;

int stored_version(SQLite::Database& database);  // 0: not a ledger, or an empty one

// Inside a transaction, on a connection with the functions of checksums.hpp.
void create_tables(SQLite::Database& database);
void bring_up_to_date(SQLite::Database& database);

}  // namespace jevrin::inline v1
