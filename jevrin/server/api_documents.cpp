#include "jevrin/server/api_documents.hpp"

#include "jevrin/base/embedded_file.hpp"

JEVRIN_EMBED(jevrin_openapi, JEVRIN_API_SOURCE "/openapi.json");
JEVRIN_EMBED(jevrin_external_run_schema, JEVRIN_API_SOURCE "/external-run.schema.json");

namespace jevrin::inline v1 {

std::string_view openapi_document() {
    return JEVRIN_EMBEDDED(jevrin_openapi);
}

std::string_view external_run_schema() {
    return JEVRIN_EMBEDDED(jevrin_external_run_schema);
}

}  // namespace jevrin::inline v1
