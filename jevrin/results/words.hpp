// Numbers and names as the text of results writes them.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>

namespace jevrin::inline v1 {

// "1,234,567".
std::string with_commas(std::int64_t value);
// "1 item", "1,200 items".
std::string plural(std::int64_t count, const std::string& word);
// Three decimals; empty when the value is NaN.
std::string three_decimals(double value);
// A word as a shell takes it, quoted where it must be.
std::string shell_word(const std::string& word);

}  // namespace jevrin::inline v1
