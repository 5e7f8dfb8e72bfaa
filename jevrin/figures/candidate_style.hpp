// One colour for each candidate and one mark for each regime, the same in every figure.
#pragma once

#include "jevrin/plan/regime.hpp"
#include "jevrin/results/candidate_letters.hpp"

#include <string>
#include <vector>

namespace jevrin::inline v1 {

// Their letters (results/candidate_letters.hpp), and a colour for each.
class CandidateStyles : public CandidateLetters {
  public:
    using CandidateLetters::CandidateLetters;

    // "#rrggbb". The first eight can be told apart with the common kinds of colour blindness (Okabe & Ito
    // 2008); the next ones are lighter, then darker versions of them, so figures also write letters.
    std::string colour(const std::string& candidate) const;
};

// gnuplot's number of a filled mark: triangle for scratch, circle for frozen, square for partial.
int regime_mark(Regime regime);
// The same as a character, for lists beside figures.
std::string regime_sign(Regime regime);

}  // namespace jevrin::inline v1
