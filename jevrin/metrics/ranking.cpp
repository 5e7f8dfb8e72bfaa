#include "jevrin/metrics/ranking.hpp"

#include "jevrin/base/parallel.hpp"

#include <algorithm>
#include <functional>

namespace jevrin::inline v1 {
namespace {

// Only the probabilities of the class's own items divide the others: place 2 k + 1 is that of the k-th
// highest distinct value among them, place 2 k lies between it and the one before.
class Places {
  public:
    explicit Places(std::vector<float> positives) : values_(std::move(positives)) {
        std::sort(values_.begin(), values_.end(), std::greater<>());
        values_.erase(std::unique(values_.begin(), values_.end()), values_.end());
        distinct_ = values_.size();
        // Filled up below any probability, so that each search takes the same steps.
        while (span_ <= distinct_) span_ *= 2;
        values_.resize(span_, -1.0F);
    }

    std::size_t count() const { return 2 * distinct_ + 1; }

    // Of many values at once: a loop over them inside each step of the search can use wide vectors.
    void of(std::span<const float> values, std::span<std::uint32_t> places) const {
        std::fill_n(places.begin(), values.size(), 0U);
        const float* sorted = values_.data();
        for (auto half = static_cast<std::uint32_t>(span_ / 2); half > 0; half /= 2)
            for (std::size_t i = 0; i < values.size(); ++i)
                places[i] += sorted[places[i] + half - 1] > values[i] ? half : 0U;
        for (std::size_t i = 0; i < values.size(); ++i)
            places[i] = 2 * places[i] + (sorted[places[i]] == values[i] ? 1U : 0U);
    }

  private:
    std::vector<float> values_;  // descending
    std::size_t distinct_ = 0;
    std::size_t span_ = 1;
};

RankScores scores_of_places(const std::vector<double>& positives, const std::vector<double>& negatives) {
    double all_positives = 0.0;
    double all_negatives = 0.0;
    for (const double p : positives) all_positives += p;
    for (const double n : negatives) all_negatives += n;
    if (all_positives == 0.0 || all_negatives == 0.0) return {};
    double positives_above = 0.0;
    double negatives_above = 0.0;
    double pairs = 0.0;
    double precision = 0.0;
    for (std::size_t place = 0; place < positives.size(); ++place) {
        const double p = positives[place];
        const double n = negatives[place];
        if (p > 0.0) {
            pairs += p * (all_negatives - negatives_above - n / 2);
            precision += p * (positives_above + p) / (positives_above + p + negatives_above + n);
        }
        positives_above += p;
        negatives_above += n;
    }
    return {pairs / (all_positives * all_negatives), precision / all_positives};
}

std::vector<float> values_of_class(const PredictionTable& table, std::size_t one_class) {
    std::vector<float> values;
    for (std::size_t i = 0; i < table.items(); ++i)
        if (table.labels[i] == one_class) values.push_back(table.row(i)[one_class]);
    return values;
}

}  // namespace

std::vector<RankScores> rank_scores(const PredictionTable& table) {
    std::vector<RankScores> result(table.classes);
    // As many classes as share a cache line of the table are ranked together, some items at a time.
    constexpr std::size_t together = 16;
    constexpr std::size_t some = 512;
    std::vector<std::vector<float>> positives(table.classes);
    for (std::size_t i = 0; i < table.items(); ++i)
        positives[table.labels[i]].push_back(table.row(i)[table.labels[i]]);
    const auto blocks = static_cast<std::int64_t>((table.classes + together - 1) / together);
    parallel_for(blocks, [&](std::int64_t block) {
        const std::size_t begin = static_cast<std::size_t>(block) * together;
        const std::size_t count = std::min(table.classes - begin, together);
        std::vector<Places> places;
        std::vector<std::vector<std::uint32_t>> all;
        std::vector<std::vector<std::uint32_t>> own;
        for (std::size_t c = 0; c < count; ++c) {
            places.emplace_back(std::move(positives[begin + c]));
            all.emplace_back(places.back().count(), 0);
            own.emplace_back(places.back().count(), 0);
        }
        std::vector<float> values(together * some);
        std::vector<std::uint32_t> found(some);
        for (std::size_t first = 0; first < table.items(); first += some) {
            const std::size_t items = std::min(some, table.items() - first);
            for (std::size_t i = 0; i < items; ++i)
                for (std::size_t c = 0; c < count; ++c)
                    values[c * some + i] = table.probabilities[(first + i) * table.classes + begin + c];
            for (std::size_t c = 0; c < count; ++c) {
                places[c].of(std::span(values).subspan(c * some, items), found);
                for (std::size_t i = 0; i < items; ++i) ++all[c][found[i]];
                for (std::size_t i = 0; i < items; ++i)
                    if (table.labels[first + i] == begin + c) ++own[c][found[i]];
            }
        }
        for (std::size_t c = 0; c < count; ++c) {
            const std::vector<double> positive(own[c].begin(), own[c].end());
            std::vector<double> negative(all[c].begin(), all[c].end());
            for (std::size_t k = 0; k < negative.size(); ++k) negative[k] -= positive[k];
            result[begin + c] = scores_of_places(positive, negative);
        }
    });
    return result;
}

ClassRanking::ClassRanking(const PredictionTable& table, std::size_t one_class) : places_(table.items()) {
    const Places places(values_of_class(table, one_class));
    place_count_ = places.count();
    std::vector<float> values;
    for (std::size_t i = 0; i < table.items(); ++i) {
        values.push_back(table.row(i)[one_class]);
        positive_.push_back(table.labels[i] == one_class);
    }
    places.of(values, places_);
}

RankScores ClassRanking::scores(std::span<const std::uint32_t> counts) const {
    std::vector<double> own(place_count_, 0.0);
    std::vector<double> others(place_count_, 0.0);
    for (std::size_t i = 0; i < places_.size(); ++i) (positive_[i] ? own : others)[places_[i]] += counts[i];
    return scores_of_places(own, others);
}

}  // namespace jevrin::inline v1
