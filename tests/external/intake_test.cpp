// Runs that were trained elsewhere: taken in piece by piece, held against the parts, refused when they do not
// fit.
#include "external/intake.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/comparison/diagnosis.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/external/parts_list.hpp"
#include "jevrin/results/runs_result.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

namespace jevrin {
namespace {

using test::Intake;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::Not;

TEST_F(Intake, ARunTakenInStandsBesideOurs) {
    for (const std::int64_t seed : {1, 2, 3}) {
        study_.add_run(
            {.candidate = "ours", .seed = seed, .predicted = [](std::size_t label, std::size_t place) {
                 return place % 3 == 0 ? 0 : label;
             }});
        taken("theirs", seed, static_cast<std::size_t>(seed));
    }
    const Ledger& ledger = study_.ledger();
    const RunRecord run = ledger.run(study_.study().id, "theirs/2");
    EXPECT_EQ(run.state, RunState::finished);
    EXPECT_EQ(run.regime, Regime::partial);
    ASSERT_TRUE(run.external.has_value());
    EXPECT_EQ(run.external->program, "elsewhere");
    EXPECT_EQ(run.epochs, 3);
    EXPECT_EQ(run.best->epoch, 3);
    EXPECT_DOUBLE_EQ(run.best->validation_scores[Metric::accuracy], 16.0 / 18.0);
    EXPECT_DOUBLE_EQ(run.seconds, 7.5);
    EXPECT_FALSE(ledger.run(study_.study().id, "ours/2").external.has_value());
    EXPECT_EQ(ledger.epoch_predictions(run.id).size(), 3U);
    EXPECT_EQ(ledger.external_epoch(run.id, 2)->numbers, R"({"gradient norm":0.5})");
    const PartPredictions predictions = predict_part(ledger, study_.study(), run, Part::validation);
    EXPECT_EQ(predictions.table.items(), items);
    // The choice ranks all of them, by what each costs.
    const Choice choice = choose(ledger, study_.study(), {.cost = Cost::trained_parameters});
    ASSERT_EQ(choice.ranking.size(), 2U);
    EXPECT_EQ(choice.chosen, "theirs");
    EXPECT_EQ(choice.ranking.front().candidate, "theirs");
}

TEST_F(Intake, EpochsComeInAnyOrderAndAsOftenAsTheyLike) {
    const RunId run = intake_.create(statement()).run;
    EXPECT_TRUE(intake_.add_epoch(run, epoch_json(3, 1), "e"));
    EXPECT_TRUE(intake_.add_epoch(run, epoch_json(2, 4), "e"));
    EXPECT_EQ(record(run).epochs, 0);
    EXPECT_THAT(intake_.state(run).waiting, ElementsAre(2, 3));
    EXPECT_THAT(refused([&] { intake_.finish(run); }),
                HasSubstr("epoch 1 of 'large network/1' has not come"));
    EXPECT_THAT(refused([&] { intake_.add_epoch(run, epoch_json(1001, 1), "e"); }),
                HasSubstr("at most 1000 wait"));
    // Another process, after a restart, goes on with what waits.
    LedgerWriter writer = LedgerWriter::open(directory_.path());
    RunIntake later(writer);
    EXPECT_FALSE(later.create(statement()).is_new);
    EXPECT_TRUE(later.add_epoch(run, epoch_json(1, 6), "e"));
    EXPECT_EQ(record(run).epochs, 3);
    EXPECT_THAT(later.state(run).waiting, IsEmpty());
    const auto best = study_.ledger().epochs(run, {3, 3}).front();
    EXPECT_EQ(best.validation.at(2, 1), 1);
    EXPECT_EQ(best.validation.at(2, 2), 5);
    for (const std::int64_t epoch : {1, 2, 3})
        EXPECT_FALSE(later.add_epoch(run, epoch_json(epoch, epoch == 1 ? 6 : epoch == 2 ? 4 : 1), "e"));
    EXPECT_THAT([&] { later.add_epoch(run, epoch_json(2, 5), "line 7"); },
                testing::ThrowsMessage<ConflictError>(HasSubstr("line 7: epoch 2 is recorded already")));
    EXPECT_TRUE(later.add_predictions(run, csv(1), PredictionForm::csv, "p.csv"));
    EXPECT_FALSE(later.add_predictions(run, csv(1), PredictionForm::csv, "p.csv"));
    EXPECT_TRUE(later.finish(run));
    EXPECT_FALSE(later.finish(run));
    // Late repetitions are answered; what is new is not.
    EXPECT_FALSE(later.add_epoch(run, epoch_json(1, 6), "e"));
    EXPECT_THROW(later.add_epoch(run, epoch_json(4, 0), "e"), ConflictError);
    EXPECT_THROW(later.fail(run, "out of memory"), ConflictError);
    EXPECT_EQ(study_.ledger().curve(run).size(), 3U);
}

TEST_F(Intake, EpochsThatDoNotFitAreRefusedWithTheirCure) {
    const RunId run = intake_.create(statement()).run;
    const auto with = [&](const std::string& key, Json value) {
        Json json = epoch_json(1, 2);
        json[key] = std::move(value);
        return refused([&] { intake_.add_epoch(run, json, "epochs.jsonl:4"); });
    };
    EXPECT_THAT(with("epoch", 0), AllOf(HasSubstr("epochs.jsonl:4: 'epoch'"), HasSubstr("from 1 on")));
    EXPECT_THAT(with("epoch", nullptr), HasSubstr("'epoch' is missing"));
    EXPECT_THAT(with("training_loss", "low"), HasSubstr("'training_loss' is no number"));
    EXPECT_THAT(with("training_los", 1.0), HasSubstr("did you mean 'training_loss'?"));
    EXPECT_THAT(with("learning_rate", -1), HasSubstr("'learning_rate' is no number from 0 on"));
    EXPECT_THAT(with("predicted", std::vector<int>(17, 0)), HasSubstr("17 classes for 18 items"));
    EXPECT_THAT(with("predicted", std::vector<int>(18, 3)), HasSubstr("places of classes are 0 to 2"));
    EXPECT_THAT(with("predicted", std::vector<std::string>(18, "clas 000")),
                HasSubstr("did you mean 'class 000'?"));
    EXPECT_THAT(with("confusion", Json::array({Json::array({6, 0, 0})})), HasSubstr("3 rows with 3 counts"));
    EXPECT_THAT(with("confusion",
                     Json::array({Json::array({5, 0, 0}), Json::array({0, 6, 0}), Json::array({0, 0, 6})})),
                HasSubstr("counts 5 items of class 'class 000'; the validation part has 6"));
    EXPECT_THAT(with("confusion",
                     Json::array({Json::array({6, 0, 0}), Json::array({0, 6, 0}), Json::array({0, 0, 6})})),
                HasSubstr("differs from what else is stated"));
    EXPECT_THAT(with("confusion_cells", Json::array({Json::array({"class 000", 9, 6})})),
                HasSubstr("0 to 2"));
    EXPECT_THAT(with("scores", {{"accuracy", 0.95}}),
                HasSubstr("claims accuracy 0.9500; the counts give 0.8889"));
    EXPECT_THAT(with("scores", {{"accuracy", 1.2}}), HasSubstr("'accuracy' is no number from 0 to 1"));
    EXPECT_THAT(with("scores", {{"acuracy", 0.9}}), HasSubstr("did you mean 'accuracy'?"));
    EXPECT_THAT(with("numbers", {{"a", "b"}}), HasSubstr("'numbers.a' is no number"));
    EXPECT_THAT(with("predicted", nullptr), HasSubstr("nothing says how good the epoch is"));
    EXPECT_EQ(record(run).epochs, 0);
    EXPECT_THAT(study_.ledger().external_epochs(run), IsEmpty());
    // Of every epoch, or of none.
    intake_.add_epoch(run, epoch_json(1, 2), "e");
    Json without = epoch_json(2, 2);
    without["predicted"] = nullptr;
    without["scores"] = {{"accuracy", 0.9}};
    EXPECT_THAT(refused([&] { intake_.add_epoch(run, without, "e"); }),
                HasSubstr("of every epoch or of none"));
}

TEST_F(Intake, PredictionsThatDoNotFitAreRefusedWithTheirLine) {
    const RunId run = intake_.create(statement()).run;
    const auto refuse = [&](const std::string& text, PredictionForm form) {
        return refused([&] { intake_.add_predictions(run, text, form, "p"); });
    };
    std::string text = csv(0);
    const auto replaced = [&](const std::string& from, const std::string& to) {
        std::string changed = text;
        changed.replace(changed.find(from), from.size(), to);
        return changed;
    };
    const std::string last = "class 002/0007.png";
    EXPECT_THAT(refuse(replaced(last, "class 002/0009.png"), PredictionForm::csv),
                AllOf(HasSubstr("p:2:"), HasSubstr("no item of the validation part")));
    EXPECT_THAT(refuse(replaced(last, "class 002/0006.png"), PredictionForm::csv),
                AllOf(HasSubstr("p:3:"), HasSubstr("predicted in line 2 already")));
    EXPECT_THAT(refuse(replaced(last, "class 002/0000.png"), PredictionForm::csv),
                HasSubstr("no item of the validation"));
    EXPECT_THAT(refuse(text.substr(0, text.rfind("class 000/")), PredictionForm::csv),
                HasSubstr("1 item of the validation part is not predicted"));
    EXPECT_THAT(refuse(replaced("0.8", "0.9"), PredictionForm::csv), HasSubstr("sum"));
    EXPECT_THAT(refuse(replaced("0.8", "nan"), PredictionForm::csv), HasSubstr("p"));
    EXPECT_THAT(refuse(replaced("0.8", "high"), PredictionForm::csv), HasSubstr("'high' is not a number"));
    EXPECT_THAT(refuse(replaced("class 002", "class 2"), PredictionForm::csv), HasSubstr("class 002"));
    EXPECT_THAT(refuse(R"({"probabilities": [[0.1, 0.9]]})", PredictionForm::json),
                HasSubstr("1 row for 18 items"));
    EXPECT_THAT(refuse(R"({"probabilities": 1, "probabilities": 2})", PredictionForm::json),
                HasSubstr("stands twice"));
    EXPECT_THAT(refuse("\x93NUMPY", PredictionForm::npy), HasSubstr("p: "));
    EXPECT_THAT(study_.ledger().predictions(run, Part::validation), IsEmpty());
    EXPECT_THAT(refused([&] { intake_.finish(run); }), HasSubstr("neither epochs nor predictions"));
}

TEST_F(Intake, PredictionsOfAnotherEpochAreNoticed) {
    const RunId run = intake_.create(statement()).run;
    intake_.add_epoch(run, epoch_json(1, 1), "e");
    intake_.add_epoch(run, epoch_json(2, 3), "e");
    intake_.add_predictions(run, csv(3), PredictionForm::csv, "p.csv");
    EXPECT_THAT(refused([&] { intake_.finish(run); }),
                AllOf(HasSubstr("15 are right"), HasSubstr("17 by the counts of epoch 1, the best one")));
    EXPECT_EQ(record(run).state, RunState::training);
    EXPECT_THAT(refused([&] { intake_.finish(run, 3); }), HasSubstr("has 2 epochs"));
    intake_.finish(run, 2);
    EXPECT_EQ(record(run).best->epoch, 2);
}

TEST_F(Intake, ClaimsWithoutPredictionsStayClaims) {
    study_.add_run({.candidate = "ours"});
    study_.add_run({.candidate = "ours", .seed = 2});
    const RunId run = intake_.create(statement("claimed")).run;
    for (const std::int64_t epoch : {1, 2}) {
        Json json = epoch_json(epoch, 0);
        json.erase("predicted");
        json.erase("seconds");
        json["scores"] = {{"accuracy", 0.5 + 0.2 * static_cast<double>(epoch)}};
        intake_.add_epoch(run, json, "e");
    }
    intake_.finish(run);
    const RunRecord claimed = record(run);
    EXPECT_EQ(claimed.state, RunState::unverified);
    EXPECT_EQ(claimed.best->epoch, 2);
    EXPECT_DOUBLE_EQ(claimed.best->validation_scores[Metric::accuracy], 0.9);
    EXPECT_TRUE(std::isnan(claimed.best->validation_scores[Metric::macro_f1]));
    EXPECT_TRUE(std::isnan(claimed.seconds));
    EXPECT_THAT(refused([&] { require_finished(claimed); }), HasSubstr("claimed"));
    // Shown as what it is, and not chosen.
    const RunsResult runs = report_runs(study_.ledger(), study_.study());
    EXPECT_THAT(to_text(runs), HasSubstr("unverified"));
    const Choice choice = choose(study_.ledger(), study_.study());
    ASSERT_EQ(choice.ranking.size(), 1U);
    EXPECT_EQ(choice.chosen, "ours");
}

TEST_F(Intake, PredictionsMakeClaimsTrueOrSayWhatIsTrue) {
    const RunId run = intake_.create(statement("claimed")).run;
    Json json = epoch_json(1, 0);
    json.erase("predicted");
    json["scores"] = {{"accuracy", 0.99}};
    intake_.add_epoch(run, json, "e");
    intake_.add_predictions(run, csv(2), PredictionForm::csv, "p.csv");
    intake_.finish(run);
    EXPECT_DOUBLE_EQ(record(run).best->validation_scores[Metric::accuracy], 16.0 / 18.0);
    EXPECT_EQ(record(run).best->validation.at(2, 1), 2);
    const auto warnings = study_.ledger().warnings(run);
    ASSERT_EQ(warnings.size(), 1U);
    EXPECT_THAT(warnings[0].message,
                HasSubstr("claims accuracy 0.9900 for this epoch; its predictions give 0.8889"));
}

TEST_F(Intake, RowsAndColumnsComeInTheOrderThatIsStated) {
    Json json = run_json("other order");
    std::vector<std::string> names;
    for (const std::size_t i : study_.parts().validation) names.push_back(study_.set().items[i].path);
    std::reverse(names.begin(), names.end());
    json["items"] = names;
    json["classes"] = std::vector<std::string>{"class 002", "class 000", "class 001"};
    const RunId run = intake_.create(read_run_statement(json, "run.json")).run;
    // float64, first index fastest: [18, 3] with the columns and rows as stated.
    const std::vector<std::size_t> classes_of_items = predicted(2);
    std::string header = "{'descr': '<f8', 'fortran_order': True, 'shape': (18, 3), }";
    header.resize(118 - 1, ' ');
    header += '\n';
    std::string npy = std::string("\x93NUMPY\x01\x00", 8) + static_cast<char>(header.size()) + '\0' + header;
    const std::size_t column_classes[] = {2, 0, 1};
    for (const std::size_t c : column_classes)
        for (std::size_t i = items; i-- > 0;) {
            const double p = classes_of_items[i] == c ? 0.8 : 0.1;
            npy.append(reinterpret_cast<const char*>(&p), sizeof(p));
        }
    intake_.add_predictions(run, npy, PredictionForm::npy, "p.npy");
    Json epoch = epoch_json(1, 0);
    epoch["predicted"] = nullptr;
    // Rows and columns of the matrix in the stated order of the classes: class 002 first.
    epoch["confusion"] =
        Json::array({Json::array({4, 0, 2}), Json::array({0, 6, 0}), Json::array({0, 0, 6})});
    intake_.add_epoch(run, epoch, "e");
    intake_.finish(run);
    EXPECT_EQ(record(run).best->validation.at(2, 1), 2);
    EXPECT_THAT(study_.ledger().warnings(run), IsEmpty());
    // What names an unknown item, one twice, or no class of the study is refused before anything is recorded.
    const auto refuse = [&](const std::string& key, const std::vector<std::string>& value) {
        Json bad = run_json("refused");
        bad[key] = value;
        return refused([&] { intake_.create(read_run_statement(bad, "run.json")); });
    };
    names[0] = names[1];
    EXPECT_THAT(refuse("items", names), HasSubstr("0006"));
    EXPECT_THAT(refuse("items", {"class 000/0001.png"}), HasSubstr("17"));
    EXPECT_THAT(refuse("classes", {"class 000", "class 001", "class 3"}), HasSubstr("no class of the study"));
    EXPECT_THAT(refuse("classes", {"class 000", "class 001", "class 001"}), HasSubstr("stands twice"));
    EXPECT_THAT(study_.ledger().candidates(study_.study().id), ElementsAre("other order"));
}

TEST_F(Intake, AnotherOrderOfTheClassesIsSuspected) {
    const RunId run = intake_.create(statement()).run;
    Json rows = Json::array();
    for (const std::size_t one : predicted(0)) {
        std::vector<double> row(classes, 0.0);
        row[(one + 1) % classes] = 1.0;
        rows.push_back(row);
    }
    intake_.add_predictions(run, json_text({{"probabilities", rows}}), PredictionForm::json, "p");
    intake_.finish(run);
    const auto warnings = study_.ledger().warnings(run);
    ASSERT_EQ(warnings.size(), 1U);
    EXPECT_THAT(warnings[0].message, AllOf(HasSubstr("0 of 18 items are right, and 18 would be"),
                                           HasSubstr("'class 000' is mostly called 'class 001'")));
}

// The same statement twice is a repetition; one that differs in anything is another, and refused.
TEST_F(Intake, ARunOrAnEpochThatDiffersAnywhereIsAnother) {
    Json whole = run_json("whole");
    whole.update({{"fold", 0},
                  {"hardware", "two processors"},
                  {"planned_epochs", 9},
                  {"batch", 32},
                  {"training_fraction", 0.5},
                  {"multiplications", 1'000},
                  {"prediction_cost", {{"milliseconds", 2.5}, {"batch_milliseconds", 20}, {"bytes", 4096}}},
                  {"preparation",
                   {{"size", {24, 32}},
                    {"fit", "crop"},
                    {"channels", 3},
                    {"mean", {0.1, 0.2, 0.3}},
                    {"deviation", {0.4, 0.5, 0.6}}}}});
    const RunId run = intake_.create(read_run_statement(whole, "r")).run;
    EXPECT_FALSE(intake_.create(read_run_statement(whole, "r")).is_new);
    for (const char* change :
         {R"({"settings": {}})", R"({"program": "another"})", R"({"hardware": "one processor"})",
          R"({"planned_epochs": 8})", R"({"batch": 31})", R"({"training_fraction": 0.25})",
          R"({"parameters": 25000001})", R"({"trainable_parameters": 9000001})",
          R"({"multiplications": 999})",
          R"({"prediction_cost": {"milliseconds": 2.6, "batch_milliseconds": 20, "bytes": 4096}})",
          R"({"prediction_cost": {"milliseconds": 2.5, "batch_milliseconds": 21, "bytes": 4096}})",
          R"({"prediction_cost": {"milliseconds": 2.5, "batch_milliseconds": 20, "bytes": 4097}})"}) {
        Json other = whole;
        other.update(parse_json(change));
        EXPECT_THROW(intake_.create(read_run_statement(other, "r")), ConflictError) << change;
    }
    for (const char* change :
         {R"({"size": [32, 24]})", R"({"fit": "stretch"})", R"({"mean": [0.1, 0.2, 0.4]})",
          R"({"mean": [0.2, 0.2, 0.3]})", R"({"deviation": [0.4, 0.5, 0.7]})",
          R"({"channels": 1, "mean": [0.1], "deviation": [0.4]})"}) {
        Json other = whole;
        other["preparation"].update(parse_json(change));
        EXPECT_THROW(intake_.create(read_run_statement(other, "r")), ConflictError) << change;
    }

    Json scored = epoch_json(1, 2);
    scored["training_scores"] = {{"accuracy", 0.9}, {"balanced_accuracy", 0.8}, {"macro_f1", 0.7}};
    Json claimed = scored;
    claimed.erase("predicted");
    claimed["scores"] = {{"accuracy", 0.6}, {"balanced_accuracy", 0.5}, {"macro_f1", 0.4}};
    const RunId claims = intake_.create(statement("claims")).run;
    for (const auto& [of, epoch] : {std::pair(run, scored), std::pair(claims, claimed)}) {
        EXPECT_TRUE(intake_.add_epoch(of, epoch, "e"));
        EXPECT_FALSE(intake_.add_epoch(of, epoch, "e"));
        for (const char* change :
             {R"({"step": 11})", R"({"training_loss": 0.5})", R"({"validation_loss": 0.5})",
              R"({"learning_rate": 0.2})", R"({"learning_rate": null})", R"({"seconds": 2.6})",
              R"({"training_scores": {"accuracy": 0.8, "balanced_accuracy": 0.8, "macro_f1": 0.7}})",
              R"({"training_scores": {"accuracy": 0.9, "balanced_accuracy": 0.9, "macro_f1": 0.7}})",
              R"({"training_scores": {"accuracy": 0.9, "balanced_accuracy": 0.8}})",
              R"({"numbers": {"gradient norm": 0.6}})", R"({"numbers": {"gradient sum": 0.5}})",
              R"({"numbers": {}})", R"({"numbers": {"gradient norm": 0.5, "other": 1}})"}) {
            Json other = epoch;
            other.update(parse_json(change));
            if (parse_json(change).contains("learning_rate") && other["learning_rate"].is_null())
                other.erase("learning_rate");
            EXPECT_THROW(intake_.add_epoch(of, other, "e"), ConflictError) << change;
        }
    }
    for (const char* change :
         {R"({"accuracy": 0.7})", R"({"balanced_accuracy": 0.7})", R"({"macro_f1": 0.7})"}) {
        Json other = claimed;
        other["scores"].update(parse_json(change));
        EXPECT_THROW(intake_.add_epoch(claims, other, "e"), ConflictError) << change;
    }
    // As many right, and other items.
    Json other = scored;
    std::vector<std::size_t> items_called = predicted(2);
    std::swap(items_called[12], items_called[17]);
    other["predicted"] = items_called;
    EXPECT_THROW(intake_.add_epoch(run, other, "e"), ConflictError);
}

TEST_F(Intake, NamesAreNotTakenTwice) {
    const RunId run = intake_.create(statement()).run;
    EXPECT_EQ(intake_.create(statement()).run, run);
    Json other = run_json();
    other["batch"] = 64;
    EXPECT_THROW(intake_.create(read_run_statement(other, "r")), ConflictError);
    study_.add_run({.candidate = "ours", .regime = Regime::partial});
    study_.add_run({.candidate = "another"});
    EXPECT_THAT(refused([&] { intake_.create(statement("another", 2)); }),
                HasSubstr("a candidate has one regime"));
    EXPECT_THAT([&] { intake_.create(statement("ours")); },
                testing::ThrowsMessage<ConflictError>(HasSubstr("was trained here")));
    EXPECT_THAT(refused([&] { study_.add_run({.candidate = "large network"}); }),
                HasSubstr("was trained elsewhere"));
    EXPECT_THROW(
        intake_.add_epoch(study_.ledger().run(study_.study().id, "ours/1").id, epoch_json(1, 0), "e"),
        ConflictError);
    // An archived one keeps what it has, and its name.
    intake_.add_epoch(run, epoch_json(1, 2), "e");
    study_.writer().put_archived(run, true);
    EXPECT_THAT(refused([&] { intake_.create(statement()); }), HasSubstr("archived run 'large network/1'"));
    EXPECT_EQ(study_.ledger().curve(run).size(), 1U);
    study_.writer().put_archived(run, false);
    // A deleted one can come again.
    study_.writer().delete_run(run);
    EXPECT_TRUE(intake_.create(statement()).is_new);
    EXPECT_EQ(record(run).epochs, 0);
}

TEST_F(Intake, StatementsAreReadStrictly) {
    const auto with = [&](const std::string& key, Json value) {
        Json json = run_json();
        json[key] = std::move(value);
        return refused([&] { intake_.create(read_run_statement(json, "run.json")); });
    };
    EXPECT_THAT(with("split", "abc"), HasSubstr("knows no split 'abc'"));
    EXPECT_THAT(with("split", nullptr), HasSubstr("run.json: 'split' is missing"));
    EXPECT_THAT(with("candidate", "a/b"), HasSubstr("'candidate' holds '/'"));
    EXPECT_THAT(with("candidate", "a\nb"), HasSubstr("control characters"));
    EXPECT_THAT(with("candidate", std::string(201, 'a')), HasSubstr("longer than 200 bytes"));
    EXPECT_THAT(with("candidate", ""), HasSubstr("is empty"));
    EXPECT_THAT(with("regime", "frozn"), HasSubstr("did you mean 'frozen'?"));
    EXPECT_THAT(with("seed", 1.5), HasSubstr("'seed' is no integer from 0 on"));
    EXPECT_THAT(with("settings", 7), HasSubstr("'settings' is no JSON object"));
    EXPECT_THAT(with("trainable_parameters", 26'000'000), HasSubstr("more than 'parameters'"));
    EXPECT_THAT(with("prediction_cost", {{"milliseconds", 1.0}}),
                HasSubstr("'batch_milliseconds' is missing"));
    EXPECT_THAT(with("prediction_cost",
                     {{"milliseconds", 1.0}, {"batch_milliseconds", 1.0}, {"bytes", 1}, {"watts", 3}}),
                HasSubstr("'watts' is no key here"));
    EXPECT_THAT(with("study", "another"), HasSubstr("another"));
    const auto prepared = [&](const Json& preparation) { return with("preparation", preparation); };
    EXPECT_THAT(prepared({{"size", 8}, {"resize", "crop"}}), HasSubstr("'resize' is no key here"));
    EXPECT_THAT(prepared({{"fit", "crop"}}), HasSubstr("'size' is missing"));
    EXPECT_THAT(prepared({{"size", 0}}), HasSubstr("is no side, or pair of height and width"));
    EXPECT_THAT(prepared({{"size", {8, 8, 3}}}), HasSubstr("is no side, or pair of height and width"));
    EXPECT_THAT(prepared({{"size", 8}, {"fit", "crpo"}}), HasSubstr("did you mean 'crop'?"));
    EXPECT_THAT(prepared({{"size", 8}, {"channels", 2}}), HasSubstr("neither 1 (grey) nor 3 (colour)"));
    EXPECT_THAT(prepared({{"size", 8}, {"mean", {0.5, 0.5}}}), HasSubstr("is no array of 3"));
    EXPECT_THAT(prepared({{"size", 8}, {"deviation", {0.2, 0.0, 0.2}}}), HasSubstr("'deviation'"));
    EXPECT_THAT(with("parts", 1), HasSubstr("'parts' is no key here"));
    EXPECT_THAT(study_.ledger().candidates(study_.study().id), IsEmpty());
}

TEST_F(Intake, AMergeBringsThemAlong) {
    taken("theirs", 1, 2);
    const RunId open = intake_.create(statement("open")).run;
    intake_.add_epoch(open, epoch_json(2, 1), "e");
    TemporaryDirectory other;
    LedgerWriter writer = LedgerWriter::open(other.path());
    writer.merge(Ledger::open(directory_.path()));
    const RunRecord run = writer.ledger().run(writer.ledger().study().id, "theirs/1");
    ASSERT_TRUE(run.external.has_value());
    EXPECT_EQ(run.best->validation.at(2, 1), 2);
    RunIntake there(writer);
    const RunId open_there = writer.ledger().run(writer.ledger().study().id, "open/1").id;
    EXPECT_TRUE(there.add_epoch(open_there, epoch_json(1, 6), "e"));
    EXPECT_EQ(writer.ledger().run_by_id(open_there).epochs, 2);
}

TEST_F(Intake, PredictionsOfAnotherShapeAreRefused) {
    const RunId run = intake_.create(statement()).run;
    const auto refuse = [&](const std::string& text, PredictionForm form) {
        return refused([&] { intake_.add_predictions(run, text, form, "p"); });
    };
    const auto npy = [](const std::string& type, const std::string& shape, std::size_t bytes) {
        std::string header = "{'descr': '" + type + "', 'fortran_order': False, 'shape': " + shape + ", }";
        header += std::string(63 - (10 + header.size()) % 64, ' ') + "\n";
        return std::string("\x93NUMPY\x01\x00", 8) + static_cast<char>(header.size()) + '\0' + header +
               std::string(bytes, '\0');
    };
    const char* const expected =
        "p: expected float32 or float64 of shape [18, 3]: a row for each item of the validation part";
    EXPECT_THAT(refuse(npy("<f4", "(3, 18)", 216), PredictionForm::npy), HasSubstr(expected));
    EXPECT_THAT(refuse(npy("<i4", "(18, 3)", 216), PredictionForm::npy), HasSubstr(expected));
    EXPECT_THAT(refuse(npy("<f4", "(18, 3)", 216), PredictionForm::npy), Not(HasSubstr("expected float32")));
    Json json = probabilities_json(1);
    json["probabilities"][4] = {0.5, 0.5};
    EXPECT_THAT(refuse(json_text(json), PredictionForm::json),
                HasSubstr("has a row, number 5, that is no array of 3 numbers"));
    json["probabilities"] = std::vector<std::vector<double>>(17, {0.5, 0.25, 0.25});
    EXPECT_THAT(refuse(json_text(json), PredictionForm::json),
                HasSubstr("has 17 rows for 18 items of the validation part"));
}

TEST_F(Intake, ThePartsAreListedForOthers) {
    Parts parts = study_.parts();
    parts.test = {parts.validation.back()};
    parts.validation.pop_back();
    study_.split_again(parts);
    const PartsList list = list_parts(study_.ledger(), study_.study(), {.seeds = {1, 2}, .epochs = 2});
    ASSERT_EQ(list.items.size(), 24U);
    EXPECT_EQ(list.split, split());
    EXPECT_EQ(list.image_set, study_.set().fingerprint);
    std::size_t sealed = 0;
    for (const ListedPlace& item : list.items) {
        EXPECT_EQ(item.label.empty(), item.part == Part::test);
        EXPECT_EQ(item.weight, item.part == Part::training ? 1.0 : 0.0);
        sealed += item.part == Part::test ? 1 : 0;
    }
    EXPECT_EQ(sealed, 1U);
    ASSERT_EQ(list.orders.size(), 4U);
    std::vector<std::size_t> first = list.orders[0].items;
    EXPECT_NE(first, list.orders[1].items);
    EXPECT_NE(first, list.orders[2].items);
    std::sort(first.begin(), first.end());
    std::vector<std::size_t> training;
    for (std::size_t i = 0; i < list.items.size(); ++i)
        if (list.items[i].part == Part::training) training.push_back(i);
    EXPECT_EQ(first, training);
    EXPECT_THAT(refused([&] { list_parts(study_.ledger(), study_.study(), {.fold = 2}); }),
                HasSubstr("no fold 2"));
    // Showing the labels of the test part is a look at it.
    const PartsList open = list_parts(study_.ledger(), study_.study(), {.test_labels = true});
    record_parts_look(study_.ledger(), open);
    const auto looks = study_.ledger().test_looks(study_.study().id);
    ASSERT_EQ(looks.size(), 1U);
    EXPECT_EQ(looks[0].what, "parts");
}

}  // namespace
}  // namespace jevrin
