// Keys of a service, as JSON and text.
#pragma once

#include "jevrin/results/form.hpp"
#include "jevrin/server/service_store.hpp"

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

}  // namespace jevrin::inline v1
