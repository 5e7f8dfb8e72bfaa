#include "limits.hpp"

#include <cblas.h>

#include <chrono>
#include <cstring>
#include <functional>
#include <thread>
#include <vector>

namespace jevrin::bench {
namespace {

// Seconds of one repetition of the work on all threads at once.
double seconds_of(int threads, double least_seconds, const std::function<void(int)>& work) {
    const auto begin = std::chrono::steady_clock::now();
    double seconds = 0.0;
    double repeats = 0.0;
    do {
        std::vector<std::thread> workers;
        for (int t = 1; t < threads; ++t) workers.emplace_back(work, t);
        work(0);
        for (std::thread& worker : workers) worker.join();
        seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
        ++repeats;
    } while (seconds < least_seconds);
    return seconds / repeats;
}

#if defined(__AVX512F__)
constexpr int lanes = 16;
#elif defined(__AVX__)
constexpr int lanes = 8;
#else
constexpr int lanes = 4;
#endif
typedef float Vector __attribute__((vector_size(lanes * sizeof(float))));

constexpr int chains = 12;  // independent sums, enough to hide the latency of an addition

}  // namespace

double arithmetic_limit(int threads, double least_seconds) {
    constexpr long rounds = 1'500'000;
    const double seconds = seconds_of(threads, least_seconds, [](int) {
        Vector sums[chains];
        for (int c = 0; c < chains; ++c) sums[c] = Vector{} + static_cast<float>(c);
        const Vector factor = Vector{} + 0.999F;
        const Vector term = Vector{} + 0.001F;
        for (long r = 0; r < rounds; ++r)
            for (int c = 0; c < chains; ++c) sums[c] = sums[c] * factor + term;

        Vector all = sums[0];
        for (int c = 1; c < chains; ++c) all += sums[c];
        __asm__ volatile("" : : "m"(all));  // the result counts as used
    });
    return 2.0 * lanes * chains * static_cast<double>(rounds) * threads / seconds;
}

double product_limit(int threads, double least_seconds) {
    constexpr int n = 1024;
    static std::vector<std::vector<float>> memory;
    while (memory.size() < static_cast<std::size_t>(threads)) memory.emplace_back(3 * n * n, 0.5F);
    openblas_set_num_threads(1);
    const double seconds = seconds_of(threads, least_seconds, [](int t) {
        float* a = memory[static_cast<std::size_t>(t)].data();
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, n, n, n, 1.0F, a, n, a + n * n, n, 0.0F,
                    a + 2 * n * n, n);
    });
    return 2.0 * n * n * n * threads / seconds;
}

double copy_limit(int threads, double least_seconds) {
    constexpr std::size_t bytes = 96 << 20;
    static std::vector<char> from(bytes, 1);
    static std::vector<char> to(bytes, 2);
    const double seconds = seconds_of(threads, least_seconds, [&](int t) {
        const std::size_t share = bytes / static_cast<std::size_t>(threads);
        const std::size_t begin = static_cast<std::size_t>(t) * share;
        std::memcpy(to.data() + begin, from.data() + begin, share);
    });
    return 2.0 * static_cast<double>(bytes) / seconds;
}

}  // namespace jevrin::bench
