#include "jevrin/results/batch_script_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

std::string to_json(const BatchScriptResult& result) {
    const BatchScript& script = result.script;
    return document({{"script", result.file.string()},
                     {"kind", result.settings.array > 0 ? "array" : "mpi"},
                     {"runs", result.runs},
                     {"processes", script.processes},
                     {"threads", result.settings.threads},
                     {"memory_bytes", script.bytes},
                     {"seconds", script.seconds},
                     {"limit_minutes", script.limit}});
}

std::string to_text(const BatchScriptResult& result, const TextForm&) {
    const BatchScript& script = result.script;
    return fmt::format(
        "{} on {} with {} and {} of memory each: about {} if its processors are like this one;\n"
        "time limit {}, saved and queued again {} before it\n",
        plural(result.runs, "run"),
        result.settings.array > 0 ? plural(script.processes, "task") + " of an array"
                                  : plural(script.processes, "rank"),
        plural(result.settings.threads, "thread"), spoken_bytes(script.bytes), spoken_seconds(script.seconds),
        spoken_seconds(60.0 * static_cast<double>(script.limit)),
        spoken_seconds(static_cast<double>(result.settings.lead)));
}

}  // namespace jevrin::inline v1
