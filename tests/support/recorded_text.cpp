#include "support/recorded_text.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/external/run_intake.hpp"

#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>
#include <regex>

namespace jevrin::test {
namespace {

// What a run predicts at its epochs: few items right at first.
std::function<std::size_t(std::size_t, std::size_t, int)> learning(const MadeUpStudy& study,
                                                                   std::uint64_t draw) {
    return [&study, draw](std::size_t label, std::size_t place, int epoch) {
        return study.correct_with(0.25 + 0.1 * epoch, draw + static_cast<std::uint64_t>(epoch))(label, place);
    };
}

// Trained by another program, and taken in as it reports it.
void take_in(MadeUpStudy& study, std::int64_t seed) {
    RunIntake intake(study.writer());
    const std::string split = study.ledger().split_hash(study.ledger().split_with_fold(study.study().id, 0));
    const Json statement = {
        {"split", split},           {"candidate", "large network"},
        {"regime", "partial"},      {"seed", seed},
        {"program", "elsewhere"},   {"settings", {{"learning_rate", 0.1}, {"width", 512}}},
        {"parameters", 25'000'000}, {"trainable_parameters", 9'000'000}};
    const RunId run = intake.create(read_run_statement(statement, "run.json")).run;
    const auto draw = static_cast<std::uint64_t>(seed);
    const std::size_t classes = study.set().classes.size();
    Json probabilities;
    for (const int epoch : {1, 2, 3}) {
        Json predicted = Json::array();
        probabilities = Json::array();
        for (std::size_t place = 0; place < study.parts().validation.size(); ++place) {
            const std::size_t label = study.set().items[study.parts().validation[place]].label;
            const std::size_t called = study.correct_with(0.35 + 0.14 * epoch, 410 * draw)(label, place);
            predicted.push_back(called);
            std::vector<double> row(classes, 0.1);
            row[called] = 1.0 - 0.1 * static_cast<double>(classes - 1);
            probabilities.push_back(row);
        }
        intake.add_epoch(run,
                         Json{{"epoch", epoch},
                              {"training_loss", 1.4 / epoch},
                              {"validation_loss", 1.6 / epoch},
                              {"seconds", 30.0},
                              {"predicted", predicted},
                              {"numbers", {{"gradient norm", 0.5 / epoch}}}},
                         "epoch");
    }
    intake.add_predictions(run, json_text(Json{{"probabilities", probabilities}}), PredictionForm::json,
                           "predictions");
    intake.finish(run);
}

// Long numbers with six significant digits: processors may differ in the last ones.
std::string in_six_digits(const std::string& text) {
    static const std::regex number(R"(-?\d+\.\d{6,}(e[-+]?\d+)?)");
    std::string shortened;
    auto from = text.begin();
    for (std::sregex_iterator it(text.begin(), text.end(), number); it != std::sregex_iterator(); ++it) {
        shortened.append(from, (*it)[0].first);
        shortened += fmt::format("{:.6g}", std::stod(it->str()));
        from = (*it)[0].second;
    }
    return shortened.append(from, text.end());
}

}  // namespace

void expect_recorded(const std::string& name, std::string text, const std::filesystem::path& directory) {
    text = in_six_digits(without_times(text));
    for (std::size_t at = 0; (at = text.find(directory.string(), at)) != std::string::npos;)
        text.replace(at, directory.string().size(), "DIRECTORY");
    const std::filesystem::path file =
        std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "tests/recorded" / (name + ".txt");
    if (std::getenv("JEVRIN_WRITE_RECORDED") != nullptr) {
        std::filesystem::create_directories(file.parent_path());
        write_file(file, text);
    }
    EXPECT_EQ(text, std::filesystem::exists(file) ? read_text(file) : "") << file;
}

void fill_with_everything(MadeUpStudy& study) {
    const std::string environment = R"({"processor":"a processor","threads":2,"version":"0.2.0"})";
    for (const std::int64_t seed : {1, 2, 3}) {
        const auto draw = static_cast<std::uint64_t>(seed);
        for (const auto& [rate, correct] : {std::pair("0.01", 0.62), std::pair("0.1", 0.5)})
            study.add_run(
                {.candidate = fmt::format("from scratch: learning_rate {}", rate),
                 .seed = seed,
                 .seconds = 40.0 + static_cast<double>(seed),
                 .settings = fmt::format(R"({{"training":{{"batch":16,"learning_rate":{}}}}})", rate),
                 .origin = "from scratch",
                 .varied = {{"training.learning_rate", rate}},
                 .epochs = 6,
                 .environment = environment,
                 .confidence = 0.7,
                 .at_epoch = learning(study, 10 * draw),
                 .predicted = study.correct_with(correct, 100 * draw)});
        study.add_run({.candidate = "new head",
                       .regime = Regime::frozen,
                       .seed = seed,
                       .seconds = 3.5,
                       .settings = R"({"training":{"batch":16,"learning_rate":0.02}})",
                       .epochs = 6,
                       .trainable_parameters = 12,
                       .environment = environment,
                       .confidence = 0.85,
                       .at_epoch = learning(study, 20 * draw),
                       .predicted = study.correct_with(0.8, 200 * draw)});
        study.add_run({.candidate = "last stage",
                       .regime = Regime::partial,
                       .seed = seed,
                       .seconds = 21.0,
                       .settings = R"({"training":{"batch":8,"learning_rate":0.02}})",
                       .epochs = 6,
                       .trainable_parameters = 60,
                       .environment = environment,
                       .confidence = 0.9,
                       .at_epoch = learning(study, 30 * draw),
                       .predicted = study.correct_with(0.83, 300 * draw)});
    }
    LedgerWriter& writer = study.writer();
    const auto run = [&](const std::string& name) { return study.ledger().run(study.study().id, name).id; };
    writer.put_warning(run("last stage/2"), 3, "the loss rose from 0.5 to 0.9");
    writer.add_tag(run("new head/1"), "paper");
    writer.put_note(run("new head/1"), "the one for the talk");
    for (const std::int64_t seed : {1, 2}) take_in(study, seed);
    const RunId failed = study.begin_run({.candidate = "last stage", .regime = Regime::partial, .seed = 4});
    writer.fail_run(failed, "the loss is not a number in epoch 2");
    study.add_run(
        {.candidate = "new head", .regime = Regime::frozen, .seed = 4, .epochs = 2, .finished = false});
    writer.put_mark(study.study().id,
                    {.item = study.set().items[3].id, .label = "class 002", .note = "too dark"});
    writer.put_mark(study.study().id, {.item = study.set().items[30].id, .excluded = true});
}

void fill_with_many(MadeUpStudy& study) {
    for (std::int64_t candidate = 0; candidate < 43; ++candidate)
        for (std::int64_t seed = 1; seed <= (candidate < 3 ? 4 : 1); ++seed) {
            const auto draw = static_cast<std::uint64_t>(1000 * candidate + seed);
            study.add_run(
                {.candidate = fmt::format("candidate {:02}{}", candidate,
                                          std::string(static_cast<std::size_t>(candidate), '+')),
                 .regime = names_of(Regime()).values()[static_cast<std::size_t>(candidate) % 3],
                 .seed = seed,
                 .seconds = 5.0 + static_cast<double>(candidate),
                 .settings = fmt::format(R"({{"training":{{"batch":{}}}}})", 8 + candidate),
                 .epochs = 3,
                 .trainable_parameters = 100 + candidate,
                 .confidence = 0.6,
                 .predicted = study.correct_with(0.9 - 0.008 * static_cast<double>(candidate), draw)});
        }
    LedgerWriter& writer = study.writer();
    writer.put_mark(study.study().id,
                    {.item = study.set().items[3].id,
                     .label = study.set().classes[7],
                     .note = "a note that says at length what is seen in the picture, and where it is seen"});
    writer.put_mark(study.study().id, {.item = study.set().items[4].id, .excluded = true});
}

}  // namespace jevrin::test
