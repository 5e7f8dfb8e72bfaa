// Checksums of what a ledger holds: damage to the database that SQLite does not notice is found when it is
// read.
//
// A row that stands for itself has a column `checksum` over its other columns, kept by temporary triggers on
// every connection that writes. Rows that belong together (the cells of a matrix, the predictions of a part,
// the items of a set) have one checksum, set when they are complete.
#pragma once

#include "jevrin/ledger/connection.hpp"

#include <cstdint>
#include <initializer_list>
#include <string>

namespace jevrin::inline v1 {

// The SQL functions row_checksum(...), and rows_checksum(...) over rows in any order: XXH3 of the values and
// their types.
void add_checksum_functions(SQLite::Database& database);

// Keeps the column `checksum` of all tables that have one, from now on on this connection.
void add_sealing_triggers(SQLite::Database& database);

// Sets all checksums of a ledger that had none.
void seal_everything(SQLite::Database& database);
// The same for studies, whose columns became more.
void seal_studies(SQLite::Database& database);

// SQL that is true for a row of this table that is as it was written.
const std::string& is_sealed(const std::string& table);

// The number that rows_checksum() adds for a row of these integers.
std::uint64_t checksum_of_numbers(std::initializer_list<std::int64_t> numbers);

// Rows that belong together.
enum class SealedRows { epochs, matrix, layers, outcomes, probabilities, items, classes, split_items };

// Sets the checksums of what the condition, SQL with a number for each '?', selects in the table that holds
// them: `runs` (epochs), `epochs` (matrix, layers), `part_checksums` (outcomes, probabilities), `image_sets`
// (items, classes) or `splits`.
void seal(SQLite::Database& database, SealedRows rows, const std::string& condition,
          std::initializer_list<std::int64_t> numbers);
// The same with a statement that the connection keeps: for what every epoch does.
void seal(LedgerConnection& connection, SealedRows rows, const std::string& condition,
          std::initializer_list<std::int64_t> numbers);
// InputError when rows do not fit their checksum.
void verify(const LedgerConnection& connection, SealedRows rows, const std::string& condition,
            std::initializer_list<std::int64_t> numbers);
// The same for rows that are never changed: once for each connection.
void verify_once(LedgerConnection& connection, SealedRows rows, std::int64_t id);
// Everything in a ledger: "main", or an attached one.
void verify_everything(const LedgerConnection& connection, const std::string& schema,
                       const std::filesystem::path& file);

// "FILE: WHAT: not what was written; the database is damaged, ...".
[[noreturn]] void throw_damaged(const std::filesystem::path& file, const std::string& what);

}  // namespace jevrin::inline v1
