// The survey of an image set.
#pragma once

#include "jevrin/images/survey.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/study/gathering.hpp"

namespace jevrin::inline v1 {

struct SurveyResult {
    ImageSet set;
    Survey survey;
};
// read_image_set() and survey_images().
SurveyResult report_survey(const ImageSource& source, const MaterialsProgress& progress = {});

std::string to_json(const SurveyResult& result);
std::string to_text(const SurveyResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
