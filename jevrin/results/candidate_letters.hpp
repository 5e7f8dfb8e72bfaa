// A letter for each candidate of a study, the same in every table and figure.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

class CandidateLetters {
  public:
    // All candidates of the study in their order (Ledger::candidates()), whichever of them are shown.
    explicit CandidateLetters(std::vector<std::string> candidates) : candidates_(std::move(candidates)) {}

    // "a" to "z", then "aa", "ab" and so on.
    std::string letter(const std::string& candidate) const;
    // Its place in the study; of an unknown one, behind the last.
    std::size_t place_of(const std::string& candidate) const;

  private:
    std::vector<std::string> candidates_;
};

}  // namespace jevrin::inline v1
