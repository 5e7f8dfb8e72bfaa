#include "jevrin/comparison/diagnosis.hpp"

#include "jevrin/metrics/distributions.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>
#include <span>

namespace jevrin::inline v1 {
namespace {

// Each value with its neighbours: one odd epoch decides nothing.
std::vector<double> medians_of_three(const std::vector<double>& values) {
    std::vector<double> result = values;
    for (std::size_t i = 1; i + 1 < values.size(); ++i) {
        const double low = std::min({values[i - 1], values[i], values[i + 1]});
        const double high = std::max({values[i - 1], values[i], values[i + 1]});
        result[i] = values[i - 1] + values[i] + values[i + 1] - low - high;
    }
    return result;
}

// How far an epoch lies from the middle of its neighbours, mean over the second half, as a fraction of the
// mean there.
double roughness(const std::vector<double>& values) {
    double sum = 0.0;
    double level = 0.0;
    int counted = 0;
    for (std::size_t i = std::max<std::size_t>(1, values.size() / 2); i + 1 < values.size(); ++i) {
        sum += std::abs(values[i] - (values[i - 1] + values[i + 1]) / 2);
        level += values[i];
        ++counted;
    }
    return counted > 0 && level > 0.0 ? sum / level : 0.0;
}

// Least squares, per epoch, with its standard error.
struct Slope {
    double value = 0.0;
    double error = 0.0;
};

Slope slope_of(std::span<const double> values) {
    const auto n = static_cast<double>(values.size());
    if (values.size() < 3) return {};
    double across = 0.0;
    double up = 0.0;
    const double middle = (n - 1) / 2;
    const double mean = std::accumulate(values.begin(), values.end(), 0.0) / n;
    for (std::size_t i = 0; i < values.size(); ++i) {
        const double x = static_cast<double>(i) - middle;
        across += x * x;
        up += x * (values[i] - mean);
    }
    const double slope = up / across;
    double rest = 0.0;
    for (std::size_t i = 0; i < values.size(); ++i) {
        const double r = values[i] - mean - slope * (static_cast<double>(i) - middle);
        rest += r * r;
    }
    return {slope, std::sqrt(rest / (n - 2) / across)};
}

class Examination {
  public:
    Examination(const std::vector<EpochRecord>& curve, const DiagnosisSettings& settings)
        : curve_(curve), settings_(settings), limits_(settings.thresholds) {
        for (const EpochRecord& e : curve) {
            training_.push_back(e.training_loss);
            validation_.push_back(e.validation_loss);
            best_score_ = std::max(best_score_, validation_score(e, settings.metric));
        }
        smooth_ = medians_of_three(validation_);
    }

    Diagnosis conclude() {
        if (std::ssize(curve_) < limits_.fewest_epochs) {
            say(Finding::too_short,
                fmt::format("{{}} {} too few to diagnose a curve; at least {{}} are needed",
                            curve_.size() == 1 ? "epoch is" : "epochs are"),
                {{static_cast<double>(curve_.size()), 0}, {static_cast<double>(limits_.fewest_epochs), 0}});
            return std::move(diagnosis_);
        }
        const std::size_t quarter = std::max<std::size_t>(3, curve_.size() / 4);
        const Slope slope = slope_of(std::span(validation_).last(std::min(quarter, validation_.size())));
        diagnosis_.slope = slope.value;
        look_for_baseline();
        look_for_rate_too_high();
        look_for_overfit();
        if (diagnosis_.overfit_since == 0) look_for_gap();
        const bool improving = is_improving(quarter, slope);
        if (improving && fell_by() < limits_.begun)
            say(Finding::rate_too_low,
                "learning rate too low: training loss fell steadily, but only from {} to {} in {} epochs",
                {{training_.front()}, {training_.back()}, {static_cast<double>(curve_.size()), 0}});
        if (!improving) look_for_underfit();
        look_for_jumps();
        if (improving)
            say(Finding::still_improving,
                "still improving: validation loss falls by {} per epoch at the end; training twice as long "
                "would "
                "lower it by at most about {}" +
                    schedule_note(),
                {{-diagnosis_.slope, 4}, {-diagnosis_.slope * static_cast<double>(curve_.size())}});
        if (diagnosis_.findings.empty())
            say(Finding::good_fit,
                fmt::format(
                    "good fit: training loss {{}} and validation loss {{}} have both converged; best {} {{}}",
                    spoken_metric(settings_.metric)),
                {{training_.back()}, {smooth_.back()}, {best_score_}});
        return std::move(diagnosis_);
    }

  private:
    void say(Finding finding, std::string pattern, std::vector<Observation::Number> numbers) {
        diagnosis_.findings.push_back({finding, std::move(pattern), std::move(numbers)});
    }

    void look_for_baseline() {
        const Baseline& baseline = settings_.baseline;
        if (baseline.items == 0) return;
        // What the best of so many epochs of a coin exceeds in 5 of 100 runs at most (Bonferroni).
        const double noise =
            normal_quantile(1.0 - 0.05 / static_cast<double>(curve_.size())) * baseline.standard_error;
        if (best_score_ <= baseline.score + noise)
            say(Finding::at_baseline,
                fmt::format(
                    "no better than the baseline: the best {} is {{}}, always predicting the majority class "
                    "gives {{}}, with an uncertainty of {{}} on {{}} items",
                    spoken_metric(settings_.metric)),
                {{best_score_}, {baseline.score}, {noise}, {static_cast<double>(baseline.items), 0}});
    }

    void look_for_rate_too_high() {
        const double highest = *std::max_element(training_.begin() + 1, training_.end());
        const double rough = roughness(training_);
        if (highest > (1.0 + limits_.divergence) * training_.front())
            say(Finding::rate_too_high,
                "learning rate too high: training loss rose to {}, above the {} of the first epoch",
                {{highest}, {training_.front()}});
        else if (rough > limits_.jump && training_.back() > 0.1 * training_.front())
            say(Finding::rate_too_high,
                "learning rate too high: training loss varies by {} % from epoch to epoch",
                {{100.0 * rough, 0}});
    }

    void look_for_overfit() {
        const auto lowest = std::min_element(smooth_.begin(), smooth_.end());
        const auto place = static_cast<std::size_t>(lowest - smooth_.begin());
        // The mean of the last three: a curve may end on an odd epoch.
        const double end = (smooth_.end()[-1] + smooth_.end()[-2] + smooth_.end()[-3]) / 3.0;
        const double rise = end - *lowest;
        if (place + 2 >= smooth_.size() || rise <= limits_.rise * *lowest || rise <= limits_.least_rise ||
            training_.back() >= training_[place])
            return;
        diagnosis_.overfit_since = curve_[place].epoch;
        diagnosis_.overfit_by = rise;
        const double last_score = validation_score(curve_.back(), settings_.metric);
        say(Finding::overfit,
            fmt::format(
                "overfit since epoch {{}}: validation loss rose from {{}} to {{}} while training loss fell "
                "from {{}} to {{}}; the last {} is {{}} below the best",
                spoken_metric(settings_.metric)),
            {{static_cast<double>(diagnosis_.overfit_since), 0},
             {*lowest},
             {end},
             {training_[place]},
             {training_.back()},
             {best_score_ - last_score}});
    }

    // Validation does not rise, but what training still learns is of no use for it.
    void look_for_gap() {
        const double end = smooth_.back();
        const double training = training_.back();
        if (training >= limits_.gap * end || end - training <= 0.1) return;
        std::size_t place = smooth_.size() - 1;
        while (place > 0 && training_[place] < limits_.gap_opens * smooth_[place]) --place;
        diagnosis_.overfit_since = curve_[place].epoch;
        say(Finding::overfit,
            "overfit since epoch {}: training loss fell to {} while validation loss stays at {}; since it "
            "does not "
            "rise, more data or augmentation would help more than fewer epochs",
            {{static_cast<double>(diagnosis_.overfit_since), 0}, {training}, {end}});
    }

    bool is_improving(std::size_t quarter, const Slope& slope) const {
        if (diagnosis_.overfit_by > 0.0) return false;
        const double fall = -slope.value * static_cast<double>(quarter);
        return fall > limits_.fall * smooth_.back() && -slope.value > limits_.sure * slope.error;
    }

    double fell_by() const { return 1.0 - training_.back() / training_.front(); }

    void look_for_underfit() {
        if (settings_.baseline.loss <= 0.0 || training_.back() <= limits_.poor * settings_.baseline.loss)
            return;
        say(Finding::underfit,
            "underfit: training loss stays at {}, where the baseline has {}, and no longer falls; a larger "
            "network, "
            "more trained layers, or less regularisation could help",
            {{training_.back()}, {settings_.baseline.loss}});
    }

    void look_for_jumps() {
        const double rough = roughness(validation_);
        if (rough > limits_.jump)
            say(Finding::unstable,
                "unstable: validation loss varies by {} % from epoch to epoch; a lower learning rate or "
                "weight "
                "averaging (ema_decay) would stabilise it",
                {{100.0 * rough, 0}});
    }

    std::string schedule_note() const {
        double highest = 0.0;
        for (const EpochRecord& e : curve_) highest = std::max(highest, e.learning_rate);
        return curve_.back().learning_rate < 0.05 * highest
                   ? "; the schedule has already decayed the learning rate, so a longer schedule is needed"
                   : "";
    }

    const std::vector<EpochRecord>& curve_;
    const DiagnosisSettings& settings_;
    const DiagnosisThresholds& limits_;
    std::vector<double> training_;
    std::vector<double> validation_;
    std::vector<double> smooth_;  // validation
    double best_score_ = 0.0;
    Diagnosis diagnosis_;
};

}  // namespace

std::string spoken_finding(Finding finding) {
    static const char* const words[] = {"too short",
                                        "no better than the baseline",
                                        "learning rate too high",
                                        "learning rate too low",
                                        "overfit",
                                        "underfit",
                                        "unstable",
                                        "still improving",
                                        "good fit"};
    return words[static_cast<std::size_t>(finding)];
}

namespace {

// The standard error of the metric for whoever predicts each class as often as the baseline's score says,
// without looking: of a fraction, or of a mean over the recalls of classes with few or many items.
double chance_error(const ConfusionMatrix& validation, Metric metric, double chance) {
    const double variance = chance * (1.0 - chance);
    if (metric == Metric::accuracy) return std::sqrt(variance / static_cast<double>(validation.total()));
    double sum = 0.0;
    double classes = 0.0;
    for (std::size_t c = 0; c < validation.classes(); ++c) {
        if (validation.support(c) == 0) continue;
        sum += variance / static_cast<double>(validation.support(c));
        classes += 1.0;
    }
    return classes > 0.0 ? std::sqrt(sum) / classes : 0.0;
}

}  // namespace

Baseline baseline_of(const ConfusionMatrix& validation, Metric metric) {
    Baseline baseline{.items = validation.total()};
    std::size_t commonest = 0;
    for (std::size_t c = 0; c < validation.classes(); ++c)
        if (validation.support(c) > validation.support(commonest)) commonest = c;
    ConfusionMatrix always(validation.classes());
    for (std::size_t c = 0; c < validation.classes(); ++c) {
        const std::int64_t support = validation.support(c);
        if (support == 0) continue;
        always.add(c, commonest, support);
        const double share = static_cast<double>(support) / static_cast<double>(baseline.items);
        baseline.loss -= share * std::log(share);
    }
    baseline.score = score(always, metric);
    baseline.standard_error = chance_error(validation, metric, baseline.score);
    return baseline;
}

std::string Observation::text() const {
    return text_of({this});
}

std::string text_of(const std::vector<const Observation*>& observations) {
    const Observation& first = *observations.front();
    std::string text = first.pattern;
    for (std::size_t k = 0; k < first.numbers.size(); ++k) {
        const auto [low, high] = std::minmax_element(observations.begin(), observations.end(),
                                                     [&](const Observation* a, const Observation* b) {
                                                         return a->numbers[k].value < b->numbers[k].value;
                                                     });
        const auto formatted = [&](const Observation& one) {
            return fmt::format("{:.{}f}", one.numbers[k].value, one.numbers[k].decimals);
        };
        const std::string from = formatted(**low);
        const std::string to = formatted(**high);
        text.replace(text.find("{}"), 2, from == to ? from : from + "-" + to);
    }
    return text;
}

Diagnosis diagnose(const std::vector<EpochRecord>& curve, const DiagnosisSettings& settings) {
    return Examination(curve, settings).conclude();
}

}  // namespace jevrin::inline v1
