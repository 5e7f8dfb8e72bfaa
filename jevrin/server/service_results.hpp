// Keys and models of a service, as JSON and text.
#pragma once

#include "jevrin/ledger/ledger.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/server/service_store.hpp"

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A key that was made, which is shown once.
struct NewKeyResult {
    std::string name;
    std::string secret;
};
std::string to_json(const NewKeyResult& result);
std::string to_text(const NewKeyResult& result, const TextForm& form = {});

struct KeysResult {
    std::vector<ServiceKey> keys;
};
std::string to_json(const KeysResult& result);
std::string to_text(const KeysResult& result, const TextForm& form = {});

// Puts a finished run's model in service: that of its best epoch. InputError as ServiceStore::publish().
PublishedModel publish_run(const Ledger& ledger, const StudyRecord& study, const std::string& run,
                           const std::string& name, double sure_from,
                           std::optional<std::int64_t> epoch = std::nullopt);

struct ModelsResult {
    std::vector<PublishedModel> models;
};
std::string to_json(const ModelsResult& result);
std::string to_text(const ModelsResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
