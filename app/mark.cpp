#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/corrections.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

namespace jevrin::app {
namespace {

struct MarkOptions {
    LedgerOptions ledger;
    std::vector<std::string> items;
    std::string label;
    std::string note;
    bool exclude = false;
    bool remove = false;
};

struct ListOptions {
    LedgerOptions ledger;
    std::filesystem::path corrections;
};

void mark(const MarkOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    if (!options.label.empty()) class_called(open.study.classes, options.label);
    std::vector<ItemRecord> items;
    for (const std::string& name : options.items) items.push_back(open.ledger.item(open.study.id, name));
    LedgerWriter ledger = LedgerWriter::open(options.ledger.directory);
    Json json = Json::array();
    for (const ItemRecord& item : items) {
        const std::string& label = open.study.classes.at(item.label);
        if (options.remove) {
            if (!ledger.remove_mark(open.study.id, item.id))
                throw InputError(
                    fmt::format("{}: this item is not marked; 'jevrin marks' lists those that are",
                                printable(path_of(item.id))));
        } else {
            ledger.put_mark(open.study.id, {.item = item.id,
                                            .label = options.label == label ? "" : options.label,
                                            .excluded = options.exclude,
                                            .note = options.note,
                                            .marked = {}});
        }
        json.push_back({{"item", path_of(item.id)}, {"label", label}, {"marked", !options.remove}});
        if (!options.ledger.json)
            print(fmt::format("{} {} (label {}{})\n", options.remove ? "no longer marked:" : "marked:",
                              printable(path_of(item.id)), printable(label),
                              options.exclude ? ", to be left out"
                              : options.label.empty() || options.label == label
                                  ? ""
                                  : ", to become " + printable(options.label)));
    }
    if (options.ledger.json) print_json(json);
}

void list_marks(const ListOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const std::vector<MarkRecord> marks = open.ledger.marks(open.study.id);
    std::map<std::string, std::size_t> labels;
    for (const ItemRecord& item : open.ledger.items(open.study.id)) labels[item.id] = item.label;
    const auto label_of = [&](const MarkRecord& mark) {
        const auto known = labels.find(mark.item);
        return known == labels.end() ? std::string() : open.study.classes.at(known->second);
    };
    std::int64_t corrected = 0;
    if (!options.corrections.empty()) corrected = write_corrections(marks, options.corrections);
    if (options.ledger.json) {
        Json json = Json::array();
        for (const MarkRecord& mark : marks)
            json.push_back({{"item", path_of(mark.item)},
                            {"id", mark.item},
                            {"label", label_of(mark)},
                            {"proposed", mark.label.empty() ? Json() : Json(mark.label)},
                            {"exclude", mark.excluded},
                            {"note", mark.note},
                            {"marked", mark.marked}});
        print_json(json);
        return;
    }
    if (marks.empty()) {
        print("nothing is marked; 'jevrin mark ITEM' keeps an item for review\n");
    } else {
        Table table({"item", "label", "proposed", "note", "marked"});
        for (const MarkRecord& mark : marks)
            table.add({short_cell(path_of(mark.item), 60), short_cell(label_of(mark), 24),
                       mark.excluded ? "leave out" : short_cell(mark.label, 24), short_cell(mark.note, 50),
                       mark.marked});
        print(table.text());
    }
    if (!options.corrections.empty())
        print(fmt::format("{} written to {}; the plan reads it when [images] says: corrections = \"{}\"\n",
                          plural(corrected, "correction"), printable(options.corrections.string()),
                          printable(options.corrections.filename().string())));
}

}  // namespace

void add_mark(Command& command) {
    auto options = std::make_shared<MarkOptions>();
    command.add_option("ITEM", options->items, "paths below the image set, or the ends of them").required();
    command.add_option("--note", options->note, "why").type_name("TEXT");
    Option label =
        command.add_option("--label", options->label, "the class it ought to have").type_name("CLASS");
    Option exclude =
        command.add_flag("--exclude", options->exclude, "it ought to be left out").excludes(label);
    command.add_flag("--remove", options->remove, "take the mark away").excludes(label).excludes(exclude);
    add_ledger_options(command, options->ledger);
    command.callback([options] { mark(*options); });
}

void add_marks(Command& command) {
    auto options = std::make_shared<ListOptions>();
    command
        .add_option("--corrections", options->corrections,
                    "write what is proposed as a corrections file for the plan; rows that it already has "
                    "for other items stay")
        .type_name("FILE");
    add_ledger_options(command, options->ledger);
    command.callback([options] { list_marks(*options); });
}

}  // namespace jevrin::app
