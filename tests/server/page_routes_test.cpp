// The routes of the page's server without a socket: what they answer, refuse, change and keep sealed.
#include "support/trained_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/external/received_images.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/pages/view.hpp"
#include "jevrin/results/choice_result.hpp"
#include "jevrin/server/page_server.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <map>
#include <thread>

namespace jevrin {
namespace {

using testing::HasSubstr;
using testing::Not;
using testing::StartsWith;

class PageRoutesTest : public test::TrainedStudy {
  protected:
    HttpResponse get(const std::string& path, const std::map<std::string, std::string>& query = {}) {
        return routes_.respond({.path = path, .query = query});
    }
    HttpResponse post(const std::string& path, const std::string& body,
                      const std::map<std::string, std::string>& query = {}) {
        return routes_.respond({.method = "POST", .path = path, .query = query, .body = body});
    }
    Json data(const std::string& view, const std::map<std::string, std::string>& query = {}) {
        const HttpResponse response = get("/api/" + view, query);
        EXPECT_EQ(response.status, 200) << view << ": " << response.body;
        return parse_json(response.body);
    }
    static std::string error_of(const HttpResponse& response) {
        return parse_json(response.body).value("error", "");
    }
    // What each parameter may be.
    static std::map<std::string, std::string> good_parameters(const View& view) {
        const std::map<std::string, std::string> known = {{"run", "new head/1"},
                                                          {"runs", R"(["new head"])"},
                                                          {"item", items(Part::validation).front()},
                                                          {"first", "new head"},
                                                          {"second", "from scratch"},
                                                          {"class", "both"},
                                                          {"cost", "seconds"},
                                                          {"source", "features"},
                                                          {"seed", "3"},
                                                          {"per_class", "2"},
                                                          {"versions", "2"},
                                                          {"layer", ""},
                                                          {"epoch", ""},
                                                          {"from", "1"},
                                                          {"to", "2"}};
        std::map<std::string, std::string> parameters;
        for (const std::string& name : view.parameters) parameters[name] = known.at(name);
        return parameters;
    }

    PageRoutes routes_{{.ledger = ledger_directory()}, "token"};
};

TEST_F(PageRoutesTest, EveryViewAnswers) {
    for (const View& view : all_views()) {
        const HttpResponse response = get(std::string("/api/") + view.name, good_parameters(view));
        EXPECT_EQ(response.status, 200) << view.name << ": " << response.body;
        EXPECT_EQ(response.type, "application/json");
        EXPECT_TRUE(parse_json(response.body).is_object()) << view.name;
        // The second time from what is kept, and the same.
        EXPECT_EQ(get(std::string("/api/") + view.name, good_parameters(view)).body, response.body);
    }
}

TEST_F(PageRoutesTest, NoAnswerHoldsATestItemOrAPathOfThisMachine) {
    const std::vector<std::string> sealed = items(Part::test);
    ASSERT_FALSE(sealed.empty());
    for (const View& view : all_views()) {
        const std::string body = get(std::string("/api/") + view.name, good_parameters(view)).body;
        for (const std::string& id : sealed)
            EXPECT_EQ(body.find(path_of_item(id) + "#"), std::string::npos) << view.name << " holds " << id;
        EXPECT_EQ(body.find(directory_->path().string()), std::string::npos) << view.name << ": " << body;
    }
    EXPECT_EQ(data("study").at("test_looks"), 0);
}

TEST_F(PageRoutesTest, TestItemsAreRefusedByEveryRoute) {
    const std::string id = items(Part::test).front();
    for (const View& view : all_views()) {
        auto parameters = good_parameters(view);
        if (!parameters.contains("item")) continue;
        parameters["item"] = id;
        const HttpResponse response = get(std::string("/api/") + view.name, parameters);
        EXPECT_EQ(response.status, 400) << view.name;
        EXPECT_THAT(error_of(response), HasSubstr("sealed")) << view.name;
    }
    EXPECT_THAT(error_of(get("/api/picture", {{"item", id}})), HasSubstr("sealed"));
    for (const char* action : {"/api/mark", "/api/unmark"})
        EXPECT_THAT(error_of(post(action, json_text({{"item", id}, {"excluded", true}}))),
                    HasSubstr("sealed"));
}

TEST_F(PageRoutesTest, BadParametersAreErrorsThatSayWhich) {
    const std::vector<std::string> hostile = {"",
                                              "nothing",
                                              "../../etc/passwd",
                                              "/etc/passwd",
                                              "-1",
                                              "1e9",
                                              "\0x",
                                              "[",
                                              "[1]",
                                              "{}",
                                              "new head/1' OR 1=1 --",
                                              std::string(100'000, 'a'),
                                              "\xff\xfe",
                                              "</script><img onerror=alert(1)>"};
    for (const View& view : all_views())
        for (const std::string& name : view.parameters)
            for (const std::string& value : hostile) {
                auto parameters = good_parameters(view);
                parameters[name] = value;
                const HttpResponse response = get(std::string("/api/") + view.name, parameters);
                EXPECT_TRUE(response.status == 400 || (response.status == 200 && value.empty()))
                    << view.name << " " << name << "=" << value.substr(0, 60) << ": " << response.status;
                EXPECT_TRUE(parse_json(response.body).is_object());
            }
    EXPECT_THAT(error_of(get("/api/run", {{"rum", "x"}})), HasSubstr("did you mean 'run'"));
    EXPECT_EQ(get("/api/run").status, 400);
    for (const char* side : {"0x", "-3", "5000", "a"})
        EXPECT_EQ(get("/api/picture", {{"item", items(Part::validation).front()}, {"side", side}}).status,
                  400)
            << side;
}

TEST_F(PageRoutesTest, WhatIsNotThereIs404) {
    for (const char* path :
         {"/api/", "/api/nothing", "/etc/passwd", "/../../etc/passwd", "/page.js/", "/api/study/x", "//"})
        EXPECT_EQ(get(path).status, 404) << path;
    EXPECT_EQ(post("/api/nothing", "{}").status, 404);
    EXPECT_EQ(post("/", "{}").status, 404);
    // Views are not changed, and actions are not read.
    EXPECT_EQ(post("/api/study", "{}").status, 404);
    EXPECT_EQ(get("/api/mark").status, 404);
}

TEST_F(PageRoutesTest, ThePageItselfIsLockedDown) {
    const HttpResponse page = get("/");
    EXPECT_EQ(page.type, "text/html; charset=utf-8");
    EXPECT_THAT(page.body, HasSubstr("content=\"token\""));
    std::map<std::string, std::string> headers(page.headers.begin(), page.headers.end());
    EXPECT_THAT(headers["Content-Security-Policy"], HasSubstr("default-src 'none'"));
    EXPECT_THAT(headers["Content-Security-Policy"], Not(HasSubstr("unsafe")));
    EXPECT_EQ(headers["X-Content-Type-Options"], "nosniff");
    EXPECT_EQ(headers["Cache-Control"], "no-store");
    for (const char* path : {"/page.js", "/api/study", "/api/nothing"}) {
        const HttpResponse response = get(path);
        const std::map<std::string, std::string> others(response.headers.begin(), response.headers.end());
        EXPECT_EQ(others.at("Content-Security-Policy"), "default-src 'none'; frame-ancestors 'none'") << path;
    }
    EXPECT_THAT(get("/page.js").type, StartsWith("text/javascript"));
    EXPECT_THAT(get("/page.css").type, StartsWith("text/css"));
    // A few hundred kilobytes.
    EXPECT_LT(get("/page.js").body.size() + get("/page.css").body.size(), 400'000U);
    EXPECT_EQ(get("/page.js").body.find("Function("), std::string::npos);
}

TEST_F(PageRoutesTest, PicturesAreImagesOfItems) {
    const std::string id = items(Part::validation).front();
    const HttpResponse picture = get("/api/picture", {{"item", id}, {"side", "8"}});
    ASSERT_EQ(picture.status, 200) << picture.body;
    EXPECT_EQ(picture.type, "image/png");
    const Image image = decode_image(test::bytes_of(picture.body));
    EXPECT_EQ(std::max(image.width, image.height), 8);
    // A file that changed is not shown as the item that it was.
    const std::filesystem::path file = *directory_ / "images" / path_of_item(id);
    const std::vector<std::byte> before = read_file(file);
    write_file(file, encode_png(Image(16, 16)));
    EXPECT_EQ(get("/api/picture", {{"item", id}, {"side", "9"}}).status, 400);
    write_file(file, before);
}

TEST_F(PageRoutesTest, MarksAreKeptInTheLedgerAndLeaveAsCorrections) {
    const std::string id = items(Part::validation).front();
    const Json body = {{"item", id}, {"label", "both"}, {"note", "</script><b>"}};
    ASSERT_EQ(post("/api/mark", json_text(body)).status, 200);
    const Json marks = data("marks").at("marks");
    ASSERT_EQ(marks.size(), 1U);
    EXPECT_EQ(marks[0].at("note"), "</script><b>");
    EXPECT_EQ(ledger().marks(ledger().study().id).at(0).item, id);
    EXPECT_EQ(data("item", {{"item", id}}).at("mark").at("note"), "</script><b>");
    const HttpResponse corrections = get("/api/corrections");
    EXPECT_THAT(corrections.type, StartsWith("text/csv"));
    EXPECT_EQ(post("/api/mark", json_text({{"item", id}, {"excluded", true}})).status, 200);
    EXPECT_THAT(get("/api/corrections").body, HasSubstr(path_of_item(id) + ",exclude,"));
    EXPECT_EQ(post("/api/unmark", json_text({{"item", id}})).status, 200);
    EXPECT_EQ(data("marks").at("marks").size(), 0U);
    EXPECT_EQ(post("/api/unmark", json_text({{"item", id}})).status, 400);
    for (const char* wrong :
         {"", "[]", "null", "{", R"({"item": 3})", R"({"item": ""})", R"({"label": "both"})"})
        EXPECT_EQ(post("/api/mark", wrong).status, 400) << wrong;
    EXPECT_THAT(error_of(post("/api/mark", json_text({{"item", id}, {"label", "bothh"}}))),
                HasSubstr("both"));
    EXPECT_EQ(post("/api/mark", json_text({{"item", id}, {"note", std::string(5000, 'x')}})).status, 400);
}

TEST_F(PageRoutesTest, ImagesThatWereSentBackAreReviewed) {
    EXPECT_EQ(data("received").at("images").size(), 0U);
    EXPECT_EQ(get("/api/picture", {{"received", "1"}}).status, 400);
    ReceivedImages store(ledger_directory());
    const std::string path = path_of_item(items(Part::validation).front());
    const std::vector<std::byte> bytes = read_file(*directory_ / "images" / path);
    store.add({.name = "</script>.png", .label = "both", .model = "stripes", .version = 1, .sender = "shop"},
              bytes);
    const Json waiting = data("received").at("images");
    ASSERT_EQ(waiting.size(), 1U);
    EXPECT_EQ(waiting[0].at("name"), "</script>.png");
    EXPECT_EQ(waiting[0].at("review"), "waiting");
    EXPECT_EQ(get("/api/picture", {{"received", "1"}, {"side", "8"}}).type, "image/png");
    EXPECT_EQ(get("/api/picture", {{"received", "2"}}).status, 400);
    EXPECT_EQ(post("/api/accept", R"({"number": 1})").status, 200);
    EXPECT_EQ(data("received").at("images")[0].at("label"), "both");
    EXPECT_EQ(post("/api/accept", R"({"number": 1, "label": "down"})").status, 200);
    EXPECT_EQ(data("received").at("images")[0].at("label"), "down");
    EXPECT_EQ(post("/api/accept", R"({"number": 1, "label": null})").status, 200);
    EXPECT_EQ(data("received").at("images")[0].at("label"), Json());
    EXPECT_EQ(post("/api/reject", R"({"number": 1})").status, 200);
    EXPECT_EQ(store.list().at(0).review, Review::rejected);
    for (const char* wrong : {"{}", R"({"number": "1"})", R"({"number": 7})",
                              R"({"number": 1, "label": "x"})", R"({"number": 1, "label": 3})"})
        EXPECT_EQ(post("/api/accept", wrong).status, 400) << wrong;
}

TEST_F(PageRoutesTest, AnImageThatIsATestImageByNowIsShownNoMore) {
    ReceivedImages store(ledger_directory());
    const std::size_t before = data("received").at("images").size();
    const std::string path = path_of_item(items(Part::test).front());
    const ReceivedImages::Added added =
        store.add({.name = "sealed.png", .label = "both", .model = "stripes", .version = 1, .sender = "shop"},
                  read_file(*directory_ / "images" / path));
    EXPECT_TRUE(added.is_new);
    EXPECT_THROW(store.add({.name = "note.txt", .label = "both", .model = "stripes", .sender = "shop"},
                           test::bytes_of("this is no image")),
                 InputError);
    EXPECT_EQ(data("received").at("images").size(), before);
    EXPECT_EQ(get("/api/picture", {{"received", std::to_string(added.number)}}).status, 400);
}

TEST_F(PageRoutesTest, RunsAnswerForAnImageAndTestImagesAreCounted) {
    const std::map<std::string, std::string> query = {{"runs", R"(["new head/1", "from scratch/2"])"}};
    const auto bytes = [&](const std::string& id) {
        const std::vector<std::byte> file = read_file(*directory_ / "images" / path_of_item(id));
        return std::string(reinterpret_cast<const char*>(file.data()), file.size());
    };
    const std::string id = items(Part::validation).front();
    const HttpResponse response = post("/api/classify", bytes(id), query);
    ASSERT_EQ(response.status, 200) << response.body;
    const Json answers = parse_json(response.body);
    EXPECT_EQ(answers.at("test_image"), false);
    ASSERT_EQ(answers.at("answers").size(), 2U);
    // The same as was recorded of the item, but for the temperature: the order of the classes.
    const Json of_item = data("item", {{"item", id}});
    for (const Json& run : of_item.at("runs"))
        if (run.at("run") == "new head/1") {
            const auto recorded = run.at("probabilities").get<std::vector<double>>();
            const auto answered = answers.at("answers")[0].at("probabilities").get<std::vector<double>>();
            EXPECT_EQ(std::max_element(recorded.begin(), recorded.end()) - recorded.begin(),
                      std::max_element(answered.begin(), answered.end()) - answered.begin());
        }
    EXPECT_EQ(
        parse_json(post("/api/classify", bytes(items(Part::test).front()), query).body).at("test_image"),
        true);
    EXPECT_EQ(ledger().test_looks(ledger().study().id).size(), 1U);
    for (const char* runs : {"", "[]", R"(["nothing/1"])", R"(["new head"])", "["})
        EXPECT_EQ(post("/api/classify", bytes(id), {{"runs", runs}}).status, 400) << runs;
    for (const std::string& image : {std::string(), std::string("no image"), bytes(id).substr(0, 60)})
        EXPECT_EQ(post("/api/classify", image, query).status, 400);
}

TEST_F(PageRoutesTest, AChangeInTheLedgerIsToldAndSeen) {
    const HttpResponse response = get("/api/events");
    EXPECT_EQ(response.type, "text/event-stream");
    ASSERT_TRUE(response.events);
    EXPECT_THAT(*response.events(), StartsWith("event: state"));
    ASSERT_EQ(data("study").at("runs").size(), 6U);
    const RunId run = ledger().run(ledger().study().id, "last stage/2").id;
    LedgerWriter::open(ledger_directory()).put_archived(run, true);
    std::string told;
    while (told.find("event:") == std::string::npos) told += *response.events();
    EXPECT_EQ(data("study").at("runs").size(), 5U);
    // Who waits for the next change is told of the end at once, not after the ten seconds of a sign of life.
    const auto begin = std::chrono::steady_clock::now();
    std::thread end([this] {
        std::this_thread::sleep_for(std::chrono::milliseconds(100));
        routes_.end_events();
    });
    while (response.events()) continue;
    end.join();
    EXPECT_LT(std::chrono::steady_clock::now() - begin, std::chrono::seconds(5));
    EXPECT_FALSE(response.events());
}

TEST_F(PageRoutesTest, AStudyThatIsNotThereIsAnErrorAtTheStart) {
    EXPECT_THROW(PageRoutes({.ledger = *directory_ / "nowhere"}, "token"), InputError);
    EXPECT_THROW(PageRoutes({.ledger = ledger_directory(), .study = "smal"}, "token"), InputError);
}

TEST_F(PageRoutesTest, OtherAddressesNeedAKey) {
    EXPECT_THAT(test::message_of<InputError>(
                    [] { PageServer({.ledger = ledger_directory()}, {.address = "0.0.0.0"}); }),
                HasSubstr("key"));
    for (const char* poor : {"word", "a&b=c%20d", "longenough;"})
        EXPECT_THROW(PageServer({.ledger = ledger_directory()}, {.address = "0.0.0.0"}, poor), InputError)
            << poor;
    PageServer server({.ledger = ledger_directory()}, {.address = "0.0.0.0"}, "longword");
    EXPECT_THAT(server.address(), HasSubstr("/?key=longword"));
    // What listens everywhere is reached by the machine's name.
    std::array<char, 256> name{};
    ASSERT_EQ(::gethostname(name.data(), name.size() - 1), 0);
    EXPECT_THAT(server.address(), StartsWith(fmt::format("http://{}:", name.data())));
    PageServer own({.ledger = ledger_directory()}, {.address = "127.0.0.1"}, "longword");
    EXPECT_THAT(own.address(), StartsWith("http://127.0.0.1:"));
}

}  // namespace
}  // namespace jevrin
