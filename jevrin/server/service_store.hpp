// Who may use a service and which models it serves, kept beside a ledger: service.db, and published/ for the
// model files. Keys are stored as hashes; the key itself is seen once, when it is made.
//
//     ServiceStore store(directory);
//     std::string key = store.add_key({.name = "cluster", .may = {Right::runs}});
//     store.key_of(key)->name   // "cluster"
//     store.publish("tiles", "chosen.onnx", "chosen.onnx").version   // 1
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

// What a key allows: to add runs; to have images classified and to contradict answers; to read what the
// service measures of itself.
enum class Right { runs, classify, metrics };
const EnumNames<Right>& names_of(Right);

struct ServiceKey {
    std::string name;
    std::set<Right> may;
    std::int64_t per_minute = 0;  // requests; 0: any number
    std::string added = {};       // UTC; set by the store
};

// A version of a model in service. The one published last is what a request without a version gets.
struct PublishedModel {
    std::string name;
    std::int64_t version = 0;  // from 1; never used twice
    std::string hash = {};     // of the file's bytes
    std::string source = {};   // where it was taken from: a file or a run
    double sure_from = 0.0;    // less likely answers are unsure
    std::string published = {};
    std::string withdrawn = {};  // empty: in service
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
    // Copies the model and puts it in service under the next version of this name. InputError when it is no
    // classifier, or the name is none (as of keys).
    PublishedModel publish(const std::string& name, const std::filesystem::path& model,
                           const std::string& source, double sure_from = 0.0);
    // The version before it serves again. InputError when it is not in service.
    void withdraw(const std::string& name, std::int64_t version);
    // By name and version; those that were withdrawn too.
    std::vector<PublishedModel> models() const;
    // The copy of a version in service.
    std::filesystem::path model_file(const PublishedModel& model) const;

    // Another number whenever another connection has changed something.
    std::int64_t changes() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace jevrin::inline v1
