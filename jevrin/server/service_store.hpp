// Who may use a service, kept beside a ledger: service.db. Keys are stored as hashes; the key itself is seen
// once, when it is made.
//
//     ServiceStore store(directory);
//     std::string key = store.add_key({.name = "cluster", .may = {Right::runs}});
//     store.key_of(key)->name   // "cluster"
#pragma once

#include "jevrin/base/enumeration.hpp"

#include <cstdint>
#include <filesystem>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// What a key allows: to add runs; to read what the service measures of itself.
enum class Right { runs, metrics };
const EnumNames<Right>& names_of(Right);

struct ServiceKey {
    std::string name;
    std::set<Right> may;
    std::int64_t per_minute = 0;  // requests; 0: any number
    std::string added = {};       // UTC; set by the store
};

// One connection; serves one thread at a time. InputError and WorkError name the file.
class ServiceStore {
  public:
    // Makes the file when there is none.
    explicit ServiceStore(const std::filesystem::path& directory);
    ~ServiceStore();
    ServiceStore(ServiceStore&&) noexcept;
    ServiceStore& operator=(ServiceStore&&) noexcept;

    // The new key: 48 hexadecimal digits. InputError when the name is taken, is no name (letters, digits,
    // '-', '_' and
    // '.', at most 64) or nothing is allowed.
    std::string add_key(const ServiceKey& key);
    // False when there is none of this name.
    bool remove_key(const std::string& name);
    std::vector<ServiceKey> keys() const;
    std::optional<ServiceKey> key_of(const std::string& secret) const;
    // Another number whenever another connection has changed something.
    std::int64_t changes() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace jevrin::inline v1
