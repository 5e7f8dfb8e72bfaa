#include "jevrin/results/marks_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/corrections.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/run_predictions.hpp"

#include <fmt/format.h>

#include <map>

namespace jevrin::inline v1 {
namespace {

std::vector<ItemRecord> items_called(const Ledger& ledger, const StudyRecord& study,
                                     const std::vector<std::string>& names) {
    std::vector<ItemRecord> items;
    for (const std::string& name : names) items.push_back(ledger.item(study.id, name));
    return items;
}

}  // namespace

MarkingResult mark_items(const Ledger& ledger, const StudyRecord& study,
                         const std::vector<std::string>& items, const Proposal& proposal) {
    if (!proposal.label.empty()) class_called(study.classes, proposal.label);
    const std::vector<ItemRecord> found = items_called(ledger, study, items);
    LedgerWriter writer = LedgerWriter::open(ledger.directory());
    MarkingResult result;
    for (const ItemRecord& item : found) {
        const std::string& label = study.classes.at(item.label);
        const std::string proposed = proposal.label == label ? "" : proposal.label;
        writer.put_mark(study.id, {.item = item.id,
                                   .label = proposed,
                                   .excluded = proposal.excluded,
                                   .note = proposal.note,
                                   .marked = {}});
        result.items.push_back(
            {.id = item.id, .label = label, .proposed = proposed, .excluded = proposal.excluded});
    }
    return result;
}

MarkingResult unmark_items(const Ledger& ledger, const StudyRecord& study,
                           const std::vector<std::string>& items) {
    const std::vector<ItemRecord> found = items_called(ledger, study, items);
    LedgerWriter writer = LedgerWriter::open(ledger.directory());
    MarkingResult result{.items = {}, .removed = true};
    for (const ItemRecord& item : found) {
        if (!writer.remove_mark(study.id, item.id))
            throw InputError(
                fmt::format("{}: this item is not marked; 'jevrin marks list' lists those that are",
                            printable(path_of_item(item.id))));
        result.items.push_back({.id = item.id, .label = study.classes.at(item.label), .proposed = {}});
    }
    return result;
}

std::string to_json(const MarkingResult& result) {
    Json json = Json::array();
    for (const MarkingResult::Item& item : result.items)
        json.push_back({{"item", path_of_item(item.id)}, {"label", item.label}, {"marked", !result.removed}});
    return document(json);
}

std::string to_text(const MarkingResult& result, const TextForm&) {
    std::string text;
    for (const MarkingResult::Item& item : result.items)
        text += fmt::format("{} {} (label {}{})\n", result.removed ? "no longer marked:" : "marked:",
                            printable(path_of_item(item.id)), printable(item.label),
                            item.excluded           ? ", to be excluded"
                            : item.proposed.empty() ? ""
                                                    : ", proposed " + printable(item.proposed));
    return text;
}

std::size_t put_marks(const Ledger& ledger, const StudyRecord& study, const std::vector<MarkRecord>& marks,
                      std::size_t most) {
    const std::size_t count = std::min(most, marks.size());
    if (count == 0) return 0;
    LedgerWriter writer = LedgerWriter::open(ledger.directory());
    for (std::size_t k = 0; k < count; ++k) writer.put_mark(study.id, marks[k]);
    return count;
}

MarksResult report_marks(const Ledger& ledger, const StudyRecord& study, const std::filesystem::path& file) {
    std::map<std::string, std::size_t> labels;
    for (const ItemRecord& item : ledger.items(study.id)) labels[item.id] = item.label;
    const std::vector<MarkRecord> marks = ledger.marks(study.id);
    MarksResult result{.marks = {}, .corrections = {}, .file = file};
    for (const MarkRecord& mark : marks) {
        const auto known = labels.find(mark.item);
        result.marks.push_back(
            {.mark = mark, .label = known == labels.end() ? "" : study.classes.at(known->second)});
    }
    if (!file.empty()) result.corrections = write_corrections(marks, file);
    return result;
}

std::string to_json(const MarksResult& result) {
    Json json = Json::array();
    for (const auto& [mark, label] : result.marks)
        json.push_back({{"item", path_of_item(mark.item)},
                        {"id", mark.item},
                        {"label", label},
                        {"proposed", mark.label.empty() ? Json() : Json(mark.label)},
                        {"exclude", mark.excluded},
                        {"note", mark.note},
                        {"marked", mark.marked}});
    return document(json);
}

std::string to_text(const MarksResult& result, const TextForm& form) {
    std::string text = "nothing is marked; 'jevrin marks add ITEM' marks an item for review\n";
    if (!result.marks.empty()) {
        ResultTable table({"item", "label", "proposed", "note", "marked"});
        for (const auto& [mark, label] : result.marks)
            table.add({name_cell(path_of_item(mark.item), 60), name_cell(label, 24),
                       mark.excluded ? "exclude" : shortened_name(mark.label, 24), text_cell(mark.note, 50),
                       mark.marked});
        text = table.text(form.width);
    }
    if (result.corrections)
        text +=
            fmt::format("{} written to {}; to apply it, set in [images] of the plan: corrections = \"{}\"\n",
                        plural(*result.corrections, "correction"), printable(result.file.string()),
                        printable(result.file.filename().string()));
    return text;
}

}  // namespace jevrin::inline v1
