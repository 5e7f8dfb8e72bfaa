// A made-up study that takes in runs trained elsewhere.
#pragma once

#include "support/made_up_study.hpp"

#include "jevrin/external/run_intake.hpp"

#include <functional>

namespace jevrin::test {

// Three classes of six validation items, in the order of the image set: class 000, then 001, then 002.
class Intake : public testing::Test {
  protected:
    static constexpr std::size_t classes = 3;
    static constexpr std::size_t items = 18;

    Json run_json(const std::string& candidate = "large network", std::int64_t seed = 1) {
        return {{"split", split()},         {"candidate", candidate},
                {"regime", "partial"},      {"seed", seed},
                {"program", "elsewhere"},   {"settings", {{"learning_rate", 0.1}, {"width", 512}}},
                {"parameters", 25'000'000}, {"trainable_parameters", 9'000'000}};
    }
    RunStatement statement(const std::string& candidate = "large network", std::int64_t seed = 1) {
        return read_run_statement(run_json(candidate, seed), "run.json");
    }
    std::string split() {
        return study_.ledger().split_hash(study_.ledger().split_with_fold(study_.study().id, 0));
    }
    // The first `wrong` items of class 002 are called class 001.
    static std::vector<std::size_t> predicted(std::size_t wrong) {
        std::vector<std::size_t> classes_of_items;
        for (std::size_t i = 0; i < items; ++i)
            classes_of_items.push_back(i / 6 == 2 && i - 12 < wrong ? 1 : i / 6);
        return classes_of_items;
    }
    static Json epoch_json(std::int64_t epoch, std::size_t wrong) {
        return {{"epoch", epoch},
                {"step", 10 * epoch},
                {"training_loss", 1.0 / static_cast<double>(epoch)},
                {"validation_loss", 1.5 / static_cast<double>(epoch)},
                {"learning_rate", 0.1},
                {"seconds", 2.5},
                {"predicted", predicted(wrong)},
                {"numbers", {{"gradient norm", 0.5}}}};
    }
    static Json probabilities_json(std::size_t wrong) {
        Json rows = Json::array();
        for (const std::size_t one : predicted(wrong)) {
            std::vector<double> row(classes, 0.1);
            row[one] = 0.8;
            rows.push_back(row);
        }
        return {{"probabilities", rows}};
    }
    std::string csv(std::size_t wrong) {
        std::string text = "item,class 001,class 000,class 002\n";
        const std::vector<std::size_t> classes_of_items = predicted(wrong);
        const std::vector<std::size_t>& validation = study_.parts().validation;
        for (std::size_t i = validation.size(); i-- > 0;) {  // in any order
            const auto p = [&](std::size_t c) { return classes_of_items[i] == c ? "0.8" : "0.1"; };
            text += fmt::format("{},{},{},{}\n", study_.set().items[validation[i]].path, p(1), p(0), p(2));
        }
        return text;
    }
    RunId taken(const std::string& candidate, std::int64_t seed, std::size_t wrong) {
        const RunId run = intake_.create(statement(candidate, seed)).run;
        for (std::int64_t e = 1; e <= 3; ++e)
            intake_.add_epoch(run, epoch_json(e, e == 3 ? wrong : 6), fmt::format("epoch {}", e));
        intake_.add_predictions(run, json_text(probabilities_json(wrong)), PredictionForm::json,
                                "predictions");
        intake_.finish(run);
        return run;
    }
    RunRecord record(RunId run) { return study_.ledger().run_by_id(run); }
    std::string refused(const std::function<void()>& call) { return message_of<InputError>(call); }

    TemporaryDirectory directory_;
    MadeUpStudy study_{directory_.path(), classes, 8};
    RunIntake intake_{study_.writer()};
};

}  // namespace jevrin::test
