// Asks a ledger with SQL alone, without this library: its tables are documented in docs/formats.md. Prints
// the images that most runs get wrong: plain_sql LEDGER
#include <sqlite3.h>

#include <cstdio>
#include <string>

int main(int argc, char** argv) {
    if (argc != 2) {
        std::fprintf(stderr, "usage: plain_sql LEDGER\n");
        return 2;
    }
    sqlite3* database = nullptr;
    sqlite3_stmt* query = nullptr;
    const std::string file = std::string(argv[1]) + "/ledger.db";
    const char* const sql = R"sql(
        SELECT items.item, classes.name, COUNT(*) AS wrong, (SELECT COUNT(*) FROM runs WHERE state = 'finished') AS runs
        FROM predictions JOIN items ON items.id = predictions.item
        JOIN classes ON classes.image_set = items.image_set AND classes.class = items.class
        WHERE part = 'validation' AND predicted <> items.class
        GROUP BY items.id ORDER BY wrong DESC, items.item LIMIT 10)sql";
    if (sqlite3_open_v2(file.c_str(), &database, SQLITE_OPEN_READONLY, nullptr) != SQLITE_OK ||
        sqlite3_prepare_v2(database, sql, -1, &query, nullptr) != SQLITE_OK) {
        std::fprintf(stderr, "%s: %s\n", file.c_str(), sqlite3_errmsg(database));
        sqlite3_close(database);
        return 2;
    }
    while (sqlite3_step(query) == SQLITE_ROW)
        std::printf("%s (label %s): wrong in %d of %d runs\n",
                    reinterpret_cast<const char*>(sqlite3_column_text(query, 0)),
                    reinterpret_cast<const char*>(sqlite3_column_text(query, 1)),
                    sqlite3_column_int(query, 2), sqlite3_column_int(query, 3));
    sqlite3_finalize(query);
    sqlite3_close(database);
    return 0;
}
