// The images of a study: facts, copies, conflicts, a sample, and what training makes of one.
#include "jevrin/base/error.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/images/content_cache.hpp"
#include "jevrin/images/shown_images.hpp"
#include "jevrin/images/survey.hpp"
#include "jevrin/pages/data_uri.hpp"
#include "jevrin/pages/unsealed_items.hpp"
#include "jevrin/pages/view_functions.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/results/survey_result.hpp"

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_groups = 200;  // of copies and conflicts
constexpr std::int64_t most_per_class = 60;
constexpr std::int64_t most_versions = 12;

Json pair_json(const ImageSet& set, const NearDuplicate& pair) {
    const Item& first = set.items[pair.first];
    const Item& second = set.items[pair.second];
    return {{"items", {first.id, second.id}}, {"labels", {first.label, second.label}}};
}

template <typename Elements, typename ToJson>
Json first_of(const Elements& elements, ToJson to_json) {
    Json json = Json::array();
    for (const auto& element : elements)
        if (json.size() < most_groups) json.push_back(to_json(element));
    return json;
}

}  // namespace

Json survey_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery&) {
    ImageSet set = items_of(study, unsealed_items(ledger, study));
    if (set.items.empty()) throw InputError("the images are not recorded yet: training has not begun");
    ContentCache cache(Ledger::stores(ledger.directory()) / "contents");
    read_items(set, {}, &cache);
    const Survey survey = survey_images(set);
    Json json = parse_json(to_json(SurveyResult{.set = set, .survey = survey}));
    const auto pair = [&](const NearDuplicate& one) { return pair_json(set, one); };
    return {{"facts", std::move(json)},
            {"counts", survey.counts},
            {"copies", first_of(survey.duplicates,
                                [&](const std::vector<std::size_t>& group) {
                                    Json items = Json::array();
                                    for (const std::size_t i : group) items.push_back(set.items[i].id);
                                    return items;
                                })},
            {"near_duplicates", first_of(survey.near_duplicates, pair)},
            {"conflicts", first_of(survey.label_conflicts, pair)}};
}

Json sample_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const std::vector<ItemRecord> items = unsealed_items(ledger, study);
    const auto per_class = static_cast<std::size_t>(query.number("per_class", 8, most_per_class));
    const std::vector<std::vector<std::size_t>> chosen =
        sample_by_class(items_of(study, items), per_class,
                        static_cast<std::uint64_t>(query.number("seed", 1, std::int64_t{1} << 31)));
    Json classes = Json::array();
    for (std::size_t c = 0; c < chosen.size(); ++c) {
        Json ids = Json::array();
        for (const std::size_t i : chosen[c]) ids.push_back(items[i].id);
        classes.push_back({{"class", study.classes.at(c)}, {"items", std::move(ids)}});
    }
    return {{"classes", std::move(classes)}};
}

Json prepared_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const RunRecord run = ledger.run(study.id, query.required("run"));
    const std::string text = ledger.plan(run.id);
    if (text.empty()) throw InputError("the plan of this run is not recorded");
    const Plan plan = parse_plan(text, ledger.directory() / "plan.toml");
    const Fitting& fitting = plan.images.fitting;
    const Augmentation& augmentation = plan.candidates.at(0).training.augmentation;
    const ImageSet set = items_of(study, {ledger.unsealed_item(study.id, query.required("item"))});
    const std::vector<std::size_t> the_item = {0};
    const std::int64_t wanted = query.number("versions", 6, most_versions);
    Json versions = Json::array();
    if (augmentation.changes_anything())
        for (std::int64_t epoch = 1; epoch <= wanted; ++epoch)
            versions.push_back(data_uri(images_in_training(set, the_item, fitting, augmentation,
                                                           static_cast<std::uint64_t>(run.seed),
                                                           static_cast<std::uint32_t>(epoch))
                                            .at(0)));
    return {{"run", run.name()},
            {"size", fitting.size.text()},
            {"fit", name_of(fitting.fit)},
            {"prepared", data_uri(image_of_fitted(load_fitted(set, set.items.front(), fitting), fitting))},
            {"augments", augmentation.changes_anything()},
            {"versions", std::move(versions)}};
}

}  // namespace jevrin::inline v1
