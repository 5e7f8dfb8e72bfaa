// One colour for each candidate and one mark for each regime, the same in every figure.
#pragma once

#include "jevrin/plan/regime.hpp"

#include <string>
#include <vector>

namespace jevrin {

class CandidateStyles {
  public:
    // All candidates of the study in their order, whichever of them a figure shows (Ledger::candidates()).
    explicit CandidateStyles(std::vector<std::string> candidates) : candidates_(std::move(candidates)) {}

    // "#rrggbb". The first eight can be told apart with the common kinds of colour blindness (Okabe & Ito
    // 2008); the next ones are lighter, then darker versions of them, so figures also write letters.
    std::string colour(const std::string& candidate) const;
    // "a" to "z", then "aa", "ab" and so on.
    std::string letter(const std::string& candidate) const;

  private:
    std::size_t place_of(const std::string& candidate) const;

    std::vector<std::string> candidates_;
};

// gnuplot's number of a filled mark: triangle for scratch, circle for frozen, square for partial.
int regime_mark(Regime regime);
// The same as a character, for lists beside figures.
std::string regime_sign(Regime regime);

}  // namespace jevrin
