// A training loop of one's own, here softmax regression on mean colours, that records its epochs in a ledger,
// so that it stands beside all other runs: own_loop IMAGES LEDGER
#include <fmt/format.h>
#include <jevrin/jevrin.hpp>

#include <array>
#include <cmath>
#include <cstdio>

namespace {

using Features = std::array<double, 4>;  // mean red, green and blue, and 1

Features mean_colour(const jevrin::Image& image) {
    Features mean{0, 0, 0, 1};
    for (std::size_t i = 0; i < image.pixels.size(); ++i)
        mean[i % 3] += 3.0 * image.pixels[i] / 255.0 / static_cast<double>(image.pixels.size());
    return mean;
}

std::vector<float> probabilities(const std::vector<Features>& weights, const Features& x) {
    std::vector<float> p;
    float sum = 0;
    for (const Features& w : weights)
        sum += p.emplace_back(std::exp(static_cast<float>(w[0] * x[0] + w[1] * x[1] + w[2] * x[2] + w[3])));
    for (float& value : p) value /= sum;
    return p;
}

}  // namespace

int main(int argc, char** argv) try {
    using namespace jevrin;
    if (argc != 3) throw InputError("usage: own_loop IMAGES LEDGER");
    const ImageSet set = read_image_set({.from = argv[1]});
    const Parts parts = split_into_parts(set);
    std::vector<Features> x;
    for (const Item& item : set.items) x.push_back(mean_colour(load_image(set, item)));

    LedgerWriter ledger = LedgerWriter::open(argv[2]);
    const StudyId study = ledger.put_study("own loop", Metric::balanced_accuracy, set, parts);
    constexpr std::int64_t epochs = 20;
    const RunId run = ledger.put_run(study, {.candidate = "mean colour",
                                             .regime = Regime::scratch,
                                             .seed = 1,
                                             .settings = R"({"training": {"rate": 2}})",
                                             .planned_epochs = epochs});
    std::vector<Features> weights(set.classes.size(), Features{});
    std::vector<PredictionRecord> predictions;
    for (std::int64_t epoch = 1; epoch <= epochs; ++epoch) {
        RecordedEpoch record{{.epoch = epoch, .step = epoch}, ConfusionMatrix(set.classes.size())};
        std::vector<Features> gradient(weights.size(), Features{});
        for (const std::size_t i : parts.training) {
            const std::vector<float> p = probabilities(weights, x[i]);
            const auto n = static_cast<double>(parts.training.size());
            record.training_loss -= std::log(p[set.items[i].label]) / n;
            for (std::size_t c = 0; c < p.size(); ++c)
                for (std::size_t k = 0; k < 4; ++k)
                    gradient[c][k] += (p[c] - (c == set.items[i].label ? 1.0 : 0.0)) * x[i][k] / n;
        }
        for (std::size_t c = 0; c < weights.size(); ++c)
            for (std::size_t k = 0; k < 4; ++k) weights[c][k] -= 2.0 * gradient[c][k];
        predictions.clear();
        for (const std::size_t i : parts.validation) {
            const std::vector<float> p = probabilities(weights, x[i]);
            const auto best = static_cast<std::size_t>(std::max_element(p.begin(), p.end()) - p.begin());
            record.validation.add(set.items[i].label, best);
            record.validation_loss -=
                std::log(p[set.items[i].label]) / static_cast<double>(parts.validation.size());
            predictions.push_back({set.items[i].id, set.items[i].label, best, p});
        }
        ledger.record_epoch(run, record, epoch == epochs);
    }
    ledger.finish_run(run, predictions);
    fmt::print("{}\n", choose(ledger, ledger.ledger().study()).summary);
} catch (const jevrin::Error& error) {
    fmt::print(stderr, "{}\n", error.what());
    return 2;
}
