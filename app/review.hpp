// What commands that list items for review share: a sheet of images, and --mark.
#pragma once

#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/results/marks_result.hpp"

namespace jevrin::app {

struct ReviewOptions {
    bool json = false;
    std::optional<std::size_t> most;
    std::size_t mark = 0;
    std::filesystem::path sheet;
    std::string next = {};
};

inline void add_mark_option(Command& command, std::size_t& wanted) {
    command.add_option("--mark", wanted, "mark the first N items for review").type_name("N");
}

// Draws, marks and presents a result that has shown_items() and marks_for().
template <typename Result>
void present_for_review(const Result& result, const OpenStudy& open, const ReviewOptions& options) {
    const TextForm form = form_for_terminal(options.most, "--most 0 for all");
    const std::vector<ShownItem> items = shown_items(result);
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty())
        files = draw_items(open.study, items, form.rows_of(items.size(), page_of_images), result.title(),
                           options.sheet);
    const std::size_t marked = put_marks(open.ledger, open.study, marks_for(result), options.mark);
    std::string next = options.next;
    if (marked > 0)
        next += plural(static_cast<std::int64_t>(marked), "item") +
                " marked for review; 'jevrin marks list' lists them\n";
    present(result, {.json = options.json, .form = form, .written = files, .next = next});
}

}  // namespace jevrin::app
