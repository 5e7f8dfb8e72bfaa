#include "jevrin/figures/curves_figure.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/figures/regime_mark.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <optional>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_panels = 4;
constexpr std::size_t legend_rows = 30;
constexpr std::size_t most_bands = 24;

// Collects data blocks and plot clauses of one panel.
class Panel {
  public:
    void line(const CurvePoints& points, const std::string& style, const std::string& title) {
        if (points.empty()) return;
        std::string block;
        for (const auto& [x, y] : points) block += fmt::format("{} {}\n", x, y);
        add(block, "1:2 " + style, title);
    }
    void band(const CurveBand& band, const std::string& style) {
        std::string block;
        for (std::size_t i = 0; i < band.mean.size(); ++i)
            block += fmt::format("{} {} {}\n", band.mean[i].first, band.low[i], band.high[i]);
        if (!block.empty()) add(block, "1:2:3 " + style, "");
    }
    void label(double x, double y, const std::string& text, const std::string& colour) {
        add(fmt::format("{} {} {}\n", x, y, gnuplot_string(text)),
            fmt::format("1:2:3 with labels left offset char 1.2,0 font 'DejaVu Sans,8' textcolor rgb '{}'",
                        colour),
            "");
    }
    const std::string& data() const { return data_; }
    std::string take_plot() {
        std::string plot = plots_ + "\n";
        plots_.clear();
        return plot;
    }
    bool is_empty() const { return plots_.empty(); }

  private:
    void add(const std::string& block, const std::string& plot, const std::string& title) {
        data_ += fmt::format("$d{} << EOD\n{}EOD\n", next_, block);
        plots_ += fmt::format("{}$d{} using {} {}", plots_.empty() ? "plot " : ", \\\n     ", next_, plot,
                              title.empty() ? "notitle" : "title " + gnuplot_string(title));
        ++next_;
    }

    std::string data_;
    std::string plots_;
    int next_ = 0;
};

std::string faint(const std::string& colour) {
    return "#b0" + colour.substr(1);
}

// The best epoch of the mean run: the mean over runs, to the nearest recorded point.
void mark_best(Panel& panel, const CandidateCurves& group, const CurvePoints& mean,
               const std::string& colour) {
    double sum = 0.0;
    double count = 0.0;
    for (const RunCurves* run : group.runs)
        if (run->run.best) {
            sum += static_cast<double>(run->run.best->epoch);
            ++count;
        }
    if (count == 0.0 || mean.empty()) return;
    const auto place = static_cast<std::size_t>(
        std::clamp(std::lround(sum / count) - 1L, 0L, static_cast<long>(mean.size()) - 1L));
    panel.line({mean[place]},
               fmt::format("with points pt {} ps 1.7 lw 1 lc rgb '{}'", regime_mark(group.regime), colour),
               "");
}

struct Drawn {
    CurveBand raw;
    CurveBand shown;  // smoothed
};

Drawn curves_of(const CandidateCurves& group, CurveQuantity quantity, CurvePart part, const CurveView& view) {
    std::vector<CurvePoints> raw;
    std::vector<CurvePoints> shown;
    for (const RunCurves* run : group.runs) {
        raw.push_back(curve_points(*run, quantity, part, view.axis));
        shown.push_back(smoothed(raw.back(), view.smoothing));
    }
    return {band_of(raw), band_of(shown)};
}

void add_run(Panel& panel, const CandidateCurves& group, CurveQuantity quantity, const CurveView& view,
             const std::string& colour, bool titles) {
    const Drawn training = curves_of(group, quantity, CurvePart::training, view);
    const Drawn validation = curves_of(group, quantity, CurvePart::validation, view);
    if (view.smoothing > 0.0)
        for (const Drawn* drawn : {&training, &validation})
            panel.line(drawn->raw.mean, fmt::format("with lines lw 1 lc rgb '{}'", faint(colour)), "");
    const bool both = is_on_both_parts(quantity);
    panel.line(training.shown.mean,
               fmt::format("with lines lw {} {} lc rgb '{}'", both ? 2 : 3, both ? "dt 2" : "", colour),
               titles && both ? "training" : "");
    panel.line(validation.shown.mean, fmt::format("with lines lw 3 lc rgb '{}'", colour),
               titles ? "validation" : "");
    const auto& best = group.runs.front()->run.best;
    const CurvePoints& marked = both ? validation.raw.mean : training.raw.mean;
    if (!best) return;
    const auto place = std::find_if(group.runs.front()->epochs.begin(), group.runs.front()->epochs.end(),
                                    [&](const EpochRecord& e) { return e.epoch == best->epoch; });
    const auto index = static_cast<std::size_t>(place - group.runs.front()->epochs.begin());
    if (index < marked.size())
        panel.line({marked[index]}, "with points pt 6 ps 2.2 lw 2 lc rgb '#000000'",
                   titles ? fmt::format("best epoch, {}", best->epoch) : "");
}

// Letters at the ends of many curves, moved apart so that none covers another.
void add_letters(Panel& panel, const std::vector<CandidateCurves>& groups, const std::vector<Drawn>& drawn,
                 const CurveView& view, const CandidateStyles& styles) {
    struct End {
        std::size_t group = 0;
        double x = 0.0;
        double height = 0.0;  // as drawn: of powers when the scale is one of powers
    };
    const auto height = [&](double y) { return view.log_scale ? std::log10(y) : y; };
    std::vector<End> ends;
    double low = 1e300;
    double high = -1e300;
    double right = 0.0;
    for (std::size_t g = 0; g < groups.size(); ++g) {
        for (const auto& [x, y] : drawn[g].shown.mean) {
            if (!std::isfinite(height(y))) continue;
            low = std::min(low, height(y));
            high = std::max(high, height(y));
            right = std::max(right, x);
        }
        const CurvePoints& mean = drawn[g].shown.mean;
        if (!mean.empty() && std::isfinite(height(mean.back().second)))
            ends.push_back({g, mean.back().first, height(mean.back().second)});
    }
    if (ends.empty()) return;
    std::stable_sort(ends.begin(), ends.end(),
                     [](const End& a, const End& b) { return a.height < b.height; });
    const double gap = (high - low) * std::min(0.024, 0.98 / static_cast<double>(ends.size()));
    for (std::size_t k = 1; k < ends.size(); ++k)
        ends[k].height = std::max(ends[k].height, ends[k - 1].height + gap);
    // What was pushed beyond the top comes back down.
    double limit = high;
    for (std::size_t k = ends.size(); k-- > 0; limit = ends[k].height - gap)
        ends[k].height = std::min(ends[k].height, limit);
    for (const End& end : ends)
        panel.label(right, view.log_scale ? std::pow(10.0, end.height) : end.height,
                    styles.letter(groups[end.group].candidate), styles.colour(groups[end.group].candidate));
}

void add_candidates(Panel& panel, const std::vector<CandidateCurves>& groups, CurveQuantity quantity,
                    const CurveView& view, const CandidateStyles& styles) {
    const bool both = is_on_both_parts(quantity);
    const CurvePart main_part = both ? CurvePart::validation : CurvePart::training;
    const bool crowded = groups.size() > 8;
    std::vector<Drawn> main;
    for (const CandidateCurves& group : groups) {
        main.push_back(curves_of(group, quantity, main_part, view));
        // Many bands lie over each other and say nothing more.
        if (group.runs.size() > 1 && groups.size() <= most_bands)
            panel.band(main.back().shown,
                       fmt::format("with filledcurves lc rgb '{}' fs transparent solid {} noborder",
                                   styles.colour(group.candidate), crowded ? 0.06 : 0.14));
    }
    for (std::size_t g = 0; g < groups.size(); ++g) {
        const std::string colour = styles.colour(groups[g].candidate);
        if (view.smoothing > 0.0)
            panel.line(main[g].raw.mean, fmt::format("with lines lw 1 lc rgb '{}'", faint(colour)), "");
        // Among many the training curves would hide all others.
        if (both && !crowded)
            panel.line(curves_of(groups[g], quantity, CurvePart::training, view).shown.mean,
                       fmt::format("with lines lw 1.5 dt 2 lc rgb '{}'", colour), "");
        const CurvePoints& mean = main[g].shown.mean;
        panel.line(mean, fmt::format("with lines lw {} lc rgb '{}'", crowded ? 1.8 : 3.0, colour), "");
        mark_best(panel, groups[g], mean, colour);
    }
    if (crowded) add_letters(panel, groups, main, view, styles);
}

// The upper end of the loss axis: a few early peaks must not press all other curves flat. Nothing when no
// value is far above the rest.
std::optional<double> loss_limit(const std::vector<CandidateCurves>& groups) {
    std::vector<double> losses;
    for (const CandidateCurves& group : groups)
        for (const RunCurves* run : group.runs)
            for (const EpochRecord& e : run->epochs)
                for (const double loss : {e.training_loss, e.validation_loss})
                    if (std::isfinite(loss)) losses.push_back(loss);
    if (losses.empty()) return std::nullopt;
    std::sort(losses.begin(), losses.end());
    const double usual = losses[losses.size() * 95 / 100];
    if (losses.back() < 2.0 * usual) return std::nullopt;
    return 1.2 * usual;
}

// Where the panels end and the list of candidates begins, as a fraction of the width.
double panels_end(std::size_t candidates) {
    if (candidates < 2) return 0.98;
    return candidates <= legend_rows ? 0.79 : 0.65;
}

std::string legend(const std::vector<CandidateCurves>& groups, const CandidateStyles& styles) {
    const bool crowded = groups.size() > 8;
    const std::size_t columns = groups.size() <= legend_rows ? 1 : 2;
    const double step = groups.size() <= 16 ? 0.05 : 0.029;
    const std::size_t width = columns == 2 ? 24 : 36;
    const int size = groups.size() <= 16 ? 9 : 8;
    std::string labels;
    const std::size_t shown = std::min(groups.size(), 2 * legend_rows);
    for (std::size_t g = 0; g < shown; ++g) {
        const std::string name = shortened_name(groups[g].candidate, width);
        labels += fmt::format(
            "set label {} at screen {:.3f},{:.3f} left front font 'DejaVu Sans,{}' textcolor rgb '#303030' "
            "point pt "
            "{} ps 1.2 lc rgb '{}' offset char 1.2,0\n",
            gnuplot_string(crowded ? styles.letter(groups[g].candidate) + "  " + name : name),
            panels_end(groups.size()) + 0.03 + 0.17 * static_cast<double>(g / legend_rows),
            0.90 - step * static_cast<double>(g % legend_rows), size, regime_mark(groups[g].regime),
            styles.colour(groups[g].candidate));
    }
    if (groups.size() > shown)
        labels += fmt::format("set label 'and {} more' at screen {:.3f},0.02 left font 'DejaVu Sans,8'\n",
                              groups.size() - shown, panels_end(groups.size()) + 0.03);
    return labels;
}

struct PanelPlace {
    double left = 0.0;
    double right = 0.0;
    double top = 0.0;
    double bottom = 0.0;
};

PanelPlace place_of(std::size_t panel, std::size_t panels, double end) {
    const std::size_t columns = panels == 1 ? 1 : 2;
    const std::size_t rows = panels <= 2 ? 1 : 2;
    const double wide = (end - 0.01) / static_cast<double>(columns);
    const double high = 0.83 / static_cast<double>(rows);
    const double left = static_cast<double>(panel % columns) * wide;
    const double top = 0.92 - static_cast<double>(panel / columns) * high;
    return {left + 0.07, left + wide - 0.012, top - (panel / columns > 0 ? 0.03 : 0.0), top - high + 0.06};
}

std::string notes(const std::vector<CandidateCurves>& groups, const CurveView& view,
                  const std::optional<double>& limit) {
    std::vector<std::string> parts;
    if (groups.size() > 1) {
        parts.emplace_back(groups.size() <= most_bands ? "thick: mean on validation, its band: all runs"
                                                       : "mean on validation");
        parts.emplace_back(groups.size() > 8 ? "training curves: fewer candidates show them"
                                             : "dashed: mean on training");
        parts.emplace_back(fmt::format("at the mean best epoch {} scratch {} frozen {} partial",
                                       regime_sign(Regime::scratch), regime_sign(Regime::frozen),
                                       regime_sign(Regime::partial)));
    }
    if (view.smoothing > 0.0) parts.push_back(fmt::format("smoothed ({}), as it was: faint", view.smoothing));
    if (limit) parts.push_back(fmt::format("losses above {:.2g} are cut off", *limit));
    return fmt::format("{}", fmt::join(parts, "   "));
}

}  // namespace

void draw_curves(const std::vector<RunCurves>& curves, const CurveView& view, const CandidateStyles& styles,
                 const std::string& title, const std::filesystem::path& file) {
    const std::vector<CandidateCurves> groups = by_candidate(curves);
    const bool single = groups.size() == 1 && groups[0].runs.size() == 1;
    const std::optional<double> limit =
        view.log_scale || std::find(view.quantities.begin(), view.quantities.end(), CurveQuantity::loss) ==
                              view.quantities.end()
            ? std::nullopt
            : loss_limit(groups);
    const std::size_t panels = std::min(view.quantities.size(), most_panels);
    Panel panel;
    std::string plots;
    for (std::size_t k = 0; k < panels; ++k) {
        const CurveQuantity quantity = view.quantities[k];
        if (single)
            add_run(panel, groups[0], quantity, view, styles.colour(groups[0].candidate), k == 0);
        else
            add_candidates(panel, groups, quantity, view, styles);
        // Without an epoch there are only axes.
        if (panel.is_empty())
            panel.line({{1.0, std::numeric_limits<double>::quiet_NaN()}}, "with points", "");
        const PanelPlace place = place_of(k, panels, panels_end(groups.size()));
        plots += fmt::format(
            "set lmargin at screen {:.3f}\nset rmargin at screen {:.3f}\nset tmargin at screen {:.3f}\n"
            "set bmargin at screen {:.3f}\nset ylabel {} offset 1,0\nset yrange [{}]\n{}{}",
            place.left, place.right, place.top, place.bottom, gnuplot_string(spoken_quantity(quantity)),
            quantity == CurveQuantity::loss && !view.log_scale
                ? fmt::format("0:{}", limit ? fmt::format("{}", *limit) : "*")
                : std::string("*:*"),
            k == 0 ? "" : "unset key\nunset label\n", panel.take_plot());
    }
    draw_figure(
        fmt::format(R"(
{}
set multiplot title {} font 'DejaVu Sans,14'
set border 3 lc rgb '#666666'
set tics nomirror textcolor rgb '#333333'
set grid lc rgb '#e4e4e4' lt 1
set xlabel {}
set format x {}
{}
set key top right
set label {} at screen 0.03,0.025 textcolor rgb '#555555' font 'DejaVu Sans,10'
{}
{}
unset multiplot
)",
                    panel.data(), gnuplot_string(title), gnuplot_string(name_of(view.axis)),
                    view.axis == CurveAxis::examples || view.axis == CurveAxis::step ? "'%.1s%c'" : "'%g'",
                    view.log_scale ? "set logscale y\nset grid ytics mytics" : "",
                    gnuplot_string(notes(groups, view, limit)), single ? "" : legend(groups, styles), plots),
        file, 1280, 720);
}

}  // namespace jevrin::inline v1
