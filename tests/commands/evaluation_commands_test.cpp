// What the tool says about a trained run: scores, classes, matrices, mistakes, items, suspects, thresholds;
// and what it refuses.
#include "commands/evaluated.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <cmath>
#include <sstream>

namespace jevrin {
namespace {

using test::CommandResult;
using test::Evaluated;
using test::is_picture;
using test::lines_of;
using test::read_text;
using testing::AllOf;
using testing::HasSubstr;

// A run with mistakes.
const char* const bad_run = "new head/1";

TEST_F(Evaluated, ScoresComeWithIntervalsAndBaselines) {
    const Json scores = run_json({"scores", bad_run});
    EXPECT_EQ(scores["items"], 9);
    const Json matrix = run_json({"confusion", bad_run});
    std::int64_t correct = 0;
    for (std::size_t c = 0; c < 3; ++c) correct += matrix["counts"][c][c].get<std::int64_t>();
    EXPECT_EQ(scores["correct"], correct);
    EXPECT_EQ(scores["scores"]["accuracy"]["value"], static_cast<double>(correct) / 9);
    EXPECT_EQ(scores["scores"].size(), 19U);
    for (const auto& [name, entry] : scores["scores"].items()) {
        ASSERT_TRUE(entry["interval"].is_array()) << name;
        EXPECT_LE(entry["interval"][0], entry["interval"][1]) << name;
    }
    EXPECT_DOUBLE_EQ(scores["scores"]["cross_entropy"]["random"].get<double>(), std::log(3.0));
    EXPECT_DOUBLE_EQ(scores["scores"]["accuracy"]["majority"].get<double>(), 1.0 / 3);
    EXPECT_EQ(scores["bootstrap"]["seed"], 1);
    EXPECT_EQ(run_json({"scores", bad_run, "--top-k", "3"})["scores"]["top_k"]["value"], 1.0);
    const CommandResult text = run({"scores", bad_run, "--figure", "reliability.svg"});
    EXPECT_THAT(text.output,
                AllOf(HasSubstr("9 items are few"), HasSubstr("Cohen's kappa"), HasSubstr("top-2 accuracy"),
                      HasSubstr("next: jevrin classes 'new head/1'")));
    EXPECT_TRUE(is_picture(file("reliability.svg")));
}

TEST_F(Evaluated, ScoresOfOtherPartsAndKeptEpochsAreComputed) {
    const Json training = run_json({"scores", "last stage/1", "--part", "training"});
    EXPECT_EQ(training["items"], 18);
    const Json matrix = run_json({"confusion", "last stage/1", "--epoch", "1"});
    const Json first = run_json({"scores", "last stage/1", "--epoch", "1"});
    EXPECT_EQ(first["epoch"], 1);
    std::int64_t correct = 0;
    for (std::size_t c = 0; c < 3; ++c) correct += matrix["counts"][c][c].get<std::int64_t>();
    EXPECT_EQ(first["correct"], correct);
    const CommandResult missing = run({"scores", "last stage/1", "--epoch", "9"});
    EXPECT_EQ(missing.status, 2);
    EXPECT_THAT(missing.errors, HasSubstr("keep the models of all epochs"));
}

TEST_F(Evaluated, TheTemperatureIsThatOfTheModelThatPredicted) {
    std::filesystem::copy(file("ledger"), file("warm"), std::filesystem::copy_options::recursive);
    const Ledger ledger = Ledger::open(file("warm"));
    const RunRecord run_of_it = ledger.run(StudyId{1}, bad_run);
    const std::int64_t other = run_of_it.best->epoch == 1 ? 2 : 1;
    LedgerWriter writer = LedgerWriter::open(file("warm"));
    const auto warm = [&](std::int64_t epoch, double temperature) {
        const std::filesystem::path model =
            epoch == 0 ? ledger.model_file(run_of_it.id) : ledger.model_file(run_of_it.id, epoch);
        Classifier classifier = load_classifier(model);
        classifier.temperature = temperature;
        save_classifier(model, classifier);
        writer.put_epoch_model(run_of_it.id, epoch, content_hash_of_file(model));
    };
    warm(0, 2.0);
    warm(other, 3.0);
    const auto asked = [&](std::vector<std::string> arguments) {
        arguments.insert(arguments.begin() + 1, bad_run);
        arguments.insert(arguments.end(), {"--ledger", "warm"});
        return run_json(arguments)["temperature"];
    };
    const std::string epoch = std::to_string(other);
    EXPECT_EQ(asked({"scores"})["value"], 2.0);
    EXPECT_EQ(asked({"thresholds"}), 2.0);
    EXPECT_EQ(asked({"export", "best.onnx"}), 2.0);
    EXPECT_EQ(asked({"export", "again.onnx", "--epoch", std::to_string(run_of_it.best->epoch)}), 2.0);
    EXPECT_EQ(asked({"scores", "--epoch", epoch})["value"], 3.0);
    EXPECT_EQ(asked({"thresholds", "--epoch", epoch}), 3.0);
    EXPECT_EQ(asked({"export", "other.onnx", "--epoch", epoch}), 3.0);
    ASSERT_EQ(run({"scores", bad_run, "--csv", "elsewhere.csv"}).status, 0);
    EXPECT_TRUE(asked({"scores", "--predictions", "elsewhere.csv"}).is_null());
    // The predictions of the best epoch outlive its model.
    std::filesystem::remove(ledger.model_file(run_of_it.id));
    EXPECT_TRUE(asked({"scores"}).is_null());
    EXPECT_EQ(run({"scores", bad_run, "--ledger", "warm"}).status, 0);
    const CommandResult gone = run({"thresholds", bad_run, "--ledger", "warm"});
    EXPECT_EQ(gone.status, 2);
    EXPECT_THAT(gone.errors, HasSubstr("the model file of new head/1 is missing"));
}

TEST_F(Evaluated, PredictionsMadeElsewhereAreScoredWhenInStep) {
    ASSERT_EQ(run({"scores", bad_run, "--csv", "own.csv"}).status, 0);
    const Json own = run_json({"scores", bad_run});
    EXPECT_EQ(run_json({"scores", bad_run, "--predictions", "own.csv"})["scores"], own["scores"]);
    const std::string text = read_text(file("own.csv"));
    const auto refusal = [&](const std::string& changed) {
        write_file(file("changed.csv"), changed);
        const CommandResult result = run({"scores", bad_run, "--predictions", "changed.csv"});
        EXPECT_EQ(result.status, 2);
        EXPECT_EQ(result.output, "");
        return result.errors;
    };
    const std::size_t first = text.find('\n') + 1;
    const std::size_t second = text.find('\n', first) + 1;
    const std::string row = text.substr(first, second - first);
    EXPECT_THAT(refusal(text.substr(0, first) + text.substr(second)),
                AllOf(HasSubstr("changed.csv"), HasSubstr("do not match the 9 items: 1 missing")));
    EXPECT_THAT(refusal(text + row), HasSubstr("1 given more than once"));
    EXPECT_THAT(refusal(text + "nowhere.png,across,across,1,0,0\n"),
                HasSubstr("1 of unknown items ('nowhere.png')"));
    // Paths without the hash will do, in any order.
    std::string paths = "both,down,item,across\n";
    std::istringstream lines(text.substr(first));
    for (std::string line; std::getline(lines, line);)
        paths += "0.25,0.25," + line.substr(0, line.find('#')) + ",0.5\n";
    write_file(file("paths.csv"), paths);
    EXPECT_DOUBLE_EQ(
        run_json({"scores", bad_run, "--predictions", "paths.csv"})["scores"]["accuracy"]["value"]
            .get<double>(),
        1.0 / 3);
    std::string bad = paths;
    bad.replace(bad.find("0.25,"), 4, "nan");
    EXPECT_THAT(refusal(bad), HasSubstr("outside 0 to 1"));
    bad = paths;
    bad.replace(bad.find("0.25,"), 4, "0.95");
    EXPECT_THAT(refusal(bad), HasSubstr("1 of 9 predictions do not sum to 1"));
    bad = paths;
    bad.replace(bad.find("0.25,"), 4, "much");
    EXPECT_THAT(refusal(bad), AllOf(HasSubstr("changed.csv:2"), HasSubstr("'much' is not a number")));
    bad = paths;
    bad.replace(bad.find("both"), 4, "bath");
    EXPECT_THAT(refusal(bad), HasSubstr("'both'"));
}

TEST_F(Evaluated, ClassesAreSortedAndShownAsWanted) {
    const Json classes = run_json({"classes", bad_run});
    double before = -1.0;
    std::int64_t wrong = 0;
    for (const Json& entry : classes["classes"]) {
        EXPECT_GE(entry["recall"], before);
        before = entry["recall"].get<double>();
        EXPECT_EQ(entry["support"], 3);
        EXPECT_EQ(entry["correct"].get<int>() + entry["false_negatives"].get<int>(), 3);
        wrong += entry["false_positives"].get<std::int64_t>();
    }
    EXPECT_EQ(wrong, 9 - classes["correct"].get<std::int64_t>());
    const CommandResult text = run({"classes", bad_run, "--columns", "f1,support", "--sort", "name", "--csv",
                                    "classes.csv", "--figure", "classes.png"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("most frequent confusions:"), HasSubstr("weakest classes: "),
                                   HasSubstr("next: jevrin mistakes 'new head/1' --true")));
    EXPECT_TRUE(read_text(file("classes.csv")).starts_with("class,f1,support\nacross,"));
    EXPECT_TRUE(is_picture(file("classes.png")));
    const std::string last = run({"classes", bad_run, "--sort", "name", "--reverse", "--most", "1"}).output;
    EXPECT_THAT(last, AllOf(HasSubstr("\ndown "), HasSubstr("... and 2 more classes")));
    EXPECT_THAT(run({"classes", bad_run, "--columns", "recal"}).errors, HasSubstr("did you mean 'recall'"));
}

TEST_F(Evaluated, MatricesAreAddedUpSharedAndWritten) {
    const Json first = run_json({"confusion", "new head/1"});
    const Json second = run_json({"confusion", "new head/2"});
    const Json both = run_json({"confusion", "new head", "--fractions", "predicted"});
    EXPECT_EQ(both["runs"], (Json::array({"new head/1", "new head/2"})));
    for (std::size_t i = 0; i < 3; ++i)
        for (std::size_t j = 0; j < 3; ++j)
            EXPECT_EQ(both["counts"][i][j],
                      first["counts"][i][j].get<int>() + second["counts"][i][j].get<int>());
    for (std::size_t j = 0; j < 3; ++j) {
        double column = 0.0;
        for (std::size_t i = 0; i < 3; ++i) column += both["fractions"][i][j].get<double>();
        EXPECT_TRUE(std::abs(column - 1.0) < 1e-9 || column == 0.0);
    }
    const CommandResult text = run({"confusion", bad_run, "--fractions", "true", "--csv", "m.csv", "--figure",
                                    "m.svg", "--strip", "strip.png"});
    EXPECT_EQ(text.status, 0) << text.errors;
    EXPECT_TRUE(read_text(file("m.csv")).starts_with("true,across,both,down\nacross,"));
    EXPECT_TRUE(is_picture(file("m.svg")));
    EXPECT_TRUE(is_picture(file("strip.png")));
    EXPECT_THAT(run({"confusion", "new head", "--strip", "x.png"}).errors, HasSubstr("name one run"));
}

TEST_F(Evaluated, MistakesAreThoseOfTheMatrix) {
    const Json matrix = run_json({"confusion", bad_run});
    const Json all = run_json({"mistakes", bad_run});
    const Json correct = run_json({"mistakes", bad_run, "--show", "correct"});
    EXPECT_EQ(all["mistakes"].size() + correct["mistakes"].size(), 9U);
    double before = 2.0;
    for (const Json& mistake : all["mistakes"]) {
        EXPECT_NE(mistake["label"], mistake["predicted"]);
        EXPECT_LE(mistake["confidence"], before);
        before = mistake["confidence"].get<double>();
    }
    for (const Json& item : correct["mistakes"]) EXPECT_EQ(item["label"], item["predicted"]);
    const std::vector<std::string> names = {"across", "both", "down"};
    for (std::size_t i = 0; i < 3; ++i)
        for (std::size_t j = 0; j < 3; ++j)
            EXPECT_EQ(run_json({"mistakes", bad_run, "--show", "all", "--true", names[i], "--predicted",
                                names[j]})["selected"],
                      matrix["counts"][i][j]);
    before = 1e9;
    const Json by_loss = run_json({"mistakes", bad_run, "--by", "loss"});
    for (const Json& mistake : by_loss["mistakes"]) {
        EXPECT_LE(mistake["loss"], before);
        before = mistake["loss"].get<double>();
    }
    const auto random = [&](const std::string& seed) {
        return run_json({"mistakes", bad_run, "--show", "all", "--by", "random", "--seed", seed})["mistakes"];
    };
    EXPECT_EQ(random("1"), random("1"));
    EXPECT_NE(random("1"), random("2"));
    const CommandResult text =
        run({"mistakes", bad_run, "--most", "2", "--sheet", "sheet.png", "--csv", "mistakes.csv"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("and 4 more"), HasSubstr("next: jevrin show 'new head/1'")));
    EXPECT_TRUE(is_picture(file("sheet.png")));
    EXPECT_EQ(lines_of(read_text(file("mistakes.csv"))), 1 + all["mistakes"].size());
    EXPECT_THAT(run({"mistakes", bad_run, "--true", "accross"}).errors, HasSubstr("did you mean 'across'"));
}

TEST_F(Evaluated, OneItemIsShownInFull) {
    const Json mistake = run_json({"mistakes", bad_run})["mistakes"][0];
    const Json item = run_json({"show", bad_run, mistake["item"].get<std::string>(), "--neighbours", "4"});
    EXPECT_EQ(item["part"], "validation");
    EXPECT_EQ(item["predicted"], mistake["predicted"]);
    double sum = 0.0;
    double before = 1.0;
    for (const Json& entry : item["probabilities"]) {
        EXPECT_LE(entry["probability"], before);
        before = entry["probability"].get<double>();
        sum += before;
    }
    EXPECT_NEAR(sum, 1.0, 1e-5);
    EXPECT_EQ(item["probabilities"][0]["probability"], mistake["confidence"]);
    ASSERT_EQ(item["neighbours"].size(), 4U);
    EXPECT_GE(item["neighbours"][0]["similarity"], item["neighbours"][3]["similarity"]);
    EXPECT_LE(item["neighbours"][0]["similarity"], 1.000001);
    const CommandResult text =
        run({"show", bad_run, mistake["item"].get<std::string>(), "--sheet", "item.png"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("<- label"), HasSubstr("have the same label")));
    EXPECT_TRUE(is_picture(file("item.png")));
    EXPECT_THAT(run({"show", bad_run, "across/nothing.png"}).errors, HasSubstr("no item is called"));
    const Ledger ledger = Ledger::open(file("ledger"));
    const std::string sealed = ledger.items(ledger.run(StudyId{1}, bad_run).id, Part::test).front().id;
    EXPECT_THAT(run({"show", bad_run, sealed.substr(0, sealed.find('#'))}).errors, HasSubstr("sealed"));
}

TEST_F(Evaluated, SuspectsAreJudgedOutOfFoldAndCanBeMarked) {
    const Json by_features = run_json({"suspects"});
    EXPECT_EQ(by_features["items"], 27);  // training and validation
    EXPECT_THAT(by_features["source"].get<std::string>(), HasSubstr("frozen features of new head"));
    const Json recorded = run_json({"suspects", "last stage", "--recorded"});
    EXPECT_EQ(recorded["items"], 9);
    double before = 0.0;
    for (const Json& suspect : recorded["suspects"]) {
        EXPECT_GE(suspect["label_probability"], before);
        before = suspect["label_probability"].get<double>();
        EXPECT_NE(suspect["label"], suspect["proposed"]);
    }
    const CommandResult marked =
        run({"suspects", "new head/1", "--recorded", "--mark", "2", "--sheet", "suspects.png"});
    EXPECT_EQ(marked.status, 0) << marked.errors;
    EXPECT_TRUE(is_picture(file("suspects.png")));
    const Json suspects = run_json({"suspects", "new head/1", "--recorded"})["suspects"];
    const Json marks = run_json({"marks", "list"});
    EXPECT_EQ(marks.size(), std::min<std::size_t>(2, suspects.size()));
    EXPECT_EQ(marked.output.find("marked for review") != std::string::npos, !marks.empty());
    for (const Json& mark : marks) {
        EXPECT_TRUE(mark["proposed"].is_null());
        EXPECT_EQ(run({"marks", "remove", mark["item"].get<std::string>()}).status, 0);
    }
    EXPECT_THAT(run({"suspects", "nobody"}).errors, HasSubstr("no run or candidate is called 'nobody'"));
}

TEST_F(Evaluated, SuspectsAreNotJudgedByRunsThatAreNotFinished) {
    std::filesystem::copy(file("ledger"), file("partly"), std::filesystem::copy_options::recursive);
    {
        LedgerWriter ledger = LedgerWriter::open(file("partly"));
        ledger.fail_run(ledger.ledger().run(StudyId{1}, "last stage/1").id, "it was stopped");
    }
    const CommandResult named = run({"suspects", "new head", "last stage/1", "--ledger", "partly"});
    EXPECT_EQ(named.status, 2);
    EXPECT_THAT(named.errors, HasSubstr("'last stage/1' is not finished"));
    EXPECT_EQ(run({"suspects", "--ledger", "partly"}).status, 0);
}

TEST_F(Evaluated, ThresholdsMeetWhatIsWanted) {
    const Json report =
        run_json({"thresholds", bad_run, "--precision", "0.6", "--recall", "0.5", "--accuracy", "0.3"});
    for (const Json& one : report["classes"]) {
        if (!one["of_precision"].is_null()) {
            EXPECT_GE(one["of_precision"]["precision"], 0.6);
        }
        ASSERT_FALSE(one["of_recall"].is_null());
        EXPECT_GE(one["of_recall"]["recall"], 0.5);
    }
    EXPECT_EQ(report["coverage"].back()["answered"], 9);
    EXPECT_GE(report["of_accuracy"]["accuracy"], 0.3);
    const CommandResult text =
        run({"thresholds", bad_run, "--class", "both", "--csv", "points.csv", "--figure", "thresholds.png"});
    EXPECT_THAT(text.output, AllOf(HasSubstr("recall of at least 0.9: threshold of both"),
                                   HasSubstr("accuracy by confidence threshold")));
    EXPECT_TRUE(read_text(file("points.csv"))
                    .starts_with("class,threshold,precision,recall,false_positive_rate\nboth,"));
    EXPECT_TRUE(is_picture(file("thresholds.png")));
    EXPECT_EQ(run({"thresholds", bad_run, "--precision", "1.5"}).status, 2);
}

}  // namespace
}  // namespace jevrin
