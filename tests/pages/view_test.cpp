// What the views of the page say, from runs whose results are decided here.
#include "jevrin/pages/view.hpp"

#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/external/run_intake.hpp"
#include "jevrin/pages/news.hpp"
#include "jevrin/pages/page_actions.hpp"
#include "jevrin/pages/unsealed_items.hpp"

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::TemporaryDirectory;
using testing::ElementsAre;
using testing::HasSubstr;

// Three classes, 18 validation items: "good" is right, "poor" calls class 002 class 001, and learns it at its
// second epoch.
class Views : public testing::Test {
  protected:
    Views() {
        for (const std::int64_t seed : {1, 2, 3}) {
            study_.add_run(
                {.candidate = "good", .regime = Regime::frozen, .seed = seed, .seconds = 4.0, .epochs = 4});
            study_.add_run({.candidate = "poor",
                            .seed = seed,
                            .seconds = 2.0,
                            .epochs = 2,
                            .at_epoch = [](std::size_t, std::size_t, int) { return std::size_t{0}; },
                            .predicted = [](std::size_t label,
                                            std::size_t) { return label == 2 ? std::size_t{1} : label; }});
        }
    }
    Json data(const std::string& view, const std::map<std::string, std::string>& parameters = {}) {
        return view_data(study_.ledger(), study_.study(), {view, parameters});
    }
    template <typename T>
    static std::vector<T> numbers(const Json& json) {
        return json.get<std::vector<T>>();
    }

    TemporaryDirectory directory_;
    MadeUpStudy study_{directory_.path(), 3, 8};
};

TEST_F(Views, TheStudyHasItsRunsCandidatesAndParts) {
    const Json study = data("study");
    EXPECT_EQ(study.at("candidates").size(), 2U);
    EXPECT_EQ(study.at("candidates")[1].at("letter"), "b");
    EXPECT_EQ(study.at("runs").size(), 6U);
    const Json& run = study.at("runs")[0];
    EXPECT_EQ(run.at("run"), "good/1");
    EXPECT_EQ(run.at("state"), "finished");
    EXPECT_EQ(run.at("accuracy"), 1);
    EXPECT_EQ(study.at("parts").at("validation"), 18);
    EXPECT_EQ(study.at("progress").at("open"), 0);
    EXPECT_EQ(study.at("test_looks"), 0);
    // Costs by name, and nothing that is no cost.
    EXPECT_EQ(data("choice", {{"cost", "trained"}}).at("cost"), "trained");
    EXPECT_THROW(data("choice", {{"cost", "price"}}), InputError);
}

TEST_F(Views, CurvesAreColumnsOverEachAxis) {
    const Json runs = data("curves", {{"runs", R"(["good/2", "poor"])"}}).at("runs");
    ASSERT_EQ(runs.size(), 4U);
    EXPECT_EQ(runs[0].at("run"), "good/2");
    const Json& columns = runs[0].at("columns");
    EXPECT_THAT(numbers<double>(columns.at("epoch")), ElementsAre(1, 2, 3, 4));
    EXPECT_THAT(numbers<double>(columns.at("seconds")), ElementsAre(1, 2, 3, 4));
    EXPECT_THAT(numbers<double>(columns.at("step")), ElementsAre(10, 20, 30, 40));
    EXPECT_THAT(numbers<double>(columns.at("training_loss")), ElementsAre(2, 1, 0.666667, 0.5));
    EXPECT_THAT(numbers<double>(columns.at("validation_loss")), ElementsAre(2.2, 1.1, 0.733333, 0.55));
    EXPECT_FALSE(columns.contains("validation_learning_rate"));
}

TEST_F(Views, MatricesAreSparseAndComeEpochByEpoch) {
    const Json all = data("matrices", {{"run", "poor/1"}});
    ASSERT_EQ(all.at("epochs").size(), 2U);
    EXPECT_EQ(all.at("best_epoch"), 2);
    // Place and count in turn: at first all six items of each class are called class 000.
    EXPECT_THAT(numbers<int>(all.at("epochs")[0].at("cells")), ElementsAre(0, 6, 3, 6, 6, 6));
    EXPECT_THAT(numbers<int>(all.at("epochs")[1].at("cells")), ElementsAre(0, 6, 4, 6, 7, 6));
    const Json some = data("matrices", {{"run", "good/1"}, {"from", "2"}, {"to", "3"}});
    ASSERT_EQ(some.at("epochs").size(), 2U);
    EXPECT_EQ(some.at("epochs")[0].at("epoch"), 2);
    EXPECT_EQ(data("matrices", {{"run", "good/1"}, {"from", "5"}}).at("epochs").size(), 0U);
}

TEST_F(Views, ItemsBeginWithTheMistakes) {
    const Json items = data("items", {{"run", "poor/1"}}).at("items");
    ASSERT_EQ(items.size(), 18U);
    for (std::size_t i = 0; i < items.size(); ++i) {
        EXPECT_EQ(items[i][1] != items[i][2], i < 6) << i;
        const std::vector<double> surest_mistake = {2, 1, 1, 0};
        const Json own = Json::array({items[i][1], items[i][2], items[i][3], items[i][4]});
        EXPECT_EQ(numbers<double>(own) == surest_mistake, i < 6) << i;
    }
    // What every run says of the first of them.
    const Json item = data("item", {{"item", items[0][0].get<std::string>()}});
    EXPECT_EQ(item.at("label"), 2);
    ASSERT_EQ(item.at("runs").size(), 6U);
    for (const Json& run : item.at("runs"))
        EXPECT_EQ(run.at("predicted"), run.at("run").get<std::string>().starts_with("good") ? 2 : 1);
}

TEST_F(Views, ContestedItemsAreThoseThatOneSideHasRightMoreOften) {
    const Json difference = data("difference", {{"first", "good"}, {"second", "poor"}});
    EXPECT_EQ(difference.at("seeds"), 3);
    ASSERT_EQ(difference.at("items").size(), 6U);
    for (const Json& item : difference.at("items")) {
        EXPECT_EQ(item[1], 2);
        EXPECT_THAT(numbers<int>(item[2]), ElementsAre(3, 3, 2));
        EXPECT_THAT(numbers<int>(item[3]), ElementsAre(0, 3, 1));
    }
}

TEST_F(Views, ItemsThatALaterSplitSealsAreNotShownAnyMore) {
    const std::string id = data("items", {{"run", "poor/1"}}).at("items")[0][0].get<std::string>();
    ASSERT_EQ(data("difference", {{"first", "good"}, {"second", "poor"}}).at("items").size(), 6U);
    Parts parts = study_.parts();
    const auto is_it = [&](std::size_t i) { return study_.set().items[i].id == id; };
    std::erase_if(parts.validation, is_it);
    for (std::size_t i = 0; i < study_.set().items.size(); ++i)
        if (is_it(i)) parts.test.push_back(i);
    study_.split_again(parts);
    study_.add_run({.candidate = "later"});

    for (const auto& [epoch, shown] : {std::pair("0", 2), std::pair("1", 1)}) {
        const Json of = data("items", {{"run", "poor/1"}, {"epoch", epoch}});
        EXPECT_EQ(of.at("epoch"), shown);  // 0: the best
        const Json& items = of.at("items");
        EXPECT_EQ(items.size(), 17U);
        for (const Json& item : items) EXPECT_NE(item[0], id);
    }
    EXPECT_EQ(data("difference", {{"first", "good"}, {"second", "poor"}}).at("items").size(), 5U);
    EXPECT_THAT(test::message_of<InputError>([&] { data("item", {{"item", id}}); }), HasSubstr("sealed"));
    for (const ItemRecord& item : unsealed_items(study_.ledger(), study_.study())) EXPECT_NE(item.id, id);
}

TEST_F(Views, MarksAreMadeListedAndTakenBack) {
    const std::string id = study_.set().items[study_.parts().validation[4]].id;
    const std::string path = study_.set().items[study_.parts().validation[4]].path;
    const auto act = [&](const std::string& action, const Json& body) {
        return page_action(study_.ledger(), study_.study(), action, body);
    };
    const auto refusal = [&](const std::string& action, const Json& body) {
        return test::message_of<InputError>([&] { act(action, body); });
    };
    act("mark", {{"item", id}, {"label", "class 002"}, {"note", std::string(2000, 'n')}});
    Json marks = data("marks").at("marks");
    ASSERT_EQ(marks.size(), 1U);
    EXPECT_EQ(marks.at(0).at("item"), id);
    EXPECT_EQ(marks.at(0).at("label"), 0);
    EXPECT_EQ(marks.at(0).at("proposed"), "class 002");
    EXPECT_EQ(marks.at(0).at("excluded"), false);
    EXPECT_EQ(marks.at(0).at("note"), std::string(2000, 'n'));
    EXPECT_THAT(corrections_csv(study_.ledger(), study_.study()), HasSubstr(path + ",class 002,nnn"));
    act("mark", {{"item", id}, {"excluded", true}});
    EXPECT_EQ(data("marks").at("marks").at(0).at("excluded"), true);
    EXPECT_THAT(corrections_csv(study_.ledger(), study_.study()), HasSubstr(path + ",exclude"));

    EXPECT_THAT(refusal("mark", {{"item", id}, {"label", "x"}, {"note", std::string(2001, 'n')}}),
                HasSubstr("a note has at most 2000 bytes"));
    EXPECT_THAT(refusal("mark", {{"label", "class 002"}}), HasSubstr("'item' is missing"));
    EXPECT_THAT(refusal("mark", {{"item", 4}}), HasSubstr("'item' is no text"));
    EXPECT_THAT(refusal("mark", {{"item", "no such item"}, {"label", "class 002"}}),
                HasSubstr("saw no item"));
    EXPECT_THAT(refusal("mark", Json::array()), HasSubstr("no JSON object"));
    EXPECT_THAT(refusal("accept", Json::object()), HasSubstr("'number' is missing"));
    EXPECT_THAT(refusal("accept", {{"number", 1.5}}), HasSubstr("'number' is missing"));
    EXPECT_THAT(refusal("accept", {{"number", 1}, {"label", "class 003"}}),
                HasSubstr("'class 003' is no class of this study"));
    EXPECT_THROW(act("delete", {{"item", id}}), NoView);

    // What a later split seals is neither listed, exported nor marked.
    Parts parts = study_.parts();
    parts.test.push_back(parts.validation[4]);
    parts.validation.erase(parts.validation.begin() + 4);
    study_.split_again(parts);
    EXPECT_EQ(data("marks").at("marks").size(), 0U);
    EXPECT_THAT(corrections_csv(study_.ledger(), study_.study()), testing::Not(HasSubstr(path)));
    EXPECT_THAT(refusal("mark", {{"item", id}, {"label", "class 001"}}), HasSubstr("sealed"));
    EXPECT_THAT(refusal("unmark", {{"item", id}}), HasSubstr("sealed"));
}

TEST_F(Views, AMarkThatIsTakenBackIsGone) {
    const std::string id = study_.set().items[study_.parts().validation[4]].id;
    page_action(study_.ledger(), study_.study(), "mark", {{"item", id}, {"label", "class 002"}});
    page_action(study_.ledger(), study_.study(), "unmark", {{"item", id}});
    EXPECT_EQ(data("marks").at("marks").size(), 0U);
}

// 2,250 validation items, one run right and one wrong at all of them.
TEST(LargeViews, HoldTheClearestItemsAndThinnedCurves) {
    TemporaryDirectory directory;
    MadeUpStudy study(directory.path(), 3, 1000);
    study.add_run({.candidate = "right"});
    study.add_run(
        {.candidate = "wrong", .predicted = [](std::size_t label, std::size_t) { return (label + 1) % 3; }});
    RunIntake intake(study.writer());
    const RunId sure =
        intake
            .create(read_run_statement(
                Json{
                    {"split", study.ledger().split_hash(study.ledger().split_with_fold(study.study().id, 0))},
                    {"candidate", "sure"},
                    {"regime", "scratch"},
                    {"seed", 1},
                    {"program", "elsewhere"},
                    {"parameters", 10},
                    {"trainable_parameters", 10}},
                "run.json"))
            .run;
    Json predicted = Json::array();
    Json probabilities = Json::array();
    for (std::size_t place = 0; place < study.validation_items(); ++place) {
        const std::size_t label = study.set().items[study.parts().validation[place]].label;
        const double confidence = 0.4 + 0.0002 * static_cast<double>(place);
        std::vector<double> row(3, (1 - confidence) / 2);
        row[label] = confidence;
        predicted.push_back(label);
        probabilities.push_back(row);
    }
    intake.add_epoch(
        sure, Json{{"epoch", 1}, {"training_loss", 0.5}, {"validation_loss", 0.5}, {"predicted", predicted}},
        "epoch");
    intake.add_predictions(sure, json_text(Json{{"probabilities", probabilities}}), PredictionForm::json,
                           "predictions");
    intake.finish(sure);
    const auto of = [&](const std::string& view, const std::map<std::string, std::string>& parameters) {
        return view_data(study.ledger(), study.study(), {view, parameters});
    };
    EXPECT_EQ(of("difference", {{"first", "right"}, {"second", "wrong"}}).at("items").size(), 2000U);
    const Json suspects = of("suspects", {{"source", "recorded"}, {"runs", R"(["wrong"])"}});
    EXPECT_EQ(suspects.at("all"), 2250);
    EXPECT_EQ(suspects.at("suspects").size(), 1000U);

    const Json view = of("thresholds", {{"run", "sure/1"}, {"class", "class 001"}});
    EXPECT_EQ(view.at("positives"), 750);
    EXPECT_EQ(view.at("negatives"), 1500);
    for (const char* curve : {"points", "coverage"}) {
        const Json& points = view.at(curve);
        ASSERT_EQ(points.size(), 500U) << curve;
        // From the surest item to all of them, in steps of four or five.
        for (std::size_t k = 1; k < points.size(); ++k) {
            const auto taken = [&](std::size_t place) {
                return points.at(place).at(1).get<int>() +
                       (std::string(curve) == "points" ? points.at(place).at(2).get<int>() : 0);
            };
            EXPECT_GT(taken(k), taken(k - 1)) << curve << k;
            EXPECT_LE(taken(k), taken(k - 1) + 5) << curve << k;
        }
    }
    EXPECT_EQ(view.at("coverage").at(0).at(1), 1);
    EXPECT_EQ(view.at("coverage").back().at(1), 2250);
    EXPECT_EQ(view.at("points").back().at(1), 750);
    EXPECT_EQ(view.at("points").back().at(2), 1500);
}

TEST_F(Views, AStudyWithoutAFinishedRunStillHasAPage) {
    TemporaryDirectory directory;
    MadeUpStudy study(directory.path(), 3, 8);
    const auto of = [&](const std::string& view) { return view_data(study.ledger(), study.study(), {view}); };
    EXPECT_TRUE(of("choice").at("chosen").is_null());
    EXPECT_EQ(of("study").at("runs").size(), 0U);
    EXPECT_EQ(of("curves").at("runs").size(), 0U);
    study.add_run({.candidate = "open", .epochs = 2, .finished = false});
    EXPECT_TRUE(of("choice").at("chosen").is_null());
    EXPECT_EQ(of("study").at("runs")[0].at("state"), "interrupted");
    for (const char* view : {"items", "classes", "scores"})
        EXPECT_THAT(test::message_of<InputError>([&] {
                        view_data(study.ledger(), study.study(), {view, {{"run", "open/1"}}});
                    }),
                    HasSubstr("run 'open/1' is training, not finished"))
            << view;
    study.begin_run({.candidate = "begun", .epochs = 2});
    const Json begun = view_data(study.ledger(), study.study(), {"run", {{"run", "begun/1"}}});
    EXPECT_EQ(begun.at("epochs"), 0);
    EXPECT_TRUE(begun.at("best_epoch").is_null());
    EXPECT_TRUE(begun.at("diagnosis").is_null());
}

TEST_F(Views, NewsHoldsTheRunsThatWentOn) {
    StudyFollower follower(study_.ledger(), study_.study());
    EXPECT_TRUE(follower.news().empty());
    study_.add_run({.candidate = "new", .epochs = 3, .finished = false});
    const StudyFollower::News news = follower.news();
    const Json json = news_data(news, follower.progress(), 7);
    EXPECT_EQ(json.at("revision"), 7);
    ASSERT_EQ(json.at("runs").size(), 1U);
    EXPECT_EQ(json.at("runs")[0].at("epochs"), 3);
    EXPECT_EQ(json.at("progress").at("open"), 1);
}

TEST_F(Views, NamesOfViewsAndParametersAreChecked) {
    EXPECT_THROW(data("nothing"), NoView);
    EXPECT_THAT(test::message_of<InputError>([&] {
                    data("curves", {{"run", "x"}});
                }),
                HasSubstr("did you mean 'runs'"));
    EXPECT_THAT(test::message_of<InputError>([&] {
                    data("matrices", {{"run", "good/1"}, {"from", "-1"}});
                }),
                HasSubstr("'from'"));
    EXPECT_THAT(test::message_of<InputError>([&] {
                    data("curves", {{"runs", "good"}});
                }),
                HasSubstr("JSON array"));
}

}  // namespace
}  // namespace jevrin
