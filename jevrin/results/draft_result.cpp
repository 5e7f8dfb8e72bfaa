#include "jevrin/results/draft_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

std::string to_json(const DraftResult& result) {
    Json json = {{"plan", result.file.string()},
                 {"runs", result.draft.check.runs},
                 {"seconds", result.draft.check.seconds},
                 {"decisions", Json::array()},
                 {"notes", result.draft.notes}};
    for (const DraftReason& reason : result.draft.reasons)
        json["decisions"].push_back(
            {{"key", reason.key}, {"value", reason.value}, {"reason", reason.reason}});
    return document(json);
}

std::string to_text(const DraftResult& result, const TextForm&) {
    std::string text = fmt::format("a plan of {} in about {}\n\n", plural(result.draft.check.runs, "run"),
                                   spoken_seconds(result.draft.check.seconds));
    for (const DraftReason& reason : result.draft.reasons)
        text +=
            fmt::format("{} = {}\n    {}\n", reason.key, printable(reason.value), printable(reason.reason));
    return text;
}

}  // namespace jevrin::inline v1
