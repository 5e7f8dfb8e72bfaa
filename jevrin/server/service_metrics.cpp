#include "jevrin/server/service_metrics.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <span>

namespace jevrin::inline v1 {
namespace {

template <typename Histogram>
void observe(Histogram& histogram, std::span<const double> bounds, double value) {
    const auto bound = std::lower_bound(bounds.begin(), bounds.end(), value);
    ++histogram.counts[static_cast<std::size_t>(bound - bounds.begin())];
    histogram.sum += value;
}

// label: "route=\"...\"", or empty.
template <typename Histogram>
std::string histogram_text(const char* name, const std::string& label, const Histogram& histogram,
                           std::span<const double> bounds) {
    std::string text;
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < histogram.counts.size(); ++i) {
        sum += histogram.counts[i];
        const std::string bound = i < bounds.size() ? fmt::format("{}", bounds[i]) : "+Inf";
        text +=
            fmt::format("{}_bucket{{{}{}le=\"{}\"}} {}\n", name, label, label.empty() ? "" : ",", bound, sum);
    }
    const std::string labels = label.empty() ? "" : "{" + label + "}";
    text += fmt::format("{}_count{} {}\n", name, labels, sum);
    text += fmt::format("{}_sum{} {}\n", name, labels, histogram.sum);
    return text;
}

}  // namespace

void ServiceMetrics::count(const std::string& route, int status, double seconds, std::size_t bytes_in,
                           std::size_t bytes_out) {
    const std::lock_guard lock(mutex_);
    ++requests_[{route, status}];
    observe(durations_[route], duration_bounds, seconds);
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

void ServiceMetrics::count_images(const std::string& model, std::int64_t version, const ImageCounts& counts) {
    const std::lock_guard lock(mutex_);
    ImageCounts& sums = images_[{model, version}];
    sums.classified += counts.classified;
    sums.refused += counts.refused;
    sums.unsure += counts.unsure;
    sums.out_of_distribution += counts.out_of_distribution;
}

void ServiceMetrics::count_batch(std::size_t images) {
    const std::lock_guard lock(mutex_);
    observe(batches_, batch_bounds, static_cast<double>(images));
}

std::string ServiceMetrics::text(std::size_t models_ready, std::size_t models_failed) const {
    const std::lock_guard lock(mutex_);
    std::string text =
        "# TYPE jevrin_requests counter\n# HELP jevrin_requests Requests by route and status.\n";
    for (const auto& [what, count] : requests_)
        text += fmt::format("jevrin_requests_total{{route=\"{}\",status=\"{}\"}} {}\n", what.first,
                            what.second, count);
    text +=
        "# TYPE jevrin_request_duration_seconds histogram\n# UNIT jevrin_request_duration_seconds seconds\n"
        "# HELP jevrin_request_duration_seconds From the whole request to its response.\n";
    for (const auto& [route, durations] : durations_)
        text += histogram_text("jevrin_request_duration_seconds", fmt::format("route=\"{}\"", route),
                               durations, duration_bounds);
    text +=
        "# TYPE jevrin_images counter\n# HELP jevrin_images Images by model, version and what became of "
        "them; "
        "unsure and out_of_distribution ones are classified, too.\n";
    for (const auto& [model, counts] : images_) {
        const std::pair<const char*, std::uint64_t> kinds[] = {
            {"classified", counts.classified},
            {"refused", counts.refused},
            {"unsure", counts.unsure},
            {"out_of_distribution", counts.out_of_distribution}};
        for (const auto& [kind, count] : kinds)
            text += fmt::format("jevrin_images_total{{model=\"{}\",version=\"{}\",kind=\"{}\"}} {}\n",
                                model.first, model.second, kind, count);
    }
    text += "# TYPE jevrin_batch_images histogram\n# HELP jevrin_batch_images Images classified together.\n" +
            histogram_text("jevrin_batch_images", "", batches_, batch_bounds);
    text += fmt::format(
        "# TYPE jevrin_models gauge\n# HELP jevrin_models Versions in service.\n"
        "jevrin_models{{state=\"ready\"}} {}\njevrin_models{{state=\"failed\"}} {}\n"
        "# TYPE jevrin_received_bytes counter\n# UNIT jevrin_received_bytes "
        "bytes\njevrin_received_bytes_total {}\n"
        "# TYPE jevrin_sent_bytes counter\n# UNIT jevrin_sent_bytes bytes\njevrin_sent_bytes_total {}\n"
        "# TYPE jevrin_open_requests gauge\njevrin_open_requests {}\n# EOF\n",
        models_ready, models_failed, bytes_in_, bytes_out_, open_);
    return text;
}

}  // namespace jevrin::inline v1
