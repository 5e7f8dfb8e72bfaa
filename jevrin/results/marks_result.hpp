// Items that are marked for review.
#pragma once

#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"

#include <filesystem>

namespace jevrin::inline v1 {

// Marks that were put, or taken away.
struct MarkingResult {
    struct Item {
        std::string id;
        std::string label;
        std::string proposed;  // another label; empty: none
        bool excluded = false;
    };
    std::vector<Item> items;
    bool removed = false;
};

// What is proposed for the items.
struct Proposal {
    std::string label = {};
    bool excluded = false;
    std::string note = {};
};
// Items by their paths below the image set, or the ends of them; all are found before one is marked.
// InputError for an item or a class that there is not.
MarkingResult mark_items(const Ledger& ledger, const StudyRecord& study,
                         const std::vector<std::string>& items, const Proposal& proposal);
// InputError for an item that is not marked.
MarkingResult unmark_items(const Ledger& ledger, const StudyRecord& study,
                           const std::vector<std::string>& items);
std::string to_json(const MarkingResult& result);
std::string to_text(const MarkingResult& result, const TextForm& form = {});

// The first of these marks, at most so many, put into the ledger; returns how many.
std::size_t put_marks(const Ledger& ledger, const StudyRecord& study, const std::vector<MarkRecord>& marks,
                      std::size_t most);

struct MarksResult {
    struct Row {
        MarkRecord mark;
        std::string label;  // empty: the item is not in the study
    };
    std::vector<Row> marks;
    // How many were written as rows of a corrections file.
    std::optional<std::int64_t> corrections;
    std::filesystem::path file;
};
// file: also written as corrections (evaluation/corrections.hpp) unless empty.
MarksResult report_marks(const Ledger& ledger, const StudyRecord& study,
                         const std::filesystem::path& file = {});
std::string to_json(const MarksResult& result);
std::string to_text(const MarksResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
