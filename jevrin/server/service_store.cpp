#include "jevrin/server/service_store.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/database.hpp"
#include "jevrin/ledger/statements.hpp"
#include "jevrin/server/request_guard.hpp"
#include "jevrin/training/classifier.hpp"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <array>

namespace jevrin::inline v1 {
namespace {

constexpr int version_of_the_form = 2;
constexpr std::size_t bytes_of_a_key = 24;
constexpr std::size_t longest_name = 64;

const char* const tables = R"sql(
CREATE TABLE IF NOT EXISTS keys (
    name TEXT PRIMARY KEY,
    hash TEXT NOT NULL UNIQUE,
    may TEXT NOT NULL,
    per_minute INTEGER NOT NULL,
    added TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS models (
    name TEXT NOT NULL,
    version INTEGER NOT NULL,
    hash TEXT NOT NULL,
    source TEXT NOT NULL,
    sure_from REAL NOT NULL,
    published TEXT NOT NULL,
    withdrawn TEXT NOT NULL,
    PRIMARY KEY (name, version)) WITHOUT ROWID;
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

void require_name(const std::string& name, const char* what) {
    constexpr std::string_view letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.";
    if (name.empty() || name.size() > longest_name || name.front() == '.' ||
        name.find_first_not_of(letters) != std::string::npos)
        throw InputError(fmt::format("'{}' is no name of {}: letters, digits, '-', '_' and '.', at most {}",
                                     printable(name), what, longest_name));
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

PublishedModel model_in(SQLite::Statement& query) {
    return {.name = query.getColumn(0),
            .version = query.getColumn(1).getInt64(),
            .hash = query.getColumn(2),
            .source = query.getColumn(3),
            .sure_from = query.getColumn(4).getDouble(),
            .published = query.getColumn(5),
            .withdrawn = query.getColumn(6)};
}

}  // namespace

const EnumNames<Right>& names_of(Right) {
    static const EnumNames<Right> names(
        "the right", {{Right::runs, "runs"}, {Right::classify, "classify"}, {Right::metrics, "metrics"}});
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
    state_->database = open_beside_ledger(state_->file, version_of_the_form, tables);
    // Hashes of keys are nobody else's.
    std::error_code none;
    std::filesystem::permissions(
        state_->file, std::filesystem::perms::owner_read | std::filesystem::perms::owner_write, none);
}
ServiceStore::~ServiceStore() = default;
ServiceStore::ServiceStore(ServiceStore&&) noexcept = default;
ServiceStore& ServiceStore::operator=(ServiceStore&&) noexcept = default;

std::string ServiceStore::add_key(const ServiceKey& key) {
    require_name(key.name, "a key");
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

PublishedModel ServiceStore::publish(const std::string& name, const std::filesystem::path& model,
                                     const std::string& source, double sure_from) {
    require_name(name, "a model");
    const std::vector<std::byte> bytes = read_file(model);
    PublishedModel published{.name = name,
                             .hash = content_hash(bytes),
                             .source = source,
                             .sure_from = sure_from,
                             .published = now()};
    load_classifier(model);
    if (content_hash_of_file(model) != published.hash)
        throw InputError(fmt::format("{}: it changed while it was read", printable(model.string())));
    state_->with_errors([&] {
        SQLite::Database& database = *state_->database;
        SQLite::Transaction transaction(database, SQLite::TransactionBehavior::IMMEDIATE);
        SQLite::Statement last(database, "SELECT IFNULL(MAX(version), 0) FROM models WHERE name = ?");
        last.bind(1, name);
        last.executeStep();
        published.version = last.getColumn(0).getInt64() + 1;
        make_directory(model_file(published).parent_path());
        write_file(model_file(published), bytes);
        SQLite::Statement insert(database, "INSERT INTO models VALUES (?, ?, ?, ?, ?, ?, '')");
        insert.bind(1, name);
        insert.bind(2, published.version);
        insert.bind(3, published.hash);
        insert.bind(4, source);
        insert.bind(5, sure_from);
        insert.bind(6, published.published);
        insert.exec();
        transaction.commit();
    });
    return published;
}

void ServiceStore::withdraw(const std::string& name, std::int64_t version) {
    state_->with_errors([&] {
        SQLite::Database& database = *state_->database;
        SQLite::Transaction transaction(database, SQLite::TransactionBehavior::IMMEDIATE);
        SQLite::Statement update(database,
                                 "UPDATE models SET withdrawn = ? WHERE name = ? AND version = ? AND "
                                 "withdrawn = '' RETURNING hash");
        update.bind(1, now());
        update.bind(2, name);
        update.bind(3, version);
        if (!update.executeStep())
            throw InputError(fmt::format("version {} of '{}' is not in service", version, printable(name)));
        const std::string hash = update.getColumn(0);
        update.reset();
        transaction.commit();
        // Nobody publishes the same file meanwhile; a copy that stays by mistake harms nobody.
        SQLite::Transaction alone(database, SQLite::TransactionBehavior::IMMEDIATE);
        SQLite::Statement others(database, "SELECT COUNT(*) FROM models WHERE hash = ? AND withdrawn = ''");
        others.bind(1, hash);
        others.executeStep();
        std::error_code none;
        if (others.getColumn(0).getInt64() == 0)
            std::filesystem::remove(model_file({.name = name, .hash = hash}), none);
    });
}

std::vector<PublishedModel> ServiceStore::models() const {
    return state_->with_errors([&] {
        SQLite::Statement query(*state_->database,
                                "SELECT name, version, hash, source, sure_from, published, withdrawn FROM "
                                "models ORDER BY name, version");
        std::vector<PublishedModel> models;
        while (query.executeStep()) models.push_back(model_in(query));
        return models;
    });
}

std::filesystem::path ServiceStore::model_file(const PublishedModel& model) const {
    return state_->file.parent_path() / "published" / (model.hash + ".onnx");
}

std::int64_t ServiceStore::changes() const {
    return state_->with_errors(
        [&] { return state_->database->execAndGet("PRAGMA data_version").getInt64(); });
}

}  // namespace jevrin::inline v1
