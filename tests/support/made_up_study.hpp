// A ledger whose runs are made up: what each predicts and how its curves go is decided here, nothing is
// trained and no image is read.
#pragma once

#include "support/support.hpp"

#include "jevrin/base/random.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <fmt/format.h>

#include <functional>
#include <string>
#include <vector>

namespace jevrin::test {

struct MadeUpRun {
    std::string candidate = "a";
    Regime regime = Regime::scratch;
    std::int64_t seed = 1;
    double seconds = 1.0;
    std::string settings = "{}";
    std::string origin = {};
    std::vector<VariedSetting> varied = {};
    std::int64_t batch = 1;
    double training_fraction = 1.0;
    int epochs = 1;
    bool finished = true;
    std::int64_t trainable_parameters = 100;
    std::int64_t multiplications = 1000;
    std::string environment = {};  // JSON; empty: not known
    double confidence = 1.0;       // probability of what is predicted; the other classes share the rest
    // At each epoch but the last, which is that of `predicted`; none: nothing is recorded by epoch.
    std::function<std::size_t(std::size_t label, std::size_t place, int epoch)> at_epoch = {};
    // Of an item with this label at this place of the validation part.
    std::function<std::size_t(std::size_t label, std::size_t place)> predicted =
        [](std::size_t label, std::size_t) { return label; };
};

class MadeUpStudy {
  public:
    MadeUpStudy(const std::filesystem::path& directory, std::size_t classes, std::size_t items_per_class,
                Metric metric = Metric::accuracy, const std::string& class_name = "class")
        : directory_(directory), ledger_(LedgerWriter::open(directory)), classes_(classes) {
        set_.root = directory / "images";
        for (std::size_t c = 0; c < classes; ++c)
            set_.classes.push_back(fmt::format("{} {:03}", class_name, c));
        for (std::size_t c = 0; c < classes; ++c)
            for (std::size_t i = 0; i < items_per_class; ++i) {
                const std::string path = fmt::format("{}/{:04}.png", set_.classes[c], i);
                set_.items.push_back(
                    {.path = path, .label = c, .id = fmt::format("{}#{:032x}", path, 1000 * c + i)});
            }
        set_.fingerprint = fmt::format("{} classes of {}", classes, items_per_class);
        for (std::size_t i = 0; i < set_.items.size(); ++i)
            (i % 4 == 0 ? parts_.training : parts_.validation).push_back(i);
        study_ = ledger_.put_study("made up", metric, set_, parts_);
    }

    RunId add_run(const MadeUpRun& run) {
        const RunId id = begin_run(run);
        if (!run.environment.empty()) ledger_.begin_run(id, "", run.environment);
        for (int e = 1; e <= run.epochs; ++e) record_epoch(id, e, run);
        std::vector<PredictionRecord> predictions;
        for (std::size_t place = 0; place < parts_.validation.size(); ++place) {
            const Item& item = set_.items[parts_.validation[place]];
            const std::size_t predicted = run.predicted(item.label, place);
            const double others = (1.0 - run.confidence) / static_cast<double>(classes_ - 1);
            predictions.push_back(
                {item.id, item.label, predicted, std::vector<float>(classes_, static_cast<float>(others))});
            predictions.back().probabilities[predicted] = static_cast<float>(run.confidence);
        }
        if (run.finished) ledger_.finish_run(id, predictions);
        return id;
    }

    // Without an epoch.
    RunId begin_run(const MadeUpRun& run) {
        return ledger_.put_run(study_, {.candidate = run.candidate,
                                        .origin = run.origin,
                                        .varied = run.varied,
                                        .regime = run.regime,
                                        .seed = run.seed,
                                        .settings = run.settings,
                                        .planned_epochs = run.epochs,
                                        .batch = run.batch,
                                        .training_fraction = run.training_fraction,
                                        .parameters = 200,
                                        .trainable_parameters = run.trainable_parameters,
                                        .multiplications = run.multiplications});
    }

    // Of a run that has begun; its last epoch is the best.
    void record_epoch(RunId id, int epoch, const MadeUpRun& run = {}) {
        ConfusionMatrix matrix(classes_);
        for (std::size_t place = 0; place < parts_.validation.size(); ++place) {
            const std::size_t label = set_.items[parts_.validation[place]].label;
            matrix.add(label, run.predicted(label, place));
        }
        const std::vector<ItemPrediction> predicted = predicted_at(run, epoch, matrix);
        ledger_.record_epoch(id,
                             {{.epoch = epoch,
                               .step = 10 * epoch,
                               .training_loss = 2.0 / epoch,
                               .validation_loss = 2.2 / epoch,
                               .learning_rate = 0.1,
                               .seconds = run.seconds / run.epochs},
                              matrix},
                             epoch == run.epochs, {}, {}, predicted);
    }

    // Right with this probability, drawn from candidate, seed and item; otherwise the next class.
    std::function<std::size_t(std::size_t, std::size_t)> correct_with(double probability,
                                                                      std::uint64_t draw) const {
        return [probability, draw, classes = classes_](std::size_t label, std::size_t place) {
            RandomStream random({draw, Purpose::sample, 0, static_cast<std::uint64_t>(place)});
            return random.uniform() < probability ? label : (label + 1) % classes;
        };
    }

    // The next runs see another version of the image set.
    void change_images() {
        set_.fingerprint += ", changed";
        study_ = ledger_.put_study("made up", study().metric, set_, parts_);
    }

    // The next runs see other parts of the same images.
    void split_again(const Parts& parts) {
        parts_ = parts;
        study_ = ledger_.put_study("made up", study().metric, set_, parts_);
    }

    const Ledger& ledger() const { return ledger_.ledger(); }
    LedgerWriter& writer() { return ledger_; }
    StudyRecord study() const { return ledger().study(); }
    const std::filesystem::path& directory() const { return directory_; }
    const ImageSet& set() const { return set_; }
    const Parts& parts() const { return parts_; }
    std::size_t validation_items() const { return parts_.validation.size(); }

  private:
    std::vector<ItemPrediction> predicted_at(const MadeUpRun& run, int epoch, ConfusionMatrix& matrix) const {
        std::vector<ItemPrediction> predictions;
        if (!run.at_epoch) return predictions;
        matrix = ConfusionMatrix(classes_);
        for (std::size_t place = 0; place < parts_.validation.size(); ++place) {
            const Item& item = set_.items[parts_.validation[place]];
            const std::size_t predicted = epoch == run.epochs ? run.predicted(item.label, place)
                                                              : run.at_epoch(item.label, place, epoch);
            matrix.add(item.label, predicted);
            predictions.push_back({item.id, predicted});
        }
        return predictions;
    }

    std::filesystem::path directory_;
    LedgerWriter ledger_;
    std::size_t classes_;
    ImageSet set_;
    Parts parts_;
    StudyId study_;
};

}  // namespace jevrin::test
