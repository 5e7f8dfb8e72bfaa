// What a service counts of itself, in the OpenMetrics text format.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <map>
#include <mutex>
#include <string>
#include <utility>

namespace jevrin::inline v1 {

struct ImageCounts {
    std::uint64_t classified = 0;
    std::uint64_t refused = 0;  // cannot be read
    std::uint64_t unsure = 0;
    std::uint64_t out_of_distribution = 0;
};

// Safe to call from several threads.
class ServiceMetrics {
  public:
    // route: of a fixed set, "PUT /v1/runs/{id}/epochs/{epoch}", so that what clients send makes no new
    // series.
    void count(const std::string& route, int status, double seconds, std::size_t bytes_in,
               std::size_t bytes_out);
    void begin();
    void end();
    // Images that a version of a model was asked about; of the classified ones, how many were unsure, and how
    // many out of distribution.
    void count_images(const std::string& model, std::int64_t version, const ImageCounts& counts);
    // Images that were classified together.
    void count_batch(std::size_t images);

    // Counters of requests by route and status, of bytes and of images by model, histograms of durations by
    // route and of the sizes of batches, and how many requests are being answered. models_ready and
    // models_failed: versions in service now. Ends in "# EOF".
    std::string text(std::size_t models_ready, std::size_t models_failed) const;

    // Upper bounds of the histograms: seconds, and images.
    static constexpr std::array<double, 10> duration_bounds = {0.001, 0.002, 0.005, 0.01, 0.02,
                                                               0.05,  0.1,   0.5,   2.0,  10.0};
    static constexpr std::array<double, 6> batch_bounds = {1, 2, 4, 8, 16, 32};

  private:
    template <std::size_t bounds>
    struct Histogram {
        std::array<std::uint64_t, bounds + 1> counts{};
        double sum = 0.0;
    };

    mutable std::mutex mutex_;
    std::map<std::pair<std::string, int>, std::uint64_t> requests_;
    std::map<std::string, Histogram<duration_bounds.size()>> durations_;
    std::map<std::pair<std::string, std::int64_t>, ImageCounts> images_;
    Histogram<batch_bounds.size()> batches_;
    std::uint64_t bytes_in_ = 0;
    std::uint64_t bytes_out_ = 0;
    std::int64_t open_ = 0;
};

}  // namespace jevrin::inline v1
