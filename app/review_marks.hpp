// --mark of the commands that list items: the first of them are marked for review.
#pragma once

#include "output.hpp"

#include <algorithm>
#include <functional>

namespace jevrin::app {

struct ReviewMarks {
    std::size_t wanted = 0;

    std::size_t of(std::size_t items) const { return std::min(wanted, items); }
};
void add_mark_option(CLI::App& command, ReviewMarks& marks);

// Marks the first `count` items; note(k) says why the item with the id id(k) is worth a look.
void mark_first(const OpenStudy& open, std::size_t count, const std::function<std::string(std::size_t)>& id,
                const std::function<std::string(std::size_t)>& note);

// "3 items marked for review; ..."; empty when there are none.
std::string marked_line(std::size_t count);

}  // namespace jevrin::app
