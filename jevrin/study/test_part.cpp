#include "jevrin/study/test_part.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin {

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
    const std::vector<std::string> ids = ledger.items(run.id, Part::test);
    if (ids.empty()) throw InputError("this study has no test part; give 'test' a share in the plan");
    std::vector<Image> images;
    std::vector<std::size_t> labels;
    for (const std::string& id : ids) {
        const std::size_t mark = id.rfind('#');
        const std::filesystem::path file = std::filesystem::path(study.image_root) / id.substr(0, mark);
        if (content_hash(read_file(file)) != id.substr(mark + 1))
            throw InputError(fmt::format("{}: this image changed since the study was trained; restore it",
                                         printable(file.string())));
        images.push_back(load_image(file));
        const std::string folder = id.substr(0, id.find('/'));
        const auto place = std::find(study.classes.begin(), study.classes.end(), folder);
        if (place == study.classes.end())
            throw InputError(
                fmt::format("{}: its folder is not a class of the study", printable(file.string())));
        labels.push_back(static_cast<std::size_t>(place - study.classes.begin()));
    }
    const std::vector<float> probabilities = classify(classifier, images);
    const std::size_t classes = study.classes.size();
    ConfusionMatrix matrix(classes);
    std::vector<PredictionRecord> records;
    for (std::size_t i = 0; i < ids.size(); ++i) {
        const auto row = probabilities.begin() + static_cast<std::ptrdiff_t>(i * classes);
        const auto end = row + static_cast<std::ptrdiff_t>(classes);
        const auto predicted = static_cast<std::size_t>(std::max_element(row, end) - row);
        records.push_back({ids[i], labels[i], predicted, {row, end}});
        matrix.add(labels[i], predicted);
    }
    ledger.record_test_look(run.id, records);
    return matrix;
}

}  // namespace jevrin
