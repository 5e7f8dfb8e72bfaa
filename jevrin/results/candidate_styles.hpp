// A letter and a colour for each candidate of a study, the same in every table and figure.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// "#rrggbb": eight colours that are distinguishable with the common kinds of colour blindness (Okabe & Ito
// 2008), then again from the first.
inline constexpr std::size_t series_colours = 8;
std::string series_colour(std::size_t index);

class CandidateStyles {
  public:
    // All candidates of the study in their order (Ledger::candidates()), whichever of them are shown.
    explicit CandidateStyles(std::vector<std::string> candidates) : candidates_(std::move(candidates)) {}

    // "a" to "z", then "aa", "ab" and so on.
    std::string letter(const std::string& candidate) const;
    // "#rrggbb": those of series_colour(), then lighter and darker versions of them.
    std::string colour(const std::string& candidate) const;
    // Its place in the study; of an unknown one, after the last.
    std::size_t place_of(const std::string& candidate) const;

  private:
    std::vector<std::string> candidates_;
};

}  // namespace jevrin::inline v1
