#include "jevrin/server/service_store.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/database.hpp"
#include "jevrin/ledger/statements.hpp"
#include "jevrin/server/request_guard.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <array>

namespace jevrin::inline v1 {
namespace {

constexpr int patience_milliseconds = 10'000;
constexpr int version_of_the_form = 1;
constexpr std::size_t bytes_of_a_key = 24;
constexpr std::size_t longest_name = 64;

const char* const tables = R"sql(
CREATE TABLE keys (
    name TEXT PRIMARY KEY,
    hash TEXT NOT NULL UNIQUE,
    may TEXT NOT NULL,
    per_minute INTEGER NOT NULL,
    added TEXT NOT NULL) WITHOUT ROWID;
)sql";

// A key is random and long: nobody finds it from a fast hash.
std::string sha256(const std::string& text) {
    std::array<unsigned char, EVP_MAX_MD_SIZE> digest{};
    unsigned size = 0;
    if (EVP_Digest(text.data(), text.size(), digest.data(), &size, EVP_sha256(), nullptr) != 1)
        throw WorkError("the hash of a key cannot be computed");
    std::string hex;
    for (unsigned i = 0; i < size; ++i) hex += fmt::format("{:02x}", digest[i]);
    return hex;
}

bool is_name(const std::string& name) {
    constexpr std::string_view letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.";
    return !name.empty() && name.size() <= longest_name && name.front() != '.' &&
           name.find_first_not_of(letters) == std::string::npos;
}

ServiceKey key_in(SQLite::Statement& query) {
    ServiceKey key{
        .name = query.getColumn(0), .may = {}, .per_minute = query.getColumn(2), .added = query.getColumn(3)};
    const std::string may = query.getColumn(1);
    for (std::size_t begin = 0; begin < may.size();) {
        const std::size_t end = std::min(may.find(' ', begin), may.size());
        key.may.insert(value_named<Right>(may.substr(begin, end - begin)));
        begin = end + 1;
    }
    return key;
}

}  // namespace

const EnumNames<Right>& names_of(Right) {
    static const EnumNames<Right> names("the right", {{Right::runs, "runs"}, {Right::metrics, "metrics"}});
    return names;
}

struct ServiceStore::State {
    std::filesystem::path file;
    std::unique_ptr<SQLite::Database> database;

    template <typename Work>
    auto with_errors(Work work) -> decltype(work()) {
        return with_database_errors(file, work);
    }
};

ServiceStore::ServiceStore(const std::filesystem::path& directory) : state_(std::make_unique<State>()) {
    make_directory(directory);
    state_->file = directory / "service.db";
    state_->with_errors([&] {
        state_->database = std::make_unique<SQLite::Database>(
            database_uri(state_->file), SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE | SQLite::OPEN_URI,
            patience_milliseconds);
        SQLite::Database& database = *state_->database;
        database.exec("PRAGMA journal_mode = WAL");
        database.exec("PRAGMA synchronous = FULL");
        const auto version = [&] { return database.execAndGet("PRAGMA user_version").getInt(); };
        if (version() == 0) {
            SQLite::Transaction transaction(database, SQLite::TransactionBehavior::IMMEDIATE);
            if (version() == 0) {
                database.exec(tables);
                database.exec(fmt::format("PRAGMA user_version = {}", version_of_the_form));
            }
            transaction.commit();
        }
        if (version() > version_of_the_form)
            throw InputError(fmt::format("{}: written by a later version", printable(state_->file.string())));
    });
    // Hashes of keys are nobody else's.
    std::error_code none;
    std::filesystem::permissions(
        state_->file, std::filesystem::perms::owner_read | std::filesystem::perms::owner_write, none);
}
ServiceStore::~ServiceStore() = default;
ServiceStore::ServiceStore(ServiceStore&&) noexcept = default;
ServiceStore& ServiceStore::operator=(ServiceStore&&) noexcept = default;

std::string ServiceStore::add_key(const ServiceKey& key) {
    if (!is_name(key.name))
        throw InputError(
            fmt::format("'{}' is no name of a key: letters, digits, '-', '_' and '.', at most {}",
                        printable(key.name), longest_name));
    if (key.may.empty()) throw InputError("a key that allows nothing is of no use");
    if (key.per_minute < 0) throw InputError("requests per minute are at least 1; 0 for any number");
    std::string may;
    for (const Right right : key.may) may += (may.empty() ? "" : " ") + name_of(right);
    const std::string secret = random_key(bytes_of_a_key);
    state_->with_errors([&] {
        SQLite::Statement insert(*state_->database, "INSERT OR IGNORE INTO keys VALUES (?, ?, ?, ?, ?)");
        insert.bind(1, key.name);
        insert.bind(2, sha256(secret));
        insert.bind(3, may);
        insert.bind(4, key.per_minute);
        insert.bind(5, now());
        if (insert.exec() != 1)
            throw InputError(fmt::format("there is a key '{}' already; remove it first", key.name));
    });
    return secret;
}

bool ServiceStore::remove_key(const std::string& name) {
    return state_->with_errors([&] {
        SQLite::Statement remove(*state_->database, "DELETE FROM keys WHERE name = ?");
        remove.bind(1, name);
        return remove.exec() == 1;
    });
}

std::vector<ServiceKey> ServiceStore::keys() const {
    return state_->with_errors([&] {
        SQLite::Statement query(*state_->database,
                                "SELECT name, may, per_minute, added FROM keys ORDER BY name");
        std::vector<ServiceKey> keys;
        while (query.executeStep()) keys.push_back(key_in(query));
        return keys;
    });
}

std::optional<ServiceKey> ServiceStore::key_of(const std::string& secret) const {
    const std::string hash = sha256(secret);
    return state_->with_errors([&]() -> std::optional<ServiceKey> {
        SQLite::Statement query(*state_->database,
                                "SELECT name, may, per_minute, added FROM keys WHERE hash = ?");
        query.bind(1, hash);
        if (!query.executeStep()) return std::nullopt;
        return key_in(query);
    });
}

std::int64_t ServiceStore::changes() const {
    return state_->with_errors(
        [&] { return state_->database->execAndGet("PRAGMA data_version").getInt64(); });
}

}  // namespace jevrin::inline v1
