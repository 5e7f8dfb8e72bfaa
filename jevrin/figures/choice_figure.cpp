#include "jevrin/figures/choice_figure.hpp"

#include "jevrin/base/enumeration.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/choice_words.hpp"
#include "jevrin/figures/gnuplot.hpp"
#include "jevrin/figures/regime_mark.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <vector>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_candidates = 40;
constexpr std::size_t longest_candidate_name = 36;

std::string cost_axis(Cost cost) {
    switch (cost) {
        case Cost::training_seconds:
            return "training time per run in seconds";
        case Cost::trained_parameters:
            return "trained parameters";
        case Cost::operations:
            return "multiplications per prediction";
        case Cost::file_size:
            return "model file, bytes";
        case Cost::latency:
            return "milliseconds for one image";
        case Cost::batch_time:
            return "milliseconds per image in a batch";
        case Cost::prediction_memory:
            return "memory of a prediction, bytes";
    }
    unhandled(cost);
}

// One data block for each candidate, so that each has its own colour and mark.
struct Rows {
    std::string data;
    std::string scores;
    std::string leads;
    std::string costs;
    std::string losses;
    std::string verdicts;  // labels
    std::string set;       // shaded places
};

// Costs of 0 cannot be drawn on a logarithmic axis.
bool has_place(double cost) {
    return cost > 0.0 && std::isfinite(cost);
}

Rows rows_of(const Choice& choice, const CandidateStyles& styles, std::size_t count) {
    Rows rows;
    for (std::size_t k = 0; k < count; ++k) {
        const RankedCandidate& c = choice.ranking[k];
        const Interval interval = c.interval.value_or(Interval{c.mean, c.mean});
        const double cost = c.cost(choice.cost);
        rows.data += fmt::format("$c{} << EOD\n{} {} {} {} {}\nEOD\n", k, c.mean, k, interval.low,
                                 interval.high, has_place(cost) ? fmt::format("{}", cost) : "NaN");
        const std::string style =
            fmt::format("lw {} pt {} ps 1.4 lc rgb '{}' notitle", c.candidate == choice.chosen ? 2.6 : 1.5,
                        regime_mark(c.regime), styles.colour(c.candidate));
        rows.scores += fmt::format(", \\\n  $c{} using 1:2:3:4 with xerrorbars {}", k, style);
        rows.costs += fmt::format(", \\\n  $c{} using 5:1:3:4 with yerrorbars {}", k, style);
        rows.data += fmt::format("$e{} << EOD\n{} {}\nEOD\n", k, c.odds.expected_loss, k);
        rows.losses += fmt::format(
            ", \\\n  $e{0} using (0):2:1:(0) with vectors nohead lw 4 lc rgb '{1}' notitle, \\\n"
            "  $e{0} using 1:2:({2}) with labels left offset 0.6,0 font 'DejaVu Sans,8' textcolor rgb "
            "'#444444' notitle",
            k, styles.colour(c.candidate), gnuplot_string(percent(c.odds.probability_best)));
        rows.verdicts += fmt::format(
            "set label {} {} at graph 1.03,first {} left font 'DejaVu Sans,8' textcolor rgb "
            "'#555555'\n",
            100 + k, gnuplot_string(k == 0 ? "" : spoken_verdict(c)), k);
        if (c.may_be_best && choice.ranking.size() > 1)
            rows.set += fmt::format(
                "set object {} rectangle from graph 0,first {} to graph 1,first {} fillcolor rgb '#eaf3ea' "
                "fillstyle solid noborder behind\n",
                100 + k, static_cast<double>(k) - 0.5, static_cast<double>(k) + 0.5);
        if (!c.behind) continue;
        rows.data += fmt::format("$l{} << EOD\n{} {} {} {}\nEOD\n", k, -c.behind->mean, k,
                                 -c.behind->interval.high, -c.behind->interval.low);
        rows.leads += fmt::format(", \\\n  $l{} using 1:2:3:4 with xerrorbars {}", k, style);
    }
    return rows;
}

// Steps of 1, 2 or 5 times a power of ten, so that at most five lie between the ends.
double even_step(double low, double high) {
    const double least = std::max(high - low, 1e-9) / 5.0;
    const double power = std::pow(10.0, std::floor(std::log10(least)));
    for (const double factor : {1.0, 2.0, 5.0})
        if (factor * power >= least) return factor * power;
    return 10.0 * power;
}

// The scale of costs: 1, 2 and 5 times powers of ten where they are few, else powers alone.
std::string cost_tics(double least, double most, bool is_seconds) {
    const bool few = most / least < 200.0;
    const auto spoken = [&](double cost) -> std::string {
        if (is_seconds || cost < 1000.0) return fmt::format("{:g}", cost);
        for (const auto& [unit, name] : {std::pair{1e9, "G"}, std::pair{1e6, "M"}, std::pair{1e3, "k"}})
            if (cost >= unit) return fmt::format("{:g}{}", cost / unit, name);
        return "";
    };
    std::string tics;
    for (double power = std::pow(10.0, std::floor(std::log10(least))); power <= most; power *= 10.0)
        for (const double factor : {1.0, 2.0, 5.0}) {
            const double cost = factor * power;
            if (cost < least || cost > most || (!few && factor != 1.0)) continue;
            tics += fmt::format("{}'{}' {}", tics.empty() ? "" : ", ", spoken(cost), cost);
        }
    return tics;
}

// Where intervals begin and end, over all that are shown.
struct Ends {
    double low = 1e300;
    double high = -1e300;
    void include(const Interval& interval) {
        low = std::min(low, interval.low);
        high = std::max(high, interval.high);
    }
    double step() const { return high > low ? even_step(low, high) : 0.1; }
};

std::string name_tics(const Choice& choice, const CandidateStyles& styles, std::size_t count) {
    std::string tics;
    for (std::size_t k = 0; k < count; ++k) {
        const RankedCandidate& c = choice.ranking[k];
        const std::string chosen = c.candidate == choice.chosen ? "\u25b6 " : "";
        tics += fmt::format("{}{} {}", k == 0 ? "" : ", ",
                            gnuplot_tic(chosen + shortened_name(c.candidate, longest_candidate_name) + " (" +
                                        styles.letter(c.candidate) + ")"),
                            k);
    }
    return tics;
}

// Letters beside the points of the cost panel.
std::string letters(const Choice& choice, const CandidateStyles& styles, std::size_t count) {
    std::string labels;
    for (std::size_t k = 0; k < count; ++k) {
        const RankedCandidate& c = choice.ranking[k];
        const double cost = c.cost(choice.cost);
        if (has_place(cost))
            labels += fmt::format(
                "set label '{}' at {},{} left offset char 0.9,0.5 front font 'DejaVu Sans,{}' textcolor rgb "
                "'{}'\n",
                styles.letter(c.candidate), cost, c.mean, c.candidate == choice.chosen ? 13 : 9,
                styles.colour(c.candidate));
    }
    return labels;
}

// Cost and score, cheapest first.
std::vector<std::pair<double, double>> front_of(const Choice& choice) {
    std::vector<std::pair<double, double>> points;
    for (const RankedCandidate& c : choice.ranking)
        if (c.pareto_optimal && has_place(c.cost(choice.cost)))
            points.emplace_back(c.cost(choice.cost), c.mean);
    std::sort(points.begin(), points.end());
    return points;
}

std::string front_block(const std::vector<std::pair<double, double>>& front) {
    std::string data = "$front << EOD\n";
    for (const auto& [cost, score] : front) data += fmt::format("{} {}\n", cost, score);
    return data + (front.empty() ? "NaN NaN\n" : "") + "EOD\n";
}

}  // namespace

void draw_choice(const Choice& choice, const CandidateStyles& styles, const std::string& title,
                 const std::filesystem::path& file) {
    const std::size_t count = std::min(choice.ranking.size(), most_candidates);
    const Rows rows = rows_of(choice, styles, count);
    double least = 1e300;
    double most = 0.0;
    double largest_loss = 0.0;
    const int height = std::max(600, 190 + 24 * static_cast<int>(count));
    const double bottom = 110.0 / height;
    Ends of_scores;
    Ends of_leads;
    std::string places;
    for (std::size_t k = 0; k < count; ++k) {
        const RankedCandidate& c = choice.ranking[k];
        of_scores.include(c.interval.value_or(Interval{c.mean, c.mean}));
        if (c.behind) of_leads.include({-c.behind->interval.high, -c.behind->interval.low});
        largest_loss = std::max(largest_loss, c.odds.expected_loss);
        places += fmt::format("{}'' {}", k == 0 ? "" : ", ", k);
        const double cost = choice.ranking[k].cost(choice.cost);
        if (!has_place(cost)) continue;
        least = std::min(least, cost);
        most = std::max(most, cost);
    }
    const std::string more = choice.ranking.size() > count ? fmt::format(" (the first {} of {} candidates)",
                                                                         count, choice.ranking.size())
                                                           : "";
    const auto front = front_of(choice);
    const std::string marks = fmt::format(
        "{} scratch   {} frozen   {} partial   \u25b6 chosen   bars: 95 % intervals over seeds and items{}",
        regime_sign(Regime::scratch), regime_sign(Regime::frozen), regime_sign(Regime::partial),
        front.size() > 1 ? "   dashed: no other candidate is better at the same cost or less" : "");
    const std::string shades = fmt::format(
        "shaded: the 95 % confidence set of the best, and differences within the margin of {:.3f}   "
        "percentages: "
        "how often it is the best of a bootstrap draw of seeds and items",
        choice.margin);
    draw_figure(
        fmt::format(
            R"(
{}
{}
$none << EOD
NaN NaN NaN NaN
EOD
set multiplot title {} font 'DejaVu Sans,14'
set border 3 lc rgb '#666666'
set tics nomirror textcolor rgb '#333333'
set grid xtics ytics lc rgb '#e8e8e8' lt 1
set bars 0.6
set tmargin at screen {}
set bmargin at screen {}
set label 1 {} at screen 0.02,{} textcolor rgb '#555555' font 'DejaVu Sans,9'
set label 2 {} at screen 0.02,{} textcolor rgb '#555555' font 'DejaVu Sans,9'
set yrange [{}:-0.7]
set ytics ({}) font 'DejaVu Sans,{}' scale 0
set lmargin at screen 0.22
set rmargin at screen 0.40
set xlabel {}
set xtics {} font 'DejaVu Sans,9'
{}
plot $none using 1:2 with points notitle{}
unset label 1
unset label 2
set ytics ({})
set xtics {}
set xrange [{}]
set lmargin at screen 0.425
set rmargin at screen 0.575
set xlabel {}
set object 9000 rectangle from {},graph 0 to {},graph 1 fillcolor rgb '#f3eee2' fillstyle solid noborder behind
set arrow 1 from 0,graph 0 to 0,graph 1 nohead lw 1.5 lc rgb '#888888'
{}
plot $none using 1:2 with points notitle{}
unset arrow 1
unset label
unset object 9000
set lmargin at screen 0.65
set rmargin at screen 0.76
set xrange [0:{}]
set xtics {}
set xlabel 'expected loss'
plot $none using 1:2 with points notitle{}
unset object
set ytics auto scale 0.5 font 'DejaVu Sans,10'
set lmargin at screen 0.82
set rmargin at screen 0.985
set yrange [{}:{}]
set logscale x
set xrange [{}:{}]
set xtics ({})
set xlabel {}
set ylabel {} offset 1.5,0
{}
plot $none using 1:2 with points notitle, \
  $front using 1:2 with lines lw 1.5 dt 2 lc rgb '#888888' notitle{}
unset multiplot
)",
            rows.data, front_block(front), gnuplot_string(title + more), 1.0 - 55.0 / height, bottom,
            gnuplot_string(marks), 42.0 / height, gnuplot_string(shades), 20.0 / height,
            static_cast<double>(count) - 0.3, name_tics(choice, styles, count), count <= 16 ? 10 : 8,
            gnuplot_string(spoken_metric(choice.metric)), of_scores.step(), rows.set, rows.scores, places,
            of_leads.step(), of_leads.high > of_leads.low ? "*:*" : "-0.1:0.1",
            gnuplot_string("difference from the best"), -choice.margin, choice.margin, rows.verdicts,
            rows.leads, largest_loss > 0.0 ? 1.45 * largest_loss : 0.1,
            even_step(0.0, largest_loss > 0.0 ? 2 * largest_loss : 0.1), rows.losses, of_scores.low - 0.02,
            of_scores.high + 0.02, most > 0.0 ? least / 1.6 : 0.1, most > 0.0 ? most * 1.9 : 10.0,
            most > 0.0 ? cost_tics(least / 1.6, most * 1.9, choice.cost == Cost::training_seconds) : "",
            gnuplot_string(cost_axis(choice.cost)), gnuplot_string(spoken_metric(choice.metric)),
            letters(choice, styles, count), rows.costs),
        file, 1280, height);
}

}  // namespace jevrin::inline v1
