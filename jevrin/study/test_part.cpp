#include "jevrin/study/test_part.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/number_array.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>

namespace jevrin {
namespace {

// The items of a study where its image set lay, to be read again.
ImageSet items_of(const StudyRecord& study, const std::vector<ItemRecord>& records) {
    ImageSet set;
    set.root = study.image_root;
    const auto source = nlohmann::json::parse(study.image_source, nullptr, false);
    if (source.is_object() && source.contains("array"))
        set.array = std::make_shared<PictureArray>(source.value("array", ""),
                                                   source.value("shape", std::vector<std::int64_t>()),
                                                   source.value("transposed", false));
    for (const ItemRecord& record : records) {
        const std::size_t mark = record.id.rfind('#');
        Item item{.path = record.id.substr(0, mark), .label = record.label, .id = record.id};
        item.content =
            ContentHash::from_text(std::string_view(record.id).substr(mark + 1)).value_or(ContentHash());
        set.items.push_back(std::move(item));
    }
    return set;
}

}  // namespace

ConfusionMatrix score_test_part(const std::filesystem::path& ledger_directory, const std::string& study_name,
                                const std::string& run_name) {
    static_cast<void>(Ledger::open(ledger_directory));  // refuses what is no ledger before anything is made
    Ledger ledger = Ledger::open_or_create(ledger_directory);
    const StudyRecord study = ledger.study(study_name);
    const RunRecord run = ledger.run(study.id, run_name);
    if (run.state != RunState::finished)
        throw InputError(
            fmt::format("run '{}' is {}, not finished; train it first", run.name(), state_name(run.state)));
    const Classifier classifier = load_classifier(ledger.model_file(run.id));
    const std::vector<ItemRecord> items = ledger.items(run.id, Part::test);
    if (items.empty()) throw InputError("this study has no test part; give 'test' a share in the plan");
    const ImageSet set = items_of(study, items);
    std::vector<std::vector<std::uint8_t>> fitted;
    for (const Item& item : set.items)
        fitted.push_back(load_fitted(set, item, classifier.preparation.fitting));
    const std::vector<float> probabilities = classify(classifier, fitted);
    const std::size_t classes = study.classes.size();
    ConfusionMatrix matrix(classes);
    std::vector<PredictionRecord> records;
    for (std::size_t i = 0; i < items.size(); ++i) {
        const auto row = probabilities.begin() + static_cast<std::ptrdiff_t>(i * classes);
        const auto end = row + static_cast<std::ptrdiff_t>(classes);
        const auto predicted = static_cast<std::size_t>(std::max_element(row, end) - row);
        records.push_back({items[i].id, items[i].label, predicted, {row, end}});
        matrix.add(items[i].label, predicted);
    }
    ledger.record_test_look(run.id, records);
    return matrix;
}

}  // namespace jevrin
