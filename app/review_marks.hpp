// --mark of the commands that list items: the first of them are marked for review.
#pragma once

#include "output.hpp"

#include <functional>

namespace jevrin::app {

void add_mark_option(Command& command, std::size_t& wanted);

// Marks the first of so many items, as many as are wanted, and returns how many; mark(k) is the item with why
// it is worth a look.
std::size_t mark_first(const OpenStudy& open, std::size_t wanted, std::size_t items,
                       const std::function<MarkRecord(std::size_t)>& mark);

// "3 items marked for review; ..."; empty when there are none.
std::string marked_line(std::size_t count);

}  // namespace jevrin::app
