#include "jevrin/results/model_results.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/plan/recipe.hpp"
#include "jevrin/results/answer_json.hpp"

#include <fmt/format.h>
#include <glob.h>

#include <algorithm>
#include <numeric>

namespace jevrin::inline v1 {
namespace {

// What a pattern that no shell has resolved stands for.
std::vector<std::filesystem::path> files_of_pattern(const std::string& pattern) {
    glob_t found{};
    std::vector<std::filesystem::path> files;
    if (::glob(pattern.c_str(), 0, nullptr, &found) == 0)
        for (std::size_t i = 0; i < found.gl_pathc; ++i) files.emplace_back(found.gl_pathv[i]);
    ::globfree(&found);
    if (files.empty()) throw InputError(fmt::format("{}: no file matches", printable(pattern)));
    return files;
}

const std::string& likeliest(const ClassifyResult& result, const ImageAnswer& answer) {
    return result.classes[answer.order.front()];
}

std::string other_classes(const ClassifyResult& result, const ImageAnswer& answer) {
    std::string text;
    for (std::size_t k = 1; k < result.top; ++k)
        text += fmt::format("{}{} {:.3f}", k == 1 ? "" : ", ",
                            shortened_name(result.classes[answer.order[k]], 32),
                            answer.probabilities[answer.order[k]]);
    return text;
}

std::int64_t copy_model(const std::filesystem::path& from, const std::filesystem::path& to) {
    const std::vector<std::byte> bytes = read_file(from);
    write_file(to, bytes);
    return std::ssize(bytes);
}

}  // namespace

ExportResult export_model(const Ledger& ledger, const StudyRecord& study, const std::string& run,
                          const std::filesystem::path& file, const ExportSettings& settings) {
    const RunRecord record = ledger.run(study.id, run);
    const std::filesystem::path model = model_of(ledger, record, settings.epoch);
    const Classifier classifier =
        load_model(ledger, record, settings.epoch);  // a damaged model is found here, not by its user
    const std::int64_t bytes =
        settings.with_preparation ? save_prepared_classifier(file, classifier) : copy_model(model, file);
    return {.context = context_of(ledger, study),
            .run = record,
            .epoch = settings.epoch.value_or(record.best ? record.best->epoch : 0),
            .file = file,
            .bytes = bytes,
            .classes = classifier.classes,
            .temperature = classifier.temperature,
            .fitting = classifier.preparation.fitting,
            .with_preparation = settings.with_preparation};
}

std::string to_json(const ExportResult& result) {
    return document({{"run", result.run.name()},
                     {"epoch", result.epoch},
                     {"file", result.file.string()},
                     {"bytes", result.bytes},
                     {"classes", result.classes},
                     {"temperature", result.temperature},
                     {"with_preparation", result.with_preparation},
                     {"test_looks", result.context.looks.size()}});
}

std::string to_text(const ExportResult& result, const TextForm&) {
    const std::string images =
        result.with_preparation
            ? "decoded images of any size, prepared inside the graph"
            : fmt::format("images of {} by {}", result.fitting.size.text(), name_of(result.fitting.fit));
    return fmt::format("{} (epoch {}) written to {}: {}, {} classes, {}\n", result.run.name(), result.epoch,
                       printable(result.file.string()), spoken_bytes(result.bytes), result.classes.size(),
                       images);
}

std::size_t shown_classes(std::size_t top, std::size_t classes) {
    return top == 0 ? classes : std::min(top, classes);
}

std::string ImageAnswer::remark() const {
    if (unknown()) return fmt::format("out of distribution (score {:.1f} times the limit)", *distance);
    return sure ? "" : "unsure";
}

ImageClassifier::ImageClassifier(const std::filesystem::path& model, const ClassifySettings& settings)
    : settings_(settings), recogniser_(load_classifier(model)) {}

ClassifyResult ImageClassifier::classify(std::span<const std::filesystem::path> files,
                                         const std::function<void(const std::string&)>& refused,
                                         const ReadProgress& progress) {
    const Classifier& classifier = recogniser_.classifier();
    const std::size_t count = classifier.classes.size();
    ClassifyResult result{
        .classes = classifier.classes, .top = shown_classes(settings_.top, count), .answers = {}};
    constexpr std::size_t at_a_time = 256;
    for (std::size_t begin = 0; begin < files.size(); begin += at_a_time) {
        if (progress) progress(static_cast<std::int64_t>(begin), std::ssize(files));
        std::vector<std::vector<std::uint8_t>> fitted;
        std::vector<std::string> names;
        std::vector<ContentHash> contents;
        for (const auto& file : files.subspan(begin, std::min(at_a_time, files.size() - begin))) try {
                fitted.push_back(load_fitted(file, classifier.preparation.fitting));
                contents.push_back(*ContentHash::from_text(content_hash_of_file(file)));
                names.push_back(file.string());
            } catch (const InputError& error) {
                ++result.refused;
                if (refused) refused(error.what());
            }
        if (fitted.empty()) continue;
        const Recognition recognition = recogniser_.recognise(fitted);
        for (std::size_t i = 0; i < names.size(); ++i) {
            ImageAnswer answer = answer_in(recognition, i, classifier, settings_.sure_from);
            answer.file = names[i];
            answer.content = contents[i];
            result.answers.push_back(std::move(answer));
        }
    }
    return result;
}

ImageAnswer ImageClassifier::classify(std::span<const std::byte> bytes, const std::string& name) {
    const std::vector<std::uint8_t> fitted = fit_image(bytes, classifier().preparation.fitting);
    ImageAnswer answer = answer_in(recogniser_.recognise({&fitted, 1}), 0, classifier(), settings_.sure_from);
    answer.file = name;
    answer.content = *ContentHash::from_text(content_hash(bytes));
    return answer;
}

ImageAnswer answer_in(const Recognition& recognition, std::size_t row, const Classifier& classifier,
                      double sure_from) {
    const std::size_t count = classifier.classes.size();
    ImageAnswer answer{.file = {}, .content = {}, .probabilities = {}, .order = {}, .distance = {}};
    const auto begin = recognition.probabilities.begin() + static_cast<std::ptrdiff_t>(row * count);
    answer.probabilities.assign(begin, begin + static_cast<std::ptrdiff_t>(count));
    answer.order.resize(count);
    std::iota(answer.order.begin(), answer.order.end(), std::size_t{0});
    std::stable_sort(answer.order.begin(), answer.order.end(), [&](std::size_t a, std::size_t b) {
        return answer.probabilities[a] > answer.probabilities[b];
    });
    answer.sure = static_cast<double>(answer.confidence()) >= sure_from;
    if (!recognition.distances.empty())
        answer.distance = recognition.distances[row] / classifier.out_of_distribution->limit;
    return answer;
}

std::int64_t record_classified(const std::filesystem::path& ledger, const ClassifyResult& result) {
    if (!Ledger::exists(ledger)) return 0;
    const std::set<ContentHash> test = Ledger::open(ledger).test_images();
    std::set<ContentHash> found;
    for (const ImageAnswer& answer : result.answers)
        if (test.contains(answer.content)) found.insert(answer.content);
    if (!found.empty()) LedgerWriter::open(ledger).record_look("classify", {found.begin(), found.end()});
    return std::ssize(found);
}

std::vector<std::filesystem::path> images_called(const std::vector<std::string>& words) {
    std::vector<std::filesystem::path> files;
    const auto add = [&](const std::filesystem::path& path) {
        for (const auto& file : image_files(path)) files.push_back(file);
    };
    for (const std::string& word : words) {
        const std::filesystem::path path = word;
        if (path.extension() == ".toml") {
            const ImageSource source = read_images_of(path).source;
            if (source.unlabelled.empty())
                throw InputError(
                    fmt::format("{}: its [images] have no 'unlabelled' folder", printable(word)));
            add(source.unlabelled);
        } else if (word.find_first_of("*?[") != std::string::npos && !std::filesystem::exists(path)) {
            for (const auto& file : files_of_pattern(word)) add(file);
        } else {
            add(path);
        }
    }
    return files;
}

std::string to_json(const ClassifyResult& result) {
    Json json = Json::array();
    for (const ImageAnswer& answer : result.answers)
        json.push_back(answer_json(result.classes, result.top, answer));
    return document(json);
}

std::string to_json_line(const ClassifyResult& result, const ImageAnswer& answer) {
    return json_text(answer_json(result.classes, result.top, answer)) + "\n";
}

ResultTable to_table(const ClassifyResult& result) {
    using Place = TableColumn::Place;
    const bool remarks = std::any_of(result.answers.begin(), result.answers.end(),
                                     [](const ImageAnswer& a) { return !a.remark().empty(); });
    std::vector<TableColumn> columns = {{.key = "image", .head = "image"},
                                        {.key = "class", .head = "class"},
                                        {.key = "probability", .head = "probability", .align = Align::right},
                                        {.key = "sure", .head = {}, .place = Place::csv},
                                        {.key = "unknown", .head = {}, .place = Place::csv},
                                        {.key = "distance", .head = {}, .place = Place::csv}};
    for (const std::string& name : result.classes)
        columns.push_back({.key = name, .head = {}, .place = Place::csv});
    if (result.top > 1) columns.push_back({.key = {}, .head = "then", .place = Place::text, .optional = 1});
    if (remarks) columns.push_back({.key = {}, .head = {}, .place = Place::text});
    ResultTable table(std::move(columns));
    for (const ImageAnswer& answer : result.answers) {
        std::vector<TableCell> cells = {
            {printable(answer.file), answer.file},
            name_cell(likeliest(result, answer), 32),
            {fmt::format("{:.3f}", answer.confidence()), fmt::format("{}", answer.confidence())},
            answer.sure ? "1" : "0",
            answer.distance ? (answer.unknown() ? "1" : "0") : "",
            answer.distance ? fmt::format("{}", *answer.distance) : ""};
        for (const float p : answer.probabilities) cells.emplace_back(fmt::format("{}", p));
        if (result.top > 1) cells.emplace_back(other_classes(result, answer));
        if (remarks) cells.emplace_back(answer.remark());
        table.add(std::move(cells));
    }
    return table;
}

std::string to_text(const ClassifyResult& result, const TextForm& form) {
    return result.answers.empty() ? "" : to_table(result).text(form.width);
}

std::string to_text_line(const ClassifyResult& result, const ImageAnswer& answer) {
    return fmt::format("{}  {}  {:.3f}{}\n", printable(answer.file),
                       shortened_name(likeliest(result, answer), 32), answer.confidence(),
                       answer.remark().empty() ? "" : "  " + answer.remark());
}

}  // namespace jevrin::inline v1
