#include "jevrin/results/written_results.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

std::string to_json(const CompositionResult& result) {
    return document({{"directory", result.directory.string()},
                     {"index", (result.directory / "index.csv").string()},
                     {"written", result.summary.written},
                     {"relabelled", result.summary.relabelled}});
}

std::string to_text(const CompositionResult& result, const TextForm&) {
    return fmt::format(
        "{} written to {}, {} of them under another label than what they were made from\n"
        "its index keeps the copies of one image together: from = \"{}\"\n",
        plural(result.summary.written, "image"), printable(result.directory.string()),
        result.summary.relabelled, printable((result.directory / "index.csv").string()));
}

std::string to_json(const FeaturesResult& result) {
    return document({{"items", result.written.items},
                     {"width", result.written.width},
                     {"boundary", result.written.boundary},
                     {"directory", result.directory.string()}});
}

std::string to_text(const FeaturesResult& result, const TextForm&) {
    return fmt::format(
        "{} of {} features, the output of '{}', written to {}: features.npy, labels.npy, features.csv\n",
        plural(result.written.items, "item"), result.written.width, printable(result.written.boundary),
        printable(result.directory.string()));
}

}  // namespace jevrin::inline v1
