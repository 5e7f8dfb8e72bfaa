#include "jevrin/ledger/connection.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <sqlite3.h>
#include <sys/stat.h>

namespace jevrin::inline v1 {
namespace {

// 0, 0 when there is no such file.
std::pair<std::uint64_t, std::uint64_t> inode_of(const std::filesystem::path& file) {
    struct stat status {};
    if (::stat(file.c_str(), &status) != 0) return {};
    return {status.st_dev, status.st_ino};
}

std::filesystem::file_time_type written_at(const std::filesystem::path& file) {
    std::error_code none;
    return std::filesystem::last_write_time(file, none);
}

}  // namespace

LedgerConnection::LedgerConnection(std::filesystem::path of, DatabaseAccess access)
    : directory(std::move(of)) {
    OpenedDatabase opened = open_database(file(), access);
    database = std::move(opened.database);
    immutable = opened.immutable;
    inode = inode_of(file());
    written = written_at(file());
}

void LedgerConnection::require_in_place() const {
    const auto now = inode_of(file());
    if (now == inode) return;
    throw WorkError(
        fmt::format("{}: {} since this command opened it; nothing more is written. Put the ledger "
                    "back and start again",
                    printable(directory.string()),
                    now.second == 0 ? "the ledger was moved or deleted" : "another ledger took its place"));
}

LentStatement LedgerConnection::prepared(const std::string& sql) {
    std::unique_ptr<SQLite::Statement>& statement = statements[sql];
    if (!statement) statement = std::make_unique<SQLite::Statement>(*database, sql);
    statement->reset();
    statement->clearBindings();
    return LentStatement(*statement);
}

bool LedgerConnection::has_transaction() const {
    return ::sqlite3_get_autocommit(database->getHandle()) == 0;
}

void LedgerConnection::refresh() {
    if (!immutable || (!has_log(file()) && written_at(file()) == written)) return;
    OpenedDatabase again = open_database(file(), DatabaseAccess::read);
    retired.push_back(std::exchange(database, std::move(again.database)));
    immutable = again.immutable;
    ++opened;
    written = written_at(file());
    verified.clear();
    splits.clear();
    statements.clear();
}

}  // namespace jevrin::inline v1
