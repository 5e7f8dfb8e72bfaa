#include "jevrin/study/runs_at_once.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/base/threads.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <functional>

namespace jevrin::inline v1 {

std::int64_t runs_at_once(std::vector<std::int64_t> bytes, std::int64_t asked, int ranks) {
    const std::int64_t runs = std::ssize(bytes);
    if (runs <= 1 || asked == 1) return 1;
    std::sort(bytes.begin(), bytes.end(), std::greater<>());
    const std::int64_t free = memory_limit() - resident_memory();
    std::int64_t fitting = 0;
    for (std::int64_t together = 0; fitting < runs; ++fitting) {
        together += bytes[static_cast<std::size_t>(fitting)];
        if (together > free) break;
    }
    fitting = std::max<std::int64_t>(1, fitting);
    if (asked == 0)
        return std::min({static_cast<std::int64_t>(threads()), (runs + ranks - 1) / ranks, fitting});
    const std::int64_t wanted = std::min(asked, runs);
    if (wanted > fitting)
        throw InputError(fmt::format(
            "{} runs at once take more memory than there is ({} are free): at most {} of these {} at a time",
            wanted, spoken_bytes(free), fitting, fitting == 1 ? "fits" : "fit"));
    return wanted;
}

}  // namespace jevrin::inline v1
