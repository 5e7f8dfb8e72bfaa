#include "jevrin/pages/loaded_models.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/pages/view_functions.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_models = 12;

}  // namespace

std::shared_ptr<LoadedModels::Model> LoadedModels::model_of_run(const Ledger& ledger, const RunRecord& run) {
    const std::string hash = ledger.model_hash(run.id).value_or("");
    {
        const std::lock_guard lock(mutex_);
        for (auto model = models_.begin(); model != models_.end(); ++model)
            if ((*model)->run == run.id && (*model)->hash == hash) {
                models_.splice(models_.begin(), models_, model);
                return models_.front();
            }
    }
    load_model(ledger, run);  // a damaged one is refused
    std::shared_ptr<Model> model(new Model{
        .run = run.id, .hash = hash, .mutex = {}, .classifier = {ledger.model_file(run.id), {.top = 0}}});
    const std::lock_guard lock(mutex_);
    models_.push_front(model);
    if (models_.size() > most_models) models_.pop_back();
    return model;
}

Json LoadedModels::classify(const Ledger& ledger, const StudyRecord& study,
                            const std::vector<std::string>& runs, std::span<const std::byte> image) {
    if (runs.empty()) throw InputError("name the runs that are asked");
    if (runs.size() > most_models)
        throw InputError(fmt::format("at most {} runs are asked at a time", most_models));
    ClassifyResult result{.classes = study.classes};
    Json answers = Json::array();
    for (const std::string& name : runs) {
        const RunRecord run = ledger.run(study.id, name);
        const std::shared_ptr<Model> model = model_of_run(ledger, run);
        const std::lock_guard lock(model->mutex);
        ImageAnswer answer = model->classifier.classify(image, "image");
        Json probabilities = Json::array();
        for (const float probability : answer.probabilities)
            probabilities.push_back(short_number(probability));
        answers.push_back({{"run", name},
                           {"probabilities", std::move(probabilities)},
                           {"distance", answer.distance ? short_number(*answer.distance) : Json()},
                           {"unknown", answer.distance ? Json(answer.unknown()) : Json()}});
        if (result.answers.empty()) result.answers.push_back(std::move(answer));
    }
    return {{"answers", std::move(answers)},
            {"test_image", record_classified(ledger.directory(), result) > 0}};
}

}  // namespace jevrin::inline v1
