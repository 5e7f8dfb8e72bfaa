#include "jevrin/results/candidate_letters.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

std::size_t CandidateLetters::place_of(const std::string& candidate) const {
    return static_cast<std::size_t>(std::find(candidates_.begin(), candidates_.end(), candidate) -
                                    candidates_.begin());
}

std::string CandidateLetters::letter(const std::string& candidate) const {
    const std::size_t place = place_of(candidate);
    const std::string last(1, static_cast<char>('a' + place % 26));
    return place < 26 ? last : std::string(1, static_cast<char>('a' + (place / 26 - 1) % 26)) + last;
}

}  // namespace jevrin::inline v1
