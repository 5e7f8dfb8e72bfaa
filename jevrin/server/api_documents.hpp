// The description of the service's interface, as it was when this was built.
#pragma once

#include <string_view>

namespace jevrin::inline v1 {

// OpenAPI 3.1.
std::string_view openapi_document();
// JSON Schema of what a run from elsewhere states.
std::string_view external_run_schema();

}  // namespace jevrin::inline v1
