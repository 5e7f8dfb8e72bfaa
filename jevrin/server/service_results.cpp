#include "jevrin/server/service_results.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>

#include <map>

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
    return table.text(form.width);
}

PublishedModel publish_run(const Ledger& ledger, const StudyRecord& study, const std::string& run,
                           const std::string& name, double sure_from, std::optional<std::int64_t> epoch) {
    const RunRecord record = ledger.run(study.id, run);
    load_model(ledger, record, epoch);  // a damaged one is refused
    const std::string source = epoch ? fmt::format("{}, epoch {}", record.name(), *epoch) : record.name();
    return ServiceStore(ledger.directory()).publish(name, model_of(ledger, record, epoch), source, sure_from);
}

std::string to_json(const ModelsResult& result) {
    Json json = Json::array();
    for (const PublishedModel& model : result.models)
        json.push_back({{"name", model.name},
                        {"version", model.version},
                        {"source", model.source},
                        {"hash", model.hash},
                        {"sure_from", model.sure_from},
                        {"published", model.published},
                        {"withdrawn", model.withdrawn.empty() ? Json() : Json(model.withdrawn)}});
    return document(json);
}

std::string to_text(const ModelsResult& result, const TextForm& form) {
    if (result.models.empty()) return "no models yet\n";
    std::map<std::string, std::int64_t> last;  // in service, by name
    for (const PublishedModel& model : result.models)
        if (model.withdrawn.empty()) last[model.name] = model.version;
    ResultTable table({"model", "version", "from", "sure from", "published", "state"}, {1, 3});
    for (const PublishedModel& model : result.models)
        table.add({model.name, std::to_string(model.version), printable(model.source),
                   model.sure_from == 0.0 ? "any" : fmt::format("{}", model.sure_from), model.published,
                   !model.withdrawn.empty()            ? "withdrawn " + model.withdrawn
                   : last[model.name] == model.version ? "in service"
                                                       : "in service when asked for"});
    return table.text(form.width);
}

}  // namespace jevrin::inline v1
