#include "jevrin/results/terminal_curves.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/terminal_drawing.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t chart_height = 15;

struct Series {
    std::string letter;  // in ASCII
    std::string name;
    std::string colour;
    bool dashed = false;  // training, as in the figures
    CurvePoints points;
};

// The ranges of the axes of a chart.
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
            if (!shows(y) || !std::isfinite(x)) continue;
            left = std::min(left, x);
            right = std::max(right, x);
            low = std::min(low, height_of(y));
            high = std::max(high, height_of(y));
        }
    }
    double across(double x) const { return right > left ? (x - left) / (right - left) : 0.0; }
    double down(double y) const { return (high - height_of(y)) / (high - low); }
};

// Three decimals, or two digits of values that would be 0.000.
std::string value_label(double value) {
    const bool tiny = value != 0.0 && std::abs(value) < 1e-3;
    return tiny ? fmt::format("{:.2g}", value) : fmt::format("{:.3f}", value);
}

std::string last_value(const Series& series) {
    return series.points.empty() ? "-" : value_label(series.points.back().second);
}

// A line for each series: its mark, its name and its last value.
std::vector<std::string> legend_of(const std::vector<Series>& series, std::size_t width, bool rich) {
    std::vector<std::string> lines;
    for (const Series& one : series) {
        if (lines.size() + 1 == chart_height && series.size() > chart_height) {
            lines.push_back(fmt::format("... and {} more", series.size() - lines.size()));
            break;
        }
        const std::string mark =
            rich ? coloured(one.dashed ? "\u2505\u2505" : "\u2501\u2501", one.colour) : padded(one.letter, 2);
        const std::string value = last_value(one);
        const std::size_t room = width - std::min(width, value.size() + 5);
        lines.push_back(mark + " " + padded(shortened_name(one.name, room), room) + "  " + value);
    }
    return lines;
}

// Values on the left, epochs or another axis below, the legend on the right.
std::string chart(std::vector<Series> series, const std::string& title, const CurveView& view,
                  const TextForm& form) {
    constexpr std::size_t margin = 10;  // labels and the axis
    Frame frame{.log_scale = view.log_scale};
    // A run from elsewhere need not state everything.
    std::erase_if(series, [](const Series& one) {
        return std::none_of(one.points.begin(), one.points.end(), [](const auto& point) {
            return std::isfinite(point.first) && std::isfinite(point.second);
        });
    });
    for (const Series& one : series) frame.include(one.points);
    if (frame.high < frame.low)
        return title + (view.log_scale ? ": no value above 0 for a logarithmic axis\n" : ": no values\n");
    if (frame.high - frame.low < 1e-9) frame.high = frame.low + 1e-3;
    std::size_t longest = 0;
    for (const Series& one : series)
        longest = std::max(longest, display_width(one.name) + last_value(one).size() + 5);
    const std::size_t beside = std::min(longest, std::clamp<std::size_t>(form.width / 3, 20, 44));
    const std::size_t columns = form.width > margin + beside + 30 ? form.width - margin - beside - 2 : 28;
    DotCanvas canvas(columns, chart_height, form.rich);
    for (const Series& one : series)
        for (std::size_t i = 0; i + 1 < one.points.size(); ++i) {
            const auto& [x0, y0] = one.points[i];
            const auto& [x1, y1] = one.points[i + 1];
            if (frame.shows(y0) && frame.shows(y1))
                canvas.line(frame.across(x0), frame.down(y0), frame.across(x1), frame.down(y1), one.colour,
                            one.dashed);
        }
    for (const Series& one : series)
        for (const auto& [x, y] : one.points)
            if (frame.shows(y) && !(form.rich && one.dashed))
                canvas.point(frame.across(x), frame.down(y), one.letter.back(), one.colour);
    const std::vector<std::string> legend = legend_of(series, beside, form.rich);
    const std::vector<std::string> rows = canvas.rows();
    std::string text = title + "\n";
    for (std::size_t row = 0; row < chart_height; ++row) {
        const double place = frame.high - (frame.high - frame.low) * static_cast<double>(row) /
                                              static_cast<double>(chart_height - 1);
        const bool labelled = row % 7 == 0;
        text += (labelled ? fmt::format("{:>8}", value_label(view.log_scale ? std::pow(10.0, place) : place))
                          : std::string(8, ' ')) +
                (form.rich ? labelled ? " \u2524" : " \u2502" : " |") + rows[row];
        if (row < legend.size()) text += "  " + legend[row];
        text.erase(text.find_last_not_of(' ') + 1);
        text += "\n";
    }
    std::string line;
    for (std::size_t c = 0; c < columns; ++c) line += form.rich ? "\u2500" : "-";
    text += std::string(9, ' ') + (form.rich ? "\u2514" : "+") + line + "\n";
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

std::string means_note(const std::vector<CandidateCurves>& groups) {
    const auto several = [](const CandidateCurves& group) { return group.runs.size() > 1; };
    if (std::none_of(groups.begin(), groups.end(), several)) return "";
    return "; mean over the seeds";
}

}  // namespace

std::string terminal_curves(const std::vector<RunCurves>& curves, const CurveView& view,
                            const CandidateStyles& styles, const TextForm& form) {
    const std::vector<CandidateCurves> groups = by_candidate(curves);
    if (groups.empty()) return "no epoch is finished yet\n";
    const bool single = groups.size() == 1;
    std::string text;
    for (const CurveQuantity quantity : view.quantities) {
        const bool both = is_on_both_parts(quantity);
        std::vector<Series> series;
        for (const CandidateCurves& group : groups) {
            const std::string name = printable(group.candidate);
            const std::string colour = styles.colour(group.candidate);
            if (!both)
                series.push_back({styles.letter(group.candidate), name, colour, false,
                                  mean_curve(group, quantity, CurvePart::training, view)});
            if (both && single)
                series.push_back(
                    {"t", "training", colour, true, mean_curve(group, quantity, CurvePart::training, view)});
            if (both)
                series.push_back({single ? "v" : styles.letter(group.candidate), single ? "validation" : name,
                                  colour, false, mean_curve(group, quantity, CurvePart::validation, view)});
        }
        const std::string title =
            (!single && both ? "validation " : "") + spoken_quantity(quantity) + means_note(groups);
        text += chart(series, title, view, form) + "\n";
    }
    return text + (form.rich ? "" : "* marks points of several curves\n");
}

}  // namespace jevrin::inline v1
