#include "review_marks.hpp"

#include "jevrin/ledger/ledger_writer.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {

void add_mark_option(Command& command, std::size_t& wanted) {
    command.add_option("--mark", wanted, "mark so many of the first for review").type_name("N");
}

std::size_t mark_first(const OpenStudy& open, std::size_t wanted, std::size_t items,
                       const std::function<MarkRecord(std::size_t)>& mark) {
    const std::size_t count = std::min(wanted, items);
    if (count == 0) return 0;
    LedgerWriter ledger = LedgerWriter::open(open.ledger.directory());
    for (std::size_t k = 0; k < count; ++k) ledger.put_mark(open.study.id, mark(k));
    return count;
}

std::string marked_line(std::size_t count) {
    if (count == 0) return "";
    return fmt::format("{} marked for review; 'jevrin marks' lists them\n",
                       plural(static_cast<std::int64_t>(count), "item"));
}

}  // namespace jevrin::app
