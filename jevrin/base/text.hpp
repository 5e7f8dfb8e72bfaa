// Text for people: untrusted text made safe to print, numbers, durations, and the nearest known word.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>

namespace jevrin::inline v1 {

// The text with control characters and bytes that are not UTF-8 written as \xNN, so that no file or class
// name can move the cursor or forge a line of output.
std::string printable(std::string_view text);

// How many columns the text takes in a terminal: none for combining marks, two for wide characters.
std::size_t display_width(std::string_view text);

// The text followed by spaces up to this display width; longer text is cut and ends in "…".
std::string padded(std::string_view text, std::size_t width);

// The text made printable, and cut at its end to this display width when it is longer.
std::string shortened_text(std::string_view text, std::size_t width);

// The same, but cut in the middle: names that begin alike differ at their ends.
std::string shortened_name(std::string_view text, std::size_t width);

// Text broken into lines of at most this display width at spaces, each ended; longer words are not cut.
std::string wrapped(const std::string& text, std::size_t width);

// The candidate with the smallest edit distance (Levenshtein 1966) to the word, or an empty string when none
// is near enough to be meant.
std::string nearest_word(std::string_view word, std::span<const std::string> candidates);

// " (did you mean 'x'?)" for the nearest candidate, or an empty string.
std::string did_you_mean(std::string_view word, std::span<const std::string> candidates);

// The text with ASCII letters in lower case: "Sound" and "sound" fold to the same text.
std::string folded_case(std::string_view text);

// Unicode's compatibility form without case (NFKC_Casefold): names that fold to the same text look the same
// to people. Bytes that are not UTF-8 stay as they are.
std::string folded_form(std::string_view text);

// "1,234,567".
std::string with_commas(std::int64_t value);
// Of a fraction: "34 %"; "<1 %", ">99 %" where it rounds to none or all and is neither.
std::string percent(double fraction);
// "1 item", "1,200 items".
std::string plural(std::int64_t count, const std::string& word);
// "12.3 MB".
std::string spoken_bytes(std::int64_t bytes);
// Three decimals; empty when the value is NaN.
std::string three_decimals(double value);
// A word as a shell takes it, quoted where it must be.
std::string shell_word(const std::string& word);
// Two significant digits, and all digits before the decimal point: "0.094", "2.1", "143".
std::string two_digits(double value);
// "35 ms", "0.31 s", "1 min 20 s", "2 h 5 min".
std::string spoken_seconds(double seconds);

}  // namespace jevrin::inline v1
