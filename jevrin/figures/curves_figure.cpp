#include "jevrin/figures/curves_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

namespace jevrin {
namespace {

using Points = std::vector<std::pair<double, double>>;
using Value = double (*)(const EpochRecord&, Metric);

double training_loss(const EpochRecord& e, Metric) {
    return e.training_loss;
}
double validation_loss(const EpochRecord& e, Metric) {
    return e.validation_loss;
}
double validation_score(const EpochRecord& e, Metric metric) {
    return score(e.validation, metric);
}

Points points_of(const RunCurves& curves, Value value, Metric metric) {
    Points points;
    for (const EpochRecord& e : curves.epochs)
        points.emplace_back(static_cast<double>(e.epoch), value(e, metric));
    return points;
}

// The mean over runs of the epochs that all of them have.
Points mean_of(const std::vector<const RunCurves*>& runs, Value value, Metric metric) {
    std::size_t shortest = runs.front()->epochs.size();
    for (const RunCurves* run : runs) shortest = std::min(shortest, run->epochs.size());
    Points points;
    for (std::size_t i = 0; i < shortest; ++i) {
        double sum = 0.0;
        for (const RunCurves* run : runs) sum += value(run->epochs[i], metric);
        points.emplace_back(static_cast<double>(i + 1), sum / static_cast<double>(runs.size()));
    }
    return points;
}

struct CandidateCurves {
    std::string name;
    std::vector<const RunCurves*> runs;
};

std::vector<CandidateCurves> by_candidate(const std::vector<RunCurves>& curves) {
    std::vector<CandidateCurves> groups;
    for (const RunCurves& run : curves) {
        if (run.epochs.empty()) continue;
        const auto same = [&](const CandidateCurves& g) { return g.name == run.run.candidate; };
        auto group = std::find_if(groups.begin(), groups.end(), same);
        if (group == groups.end()) group = groups.insert(groups.end(), {run.run.candidate, {}});
        group->runs.push_back(&run);
    }
    return groups;
}

// Collects data blocks and plot clauses of one panel.
class Panel {
  public:
    void line(const Points& points, const std::string& style, const std::string& title) {
        if (points.empty()) return;
        std::string block = fmt::format("$d{} << EOD\n", next_);
        for (const auto& [x, y] : points) block += fmt::format("{} {}\n", x, y);
        data_ += block + "EOD\n";
        plots_ += fmt::format("{}$d{} using 1:2 {} {}", plots_.empty() ? "plot " : ", \\\n     ", next_,
                              style, title.empty() ? "notitle" : "title " + gnuplot_string(title));
        ++next_;
    }
    const std::string& data() const { return data_; }
    std::string take_plot() {
        std::string plot = plots_ + "\n";
        plots_.clear();
        return plot;
    }

  private:
    std::string data_;
    std::string plots_;
    int next_ = 0;
};

void add_lines(Panel& panel, const std::vector<CandidateCurves>& groups, Value training, Value validation,
               Metric metric, bool titles) {
    const bool single = groups.size() == 1 && groups[0].runs.size() == 1;
    for (std::size_t g = 0; g < groups.size(); ++g) {
        const std::string colour = series_colour(g);
        const CandidateCurves& group = groups[g];
        if (!single && group.runs.size() > 1)
            for (const RunCurves* run : group.runs)
                panel.line(points_of(*run, validation, metric),
                           fmt::format("with lines lw 1 lc rgb '#90{}'", colour.substr(1)), "");
        panel.line(mean_of(group.runs, training, metric),
                   fmt::format("with lines lw 2 dt 2 lc rgb '{}'", colour),
                   single && titles ? "training" : "");
        panel.line(mean_of(group.runs, validation, metric),
                   fmt::format("with lines lw 3 lc rgb '{}'", colour),
                   !titles  ? ""
                   : single ? "validation"
                            : group.name);
        if (single && group.runs[0]->run.best) {
            const EpochRecord& best = *group.runs[0]->run.best;
            panel.line({{static_cast<double>(best.epoch), validation(best, metric)}},
                       "with points pt 6 ps 2.2 lw 2 lc rgb '#000000'",
                       titles ? fmt::format("best epoch, {}", best.epoch) : "");
        }
    }
}

// The upper end of the loss axis: a few early peaks must not press all other curves flat. Nothing when no
// value is far above the rest.
std::optional<double> loss_limit(const std::vector<CandidateCurves>& groups) {
    std::vector<double> losses;
    for (const CandidateCurves& group : groups)
        for (const RunCurves* run : group.runs)
            for (const EpochRecord& e : run->epochs) {
                losses.push_back(e.training_loss);
                losses.push_back(e.validation_loss);
            }
    std::sort(losses.begin(), losses.end());
    const double usual = losses[losses.size() * 95 / 100];
    if (losses.back() < 2.0 * usual) return std::nullopt;
    return 1.2 * usual;
}

// A chart in characters: rows of markers, an axis of values on the left and of epochs below.
std::string character_chart(const std::vector<std::pair<char, Points>>& series, const std::string& title,
                            std::size_t width, std::size_t height) {
    double low = 1e300;
    double high = -1e300;
    double last_epoch = 1.0;
    for (const auto& [marker, points] : series)
        for (const auto& [x, y] : points) {
            if (!std::isfinite(y)) continue;
            low = std::min(low, y);
            high = std::max(high, y);
            last_epoch = std::max(last_epoch, x);
        }
    if (high < low) return "";
    if (high - low < 1e-9) high = low + 1e-3;
    constexpr std::size_t margin = 9;
    const std::size_t columns = width > margin + 20 ? width - margin - 2 : 20;
    std::vector<std::string> grid(height, std::string(columns, ' '));
    const auto put = [&](double x, double y, char marker) {
        if (!std::isfinite(y)) return;
        const double across = last_epoch > 1 ? (x - 1) / (last_epoch - 1) : 0.0;
        const auto column = static_cast<std::size_t>(std::lround(across * static_cast<double>(columns - 1)));
        const auto row = static_cast<std::size_t>(
            std::lround((high - y) / (high - low) * static_cast<double>(height - 1)));
        char& cell = grid[row][column];
        cell = cell == ' ' || cell == '.' || cell == marker ? marker : (marker == '.' ? cell : '*');
    };
    for (const auto& [marker, points] : series)
        for (std::size_t i = 0; i + 1 < points.size(); ++i) {
            const auto& [x0, y0] = points[i];
            const auto& [x1, y1] = points[i + 1];
            const auto steps = static_cast<int>(columns);
            for (int s = 1; s < steps; ++s) {
                const double share = static_cast<double>(s) / steps;
                put(x0 + (x1 - x0) * share, y0 + (y1 - y0) * share, '.');
            }
        }
    for (const auto& [marker, points] : series)
        for (const auto& [x, y] : points) put(x, y, marker);
    std::string text = title + "\n";
    for (std::size_t row = 0; row < height; ++row) {
        const double value = high - (high - low) * static_cast<double>(row) / static_cast<double>(height - 1);
        const bool labelled = row % 3 == 0 || row + 1 == height;
        text += (labelled ? fmt::format("{:>8.3f} |", value) : fmt::format("{:>8} |", "")) + grid[row] + "\n";
    }
    text += fmt::format("{:>8} +{}\n", "", std::string(columns, '-'));
    const std::string end = fmt::format("epoch {:.0f}", last_epoch);
    text += fmt::format("{:>10}1{:>{}}\n", "", end, columns - 1);
    return text;
}

}  // namespace

void draw_curves(const std::vector<RunCurves>& curves, Metric metric, const std::string& title,
                 const std::filesystem::path& file) {
    const std::vector<CandidateCurves> groups = by_candidate(curves);
    Panel panel;
    add_lines(panel, groups, training_loss, validation_loss, metric, true);
    const std::string loss = panel.take_plot();
    add_lines(panel, groups, training_score, validation_score, metric, false);
    const std::string scores = panel.take_plot();
    const bool single = curves.size() == 1;
    std::string note =
        single ? "" : "thick: mean of seeds on validation   thin: each seed   dashed: mean on training";
    const std::optional<double> limit = groups.empty() ? std::nullopt : loss_limit(groups);
    if (limit) note += fmt::format("{}losses above {:.2g} are cut off", note.empty() ? "" : "   ", *limit);
    std::int64_t last_epoch = 2;
    for (const RunCurves& run : curves) last_epoch = std::max(last_epoch, run.run.epochs);
    const std::string script = fmt::format(
        R"(
{}
set multiplot title {} font 'DejaVu Sans,14'
set border 3 lc rgb '#666666'
set tics nomirror textcolor rgb '#333333'
set grid lc rgb '#e4e4e4' lt 1
set xlabel 'epoch'
set xrange [1:{}]
set key top right
set lmargin at screen 0.07
set rmargin at screen 0.49
set tmargin at screen 0.92
set bmargin at screen 0.15
set label 1 {} at screen 0.07,0.04 textcolor rgb '#555555'
set ylabel 'loss (cross-entropy)'
set yrange [0:{}]
{}
set lmargin at screen 0.57
set rmargin at screen 0.98
unset label 1
unset key
set ylabel {}
set yrange [*:1]
{}
unset multiplot
)",
        panel.data(), gnuplot_string(title), last_epoch, gnuplot_string(note),
        limit ? fmt::format("{}", *limit) : "*", loss,
        gnuplot_string(spoken_metric(metric) + " (dashed: training)"), scores);
    draw_figure(script, file, 1280, 720);
}

std::string terminal_curves(const std::vector<RunCurves>& curves, Metric metric, std::size_t width) {
    const std::vector<CandidateCurves> groups = by_candidate(curves);
    if (groups.empty()) return "no epoch is finished yet\n";
    std::vector<std::pair<char, Points>> losses;
    std::vector<std::pair<char, Points>> scores;
    std::string legend;
    if (groups.size() == 1) {
        losses = {{'t', mean_of(groups[0].runs, training_loss, metric)},
                  {'v', mean_of(groups[0].runs, validation_loss, metric)}};
        scores = {{'v', mean_of(groups[0].runs, validation_score, metric)}};
        legend = fmt::format(
            "t training, v validation, * both{}\n",
            groups[0].runs.size() > 1 ? fmt::format("; means of {} runs", groups[0].runs.size()) : "");
    } else {
        for (std::size_t g = 0; g < groups.size(); ++g) {
            const char letter = static_cast<char>('a' + g % 26);
            losses.emplace_back(letter, mean_of(groups[g].runs, validation_loss, metric));
            scores.emplace_back(letter, mean_of(groups[g].runs, validation_score, metric));
            legend += fmt::format(
                "{}{} {}{}", g == 0 ? "" : ", ", letter, groups[g].name,
                groups[g].runs.size() > 1 ? fmt::format(" (mean of {} runs)", groups[g].runs.size()) : "");
        }
        legend += ", * several\n";
    }
    return character_chart(losses, groups.size() == 1 ? "loss" : "validation loss", width, 13) + "\n" +
           character_chart(scores, "validation " + spoken_metric(metric), width, 13) + legend;
}

}  // namespace jevrin
