#include "jevrin/server/service_results.hpp"

#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

std::string to_json(const NewKeyResult& result) {
    return document({{"name", result.name}, {"key", result.secret}});
}

std::string to_text(const NewKeyResult& result, const TextForm&) {
    return fmt::format("{}\nkeep it: it is shown once, and stored as a hash\n", result.secret);
}

std::string to_json(const KeysResult& result) {
    Json json = Json::array();
    for (const ServiceKey& key : result.keys) {
        Json may = Json::array();
        for (const Right right : key.may) may.push_back(name_of(right));
        json.push_back({{"name", key.name},
                        {"may", std::move(may)},
                        {"per_minute", key.per_minute},
                        {"added", key.added}});
    }
    return document(json);
}

std::string to_text(const KeysResult& result, const TextForm& form) {
    if (result.keys.empty()) return "no keys yet\n";
    ResultTable table({"key", "may", "per minute", "added"}, {2});
    for (const ServiceKey& key : result.keys) {
        std::string may;
        for (const Right right : key.may) may += (may.empty() ? "" : ", ") + name_of(right);
        table.add({key.name, may, key.per_minute == 0 ? "any" : std::to_string(key.per_minute), key.added});
    }
    return table.text(table.rows(), form.width);
}

}  // namespace jevrin::inline v1
