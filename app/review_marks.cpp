#include "review_marks.hpp"

#include <fmt/format.h>

namespace jevrin::app {

void add_mark_option(CLI::App& command, ReviewMarks& marks) {
    command.add_option("--mark", marks.wanted, "mark so many of the first for review")->type_name("N");
}

void mark_first(const OpenStudy& open, std::size_t count, const std::function<std::string(std::size_t)>& id,
                const std::function<std::string(std::size_t)>& note) {
    if (count == 0) return;
    Ledger ledger = Ledger::open_or_create(open.ledger.directory());
    for (std::size_t k = 0; k < count; ++k)
        ledger.put_mark(open.study.id, {.item = id(k), .label = {}, .note = note(k), .marked = {}});
}

std::string marked_line(std::size_t count) {
    if (count == 0) return "";
    return fmt::format("{} marked for review; 'jevrin marks' lists them\n",
                       plural(static_cast<std::int64_t>(count), "item"));
}

}  // namespace jevrin::app
