// Parallel loops over the elements of arrays, in chunks of a fixed size.
#pragma once

#include "jevrin/base/parallel.hpp"
#include "jevrin/tensor/integer_division.hpp"

#include <algorithm>
#include <cstdint>

namespace jevrin::inline v1 {

// Elements of one chunk: enough to hide the cost of starting it, few enough to stay in a cache.
constexpr std::int64_t chunk_elements = 32 * 1024;

// Calls body(begin, end) for chunks of [0, count).
template <typename Body>
void for_elements(std::int64_t count, Body body) {
    parallel_for(divide_up(count, chunk_elements), [&](std::int64_t chunk) {
        body(chunk * chunk_elements, std::min((chunk + 1) * chunk_elements, count));
    });
}

// The same with chunks that hold whole periods; count is a multiple of the period.
template <typename Body>
void for_periods(std::int64_t count, std::int64_t period, Body body) {
    const std::int64_t step = std::max<std::int64_t>(1, chunk_elements / period) * period;
    parallel_for(divide_up(count, step),
                 [&](std::int64_t chunk) { body(chunk * step, std::min((chunk + 1) * step, count)); });
}

// Calls body(row) for all rows of width elements, several rows to a chunk.
template <typename Body>
void for_rows(std::int64_t rows, std::int64_t width, Body body) {
    const std::int64_t step = std::max<std::int64_t>(1, chunk_elements / std::max<std::int64_t>(1, width));
    parallel_for(divide_up(rows, step), [&](std::int64_t chunk) {
        for (std::int64_t row = chunk * step; row < std::min((chunk + 1) * step, rows); ++row) body(row);
    });
}

// target[i] (+)= value(i) for all elements.
template <typename Value>
void assign_elements(std::int64_t count, bool accumulate, float* target, Value value) {
    for_elements(count, [&](std::int64_t begin, std::int64_t end) {
        if (accumulate)
            for (std::int64_t i = begin; i < end; ++i) target[i] += value(i);
        else
            for (std::int64_t i = begin; i < end; ++i) target[i] = value(i);
    });
}

// The sum of term(k) in double, in eight sums of every eighth term, which may be taken side by side.
template <typename Term>
double sum_terms(std::int64_t length, Term term) {
    double sums[8] = {};
    std::int64_t k = 0;
    for (; k + 8 <= length; k += 8)
        for (int lane = 0; lane < 8; ++lane) sums[lane] += static_cast<double>(term(k + lane));
    for (; k < length; ++k) sums[0] += static_cast<double>(term(k));
    double sum = 0.0;
    for (const double part : sums) sum += part;
    return sum;
}

// The largest term(k), in eight maxima of every eighth term, which may be taken side by side.
template <typename Term>
float largest_term(std::int64_t length, Term term) {
    float lanes[8];
    for (float& lane : lanes) lane = term(0);
    std::int64_t k = 0;
    for (; k + 8 <= length; k += 8)
        for (int lane = 0; lane < 8; ++lane) {
            const float value = term(k + lane);
            lanes[lane] = lanes[lane] < value ? value : lanes[lane];
        }
    for (; k < length; ++k) lanes[0] = std::max(lanes[0], term(k));
    float result = lanes[0];
    for (const float lane : lanes) result = std::max(result, lane);
    return result;
}

}  // namespace jevrin::inline v1
