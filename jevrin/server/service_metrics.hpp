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

// Safe to call from several threads.
class ServiceMetrics {
  public:
    // route: of a fixed set, "PUT /v1/runs/{id}/epochs/{epoch}", so that what clients send makes no new
    // series.
    void count(const std::string& route, int status, double seconds, std::size_t bytes_in,
               std::size_t bytes_out);
    void begin();
    void end();

    // Counters of requests by route and status, of bytes, a histogram of durations by route, and how many
    // requests are being answered. Ends in "# EOF".
    std::string text() const;

    // Upper bounds of the histogram, in seconds.
    static constexpr std::array<double, 10> bounds = {0.001, 0.002, 0.005, 0.01, 0.02,
                                                      0.05,  0.1,   0.5,   2.0,  10.0};

  private:
    struct Durations {
        std::array<std::uint64_t, bounds.size() + 1> counts{};
        double sum = 0.0;
    };

    mutable std::mutex mutex_;
    std::map<std::pair<std::string, int>, std::uint64_t> requests_;
    std::map<std::string, Durations> durations_;
    std::uint64_t bytes_in_ = 0;
    std::uint64_t bytes_out_ = 0;
    std::int64_t open_ = 0;
};

}  // namespace jevrin::inline v1
