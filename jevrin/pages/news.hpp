// What happened in a study since a page looked last, as JSON.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/results/training_result.hpp"

namespace jevrin::inline v1 {

// revision; runs: those that went on, as rows of the view "study"; warnings; progress.
Json news_data(const StudyFollower::News& news, const StudyProgress& progress, std::int64_t revision);

}  // namespace jevrin::inline v1
