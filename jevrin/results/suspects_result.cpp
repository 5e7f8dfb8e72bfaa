#include "jevrin/results/suspects_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

std::string SuspectsResult::title() const {
    return fmt::format("{}: {} of {} labels are suspect, the least probable first", context.study.name,
                       report.suspects.size(), report.predictions.items.size());
}

SuspectsResult report_suspects(const Ledger& ledger, const StudyRecord& study,
                               const std::vector<std::string>& runs, SuspectSource source,
                               const PredictionProgress& progress) {
    SuspectReport report = find_suspects(ledger, study, runs, source, progress);
    return {.context = context_of(ledger, study), .report = std::move(report)};
}

std::string to_json(const SuspectsResult& result) {
    const std::vector<std::string>& classes = result.context.study.classes;
    Json json = {{"source", result.report.source},
                 {"items", result.report.predictions.table.items()},
                 {"test_looks", result.context.looks.size()},
                 {"suspects", Json::array()}};
    for (const SuspectLabel& suspect : result.report.suspects)
        json["suspects"].push_back({{"item", path_of_item(result.id(suspect))},
                                    {"id", result.id(suspect)},
                                    {"label", classes[suspect.label]},
                                    {"proposed", classes[suspect.proposed]},
                                    {"label_probability", suspect.label_probability},
                                    {"proposed_probability", suspect.proposed_probability}});
    return document(json);
}

std::string to_text(const SuspectsResult& result, const TextForm& form) {
    const std::vector<std::string>& classes = result.context.study.classes;
    const std::vector<SuspectLabel>& suspects = result.report.suspects;
    const std::string text = fmt::format("{} of {} labels are suspect\n", suspects.size(),
                                         result.report.predictions.table.items()) +
                             wrapped("probabilities: " + printable(result.report.source), form.width) + "\n";
    if (suspects.empty()) return text;
    ResultTable table({"item", "label", "", "rather", ""}, {2, 4});
    for (const SuspectLabel& suspect : suspects)
        table.add({name_cell(path_of_item(result.id(suspect)), 60), name_cell(classes[suspect.label]),
                   three_decimals(suspect.label_probability), name_cell(classes[suspect.proposed]),
                   three_decimals(suspect.proposed_probability)});
    const std::size_t rows = form.rows_of(suspects.size());
    return text + table.text(form.width, rows) + form.and_more(suspects.size() - rows) + "\n";
}

std::vector<ShownItem> shown_items(const SuspectsResult& result) {
    const std::vector<std::string>& classes = result.context.study.classes;
    std::vector<ShownItem> items;
    for (const SuspectLabel& suspect : result.report.suspects)
        items.push_back({.item = {result.id(suspect), suspect.label},
                         .lines = {fmt::format("{:.2f} {}", suspect.proposed_probability,
                                               printable(classes[suspect.proposed])),
                                   fmt::format("{:.2f} {} (label)", suspect.label_probability,
                                               printable(classes[suspect.label])),
                                   file_name_of_item(result.id(suspect))},
                         .wrong = true});
    return items;
}

std::vector<MarkRecord> marks_for(const SuspectsResult& result) {
    const std::vector<std::string>& classes = result.context.study.classes;
    std::vector<MarkRecord> marks;
    for (const SuspectLabel& suspect : result.report.suspects)
        marks.push_back({.item = result.id(suspect),
                         .label = {},
                         .note = fmt::format("suspect: {:.2f} {}, {:.2f} {} (label)",
                                             suspect.proposed_probability, classes[suspect.proposed],
                                             suspect.label_probability, classes[suspect.label]),
                         .marked = {}});
    return marks;
}

}  // namespace jevrin::inline v1
