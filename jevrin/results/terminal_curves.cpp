#include "jevrin/results/terminal_curves.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

struct Series {
    char marker = 'v';
    CurvePoints points;
};

// Where the corners of a chart lie.
struct Frame {
    double left = 1e300;
    double right = -1e300;
    double low = 1e300;
    double high = -1e300;
    bool log_scale = false;

    double height_of(double y) const { return log_scale ? std::log10(y) : y; }
    bool shows(double y) const { return std::isfinite(y) && (!log_scale || y > 0.0); }
    void include(const CurvePoints& points) {
        for (const auto& [x, y] : points) {
            if (!shows(y)) continue;
            left = std::min(left, x);
            right = std::max(right, x);
            low = std::min(low, height_of(y));
            high = std::max(high, height_of(y));
        }
    }
};

// Rows of markers with dots between them.
class Grid {
  public:
    Grid(const Frame& frame, std::size_t columns, std::size_t rows)
        : frame_(frame), columns_(columns), lines_(rows, std::string(columns, ' ')) {}

    void put(double x, double y, char marker) {
        if (!frame_.shows(y)) return;
        const double across =
            frame_.right > frame_.left ? (x - frame_.left) / (frame_.right - frame_.left) : 0.0;
        const double down = (frame_.high - frame_.height_of(y)) / (frame_.high - frame_.low);
        const auto column = static_cast<std::size_t>(std::lround(across * static_cast<double>(columns_ - 1)));
        const auto row = static_cast<std::size_t>(std::lround(down * static_cast<double>(lines_.size() - 1)));
        char& cell = lines_[row][column];
        cell = cell == ' ' || cell == '.' || cell == marker ? marker : (marker == '.' ? cell : '*');
    }
    void connect(const CurvePoints& points) {
        for (std::size_t i = 0; i + 1 < points.size(); ++i) {
            const auto& [x0, y0] = points[i];
            const auto& [x1, y1] = points[i + 1];
            const auto steps = static_cast<int>(columns_);
            for (int s = 1; s < steps; ++s) {
                const double share = static_cast<double>(s) / steps;
                put(x0 + (x1 - x0) * share, y0 + (y1 - y0) * share, '.');
            }
        }
    }
    const std::vector<std::string>& lines() const { return lines_; }

  private:
    const Frame& frame_;
    std::size_t columns_;
    std::vector<std::string> lines_;
};

// An axis of values on the left, one of epochs or what else below.
std::string chart(const std::vector<Series>& series, const std::string& title, const CurveView& view,
                  std::size_t width) {
    constexpr std::size_t height = 13;
    constexpr std::size_t margin = 9;
    Frame frame{.log_scale = view.log_scale};
    for (const Series& one : series) frame.include(one.points);
    if (frame.high < frame.low)
        return title + (view.log_scale ? ": no value above 0 for a logarithmic axis\n" : ": no values\n");
    if (frame.high - frame.low < 1e-9) frame.high = frame.low + 1e-3;
    const std::size_t columns = width > margin + 20 ? width - margin - 2 : 20;
    Grid grid(frame, columns, height);
    for (const Series& one : series) grid.connect(one.points);
    for (const Series& one : series)
        for (const auto& [x, y] : one.points) grid.put(x, y, one.marker);
    std::string text = title + "\n";
    for (std::size_t row = 0; row < height; ++row) {
        const double place = frame.high - (frame.high - frame.low) * static_cast<double>(row) /
                                              static_cast<double>(height - 1);
        const double value = view.log_scale ? std::pow(10.0, place) : place;
        const bool labelled = row % 3 == 0 || row + 1 == height;
        const bool tiny = value != 0.0 && std::abs(value) < 1e-3;
        text += (!labelled ? fmt::format("{:>8} |", "")
                 : tiny    ? fmt::format("{:>8.2g} |", value)
                           : fmt::format("{:>8.3f} |", value)) +
                grid.lines()[row] + "\n";
    }
    text += fmt::format("{:>8} +{}\n", "", std::string(columns, '-'));
    const std::string begin = fmt::format("{:.0f}", frame.left);
    const std::string end = fmt::format("{} {:.0f}", name_of(view.axis), frame.right);
    return text + fmt::format("{:>10}{}{:>{}}\n", "", begin, end, columns - begin.size());
}

CurvePoints mean_curve(const CandidateCurves& candidate, CurveQuantity quantity, CurvePart part,
                       const CurveView& view) {
    std::vector<CurvePoints> curves;
    for (const RunCurves* run : candidate.runs)
        curves.push_back(smoothed(curve_points(*run, quantity, part, view.axis), view.smoothing));
    return band_of(curves).mean;
}

}  // namespace

std::string terminal_curves(const std::vector<RunCurves>& curves, const CurveView& view,
                            const CandidateLetters& letters, std::size_t width) {
    const std::vector<CandidateCurves> groups = by_candidate(curves);
    if (groups.empty()) return "no epoch is finished yet\n";
    const bool single = groups.size() == 1;
    std::string text;
    for (const CurveQuantity quantity : view.quantities) {
        const bool both = is_on_both_parts(quantity);
        std::vector<Series> series;
        for (const CandidateCurves& group : groups) {
            const char letter = letters.letter(group.candidate).back();
            if (!both || single)
                series.push_back(
                    {single ? 't' : letter, mean_curve(group, quantity, CurvePart::training, view)});
            if (both)
                series.push_back(
                    {single ? 'v' : letter, mean_curve(group, quantity, CurvePart::validation, view)});
        }
        const std::string title = (!single && both ? "validation " : "") + spoken_quantity(quantity);
        text += chart(series, title, view, width) + "\n";
    }
    if (single) {
        const std::size_t runs = groups[0].runs.size();
        return text + fmt::format("t training, v validation, * both{}\n",
                                  runs > 1 ? fmt::format("; means of {} runs", runs) : "");
    }
    std::string legend;
    for (const CandidateCurves& group : groups)
        legend +=
            fmt::format("{}{} {}{}", legend.empty() ? "" : ", ", letters.letter(group.candidate).back(),
                        printable(group.candidate),
                        group.runs.size() > 1 ? fmt::format(" (mean of {} runs)", group.runs.size()) : "");
    return text + legend + ", * several\n";
}

}  // namespace jevrin::inline v1
