#include "jevrin/tensor/reduction.hpp"

#include "jevrin/base/parallel.hpp"

#include <algorithm>
#include <vector>

namespace jevrin {

void sum_rows(std::int64_t rows, std::int64_t columns, const float* values, float* sums) {
    constexpr std::int64_t most_chunks = 8;
    const std::int64_t chunks = std::min(rows, most_chunks);
    thread_local std::vector<double> partials;
    partials.assign(static_cast<std::size_t>(chunks * columns), 0.0);
    double* all = partials.data();
    parallel_for(chunks, [&](std::int64_t chunk) {
        double* sum = all + chunk * columns;
        const Range range = chunk_range(rows, chunks, chunk);
        for (std::int64_t row = range.begin; row < range.end; ++row)
            for (std::int64_t c = 0; c < columns; ++c)
                sum[c] += static_cast<double>(values[row * columns + c]);
    });
    for (std::int64_t c = 0; c < columns; ++c) {
        double sum = 0.0;
        for (std::int64_t chunk = 0; chunk < chunks; ++chunk) sum += all[chunk * columns + c];
        sums[c] = static_cast<float>(sum);
    }
}

}  // namespace jevrin
