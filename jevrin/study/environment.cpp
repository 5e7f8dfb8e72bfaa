#include "jevrin/study/environment.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/processor.hpp"
#include "jevrin/base/version.hpp"
#include "jevrin/images/libraries.hpp"
#include "jevrin/tensor/libraries.hpp"

#include <fmt/format.h>
#include <sqlite3.h>

namespace jevrin::inline v1 {

std::string environment_json() {
    Json json = {{"jevrin", library_version()},   {"compiler", __VERSION__},
                 {"processor", processor().name}, {"cores", processor().cores},
                 {"threads", threads()},          {"arithmetic", arithmetic_version}};
    for (const auto& [library, version] : image_libraries()) json["libraries"][library] = version;
    for (const auto& [library, version] : compute_libraries()) json["libraries"][library] = version;
    json["libraries"]["SQLite"] = sqlite3_libversion();
    return json_text(json);
}

}  // namespace jevrin::inline v1
