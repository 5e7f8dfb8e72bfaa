#include "jevrin/tensor/partial_sums.hpp"

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/integer_division.hpp"

#include <algorithm>

namespace jevrin::inline v1 {

void add_partials(std::int64_t chunks, std::int64_t count, const float* partials, float* sum) {
    constexpr std::int64_t piece = 16 * 1024;
    parallel_for(divide_up(count, piece), [&](std::int64_t part) {
        const std::int64_t begin = part * piece;
        const std::int64_t end = std::min(begin + piece, count);
        std::copy(partials + begin, partials + end, sum + begin);
        for (std::int64_t chunk = 1; chunk < chunks; ++chunk) {
            const float* partial = partials + chunk * count;
            for (std::int64_t i = begin; i < end; ++i) sum[i] += partial[i];
        }
    });
}

}  // namespace jevrin::inline v1
