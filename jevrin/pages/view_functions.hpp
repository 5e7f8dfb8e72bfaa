// The views, by the files they are in. Each is a row of all_views().
#pragma once

#include "jevrin/pages/view.hpp"

#include <optional>

namespace jevrin::inline v1 {

// study_views.cpp
Json study_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json choice_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json settings_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json curves_view(const Ledger&, const StudyRecord&, const ViewQuery&);

// run_views.cpp
Json run_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json scores_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json classes_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json matrices_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json items_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json item_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json neighbours_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json layers_view(const Ledger&, const StudyRecord&, const ViewQuery&);

// comparison_views.cpp
Json difference_view(const Ledger&, const StudyRecord&, const ViewQuery&);

// label_views.cpp
Json suspects_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json marks_view(const Ledger&, const StudyRecord&, const ViewQuery&);

// threshold_views.cpp
Json thresholds_view(const Ledger&, const StudyRecord&, const ViewQuery&);

// image_views.cpp
Json survey_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json sample_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json prepared_view(const Ledger&, const StudyRecord&, const ViewQuery&);

// network_views.cpp
Json network_view(const Ledger&, const StudyRecord&, const ViewQuery&);
Json activations_view(const Ledger&, const StudyRecord&, const ViewQuery&);

// Text in which absolute paths are cut to their last part: "…/glaze.toml".
std::string without_paths(const std::string& text);

// A number as the page needs it: six significant digits; null when it is NaN or infinite.
Json short_number(double value);
inline Json short_number(const std::optional<double>& value) {
    return value ? short_number(*value) : Json();
}

}  // namespace jevrin::inline v1
