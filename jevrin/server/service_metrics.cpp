#include "jevrin/server/service_metrics.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {

void ServiceMetrics::count(const std::string& route, int status, double seconds, std::size_t bytes_in,
                           std::size_t bytes_out) {
    const std::lock_guard lock(mutex_);
    ++requests_[{route, status}];
    Durations& durations = durations_[route];
    const auto bound = std::lower_bound(bounds.begin(), bounds.end(), seconds);
    ++durations.counts[static_cast<std::size_t>(bound - bounds.begin())];
    durations.sum += seconds;
    bytes_in_ += bytes_in;
    bytes_out_ += bytes_out;
}

void ServiceMetrics::begin() {
    const std::lock_guard lock(mutex_);
    ++open_;
}

void ServiceMetrics::end() {
    const std::lock_guard lock(mutex_);
    --open_;
}

std::string ServiceMetrics::text() const {
    const std::lock_guard lock(mutex_);
    std::string text =
        "# TYPE jevrin_requests counter\n# HELP jevrin_requests Requests by route and status.\n";
    for (const auto& [what, count] : requests_)
        text += fmt::format("jevrin_requests_total{{route=\"{}\",status=\"{}\"}} {}\n", what.first,
                            what.second, count);
    text +=
        "# TYPE jevrin_request_duration_seconds histogram\n# UNIT jevrin_request_duration_seconds seconds\n"
        "# HELP jevrin_request_duration_seconds From the whole request to its response.\n";
    for (const auto& [route, durations] : durations_) {
        std::uint64_t sum = 0;
        for (std::size_t i = 0; i < durations.counts.size(); ++i) {
            sum += durations.counts[i];
            const std::string bound = i < bounds.size() ? fmt::format("{}", bounds[i]) : "+Inf";
            text += fmt::format("jevrin_request_duration_seconds_bucket{{route=\"{}\",le=\"{}\"}} {}\n",
                                route, bound, sum);
        }
        text += fmt::format("jevrin_request_duration_seconds_count{{route=\"{}\"}} {}\n", route, sum);
        text += fmt::format("jevrin_request_duration_seconds_sum{{route=\"{}\"}} {}\n", route, durations.sum);
    }
    text += fmt::format(
        "# TYPE jevrin_received_bytes counter\n# UNIT jevrin_received_bytes "
        "bytes\njevrin_received_bytes_total {}\n"
        "# TYPE jevrin_sent_bytes counter\n# UNIT jevrin_sent_bytes bytes\njevrin_sent_bytes_total {}\n"
        "# TYPE jevrin_open_requests gauge\njevrin_open_requests {}\n# EOF\n",
        bytes_in_, bytes_out_, open_);
    return text;
}

}  // namespace jevrin::inline v1
