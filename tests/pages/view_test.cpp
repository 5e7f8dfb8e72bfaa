// What the views of the page say, from runs whose results are decided here.
#include "jevrin/pages/view.hpp"

#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/pages/news.hpp"
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
    EXPECT_THROW(view_data(study.ledger(), study.study(), {"items", {{"run", "open/1"}}}), InputError);
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
