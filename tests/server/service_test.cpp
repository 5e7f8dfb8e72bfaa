// The service for programs: who may ask, what is taken in, what is refused and how, and that the description
// of the interface says the same.
#include "documented.hpp"
#include "support/made_up_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/server/service_results.hpp"
#include "jevrin/server/service_server.hpp"
#include "jevrin/server/service_store.hpp"

#include <atomic>
#include <fstream>
#include <iterator>
#include <thread>

namespace jevrin {
namespace {

using test::MadeUpStudy;
using test::TemporaryDirectory;
using testing::AllOf;
using testing::Contains;
using testing::HasSubstr;
using testing::Not;

// Three classes of six validation items.
class Service : public testing::Test {
  protected:
    Service() {
        ServiceStore store(directory_.path());
        key_ = store.add_key({.name = "all", .may = {Right::runs, Right::classify, Right::metrics}});
    }

    HttpResponse ask(const std::string& method, const std::string& path, const std::string& body = "",
                     const std::string& type = "application/json") {
        HttpRequest request{.method = method, .path = path, .body = body};
        const std::size_t query = path.find('?');
        if (query != std::string::npos) {
            request.path = path.substr(0, query);
            const std::string pair = path.substr(query + 1);
            request.query[pair.substr(0, pair.find('='))] = pair.substr(pair.find('=') + 1);
        }
        request.headers["authorization"] = "Bearer " + key_;
        if (!body.empty()) request.headers["content-type"] = type;
        HttpResponse response = routes_.respond(request);
        test::expect_documented(method, request.path, response);
        return response;
    }
    HttpResponse ask_json(const std::string& method, const std::string& path, const Json& body) {
        return ask(method, path, json_text(body));
    }
    static std::string detail(const HttpResponse& response) {
        return parse_json(response.body).value("detail", "");
    }

    Json run_json(const std::string& candidate = "theirs", std::int64_t seed = 1) {
        return {{"split", study_.ledger().split_hash(study_.ledger().split_with_fold(study_.study().id, 0))},
                {"candidate", candidate},
                {"regime", "scratch"},
                {"seed", seed}};
    }
    std::string begin(const std::string& candidate = "theirs", std::int64_t seed = 1) {
        const HttpResponse response = ask_json("POST", "/v1/runs", run_json(candidate, seed));
        EXPECT_EQ(response.status, 201) << response.body;
        return "/v1/runs/" + std::to_string(parse_json(response.body).at("id").get<std::int64_t>());
    }
    static Json epoch_json(std::int64_t wrong = 0) {
        std::vector<std::int64_t> predicted;
        for (std::int64_t i = 0; i < 18; ++i) predicted.push_back(i < wrong ? 1 - i / 6 : i / 6);
        return {{"training_loss", 0.5}, {"validation_loss", 0.6}, {"predicted", predicted}};
    }
    static Json probabilities_json() {
        Json rows = Json::array();
        for (std::size_t i = 0; i < 18; ++i) {
            std::vector<double> row(3, 0.0);
            row[i / 6] = 1.0;
            rows.push_back(row);
        }
        return {{"probabilities", rows}};
    }

    TemporaryDirectory directory_;
    MadeUpStudy study_{directory_.path(), 3, 8};
    std::string key_;
    ServiceRoutes routes_{{.ledger = directory_.path()}};
};

TEST_F(Service, ARunComesInWhileItTrains) {
    const Json parts = parse_json(ask("GET", "/v1/parts").body);
    EXPECT_EQ(parts.at("split"), run_json().at("split"));
    EXPECT_THAT(ask("GET", "/v1/parts?form=csv").body, HasSubstr("item,path,label,part"));
    const std::string run = begin();
    EXPECT_EQ(ask_json("POST", "/v1/runs", run_json()).status, 200);
    EXPECT_EQ(ask_json("PUT", run + "/epochs/2", epoch_json(1)).status, 201);
    Json state = parse_json(ask("GET", run).body);
    EXPECT_EQ(state.at("epochs"), 0);
    EXPECT_EQ(state.at("waiting"), Json::array({2}));
    EXPECT_EQ(ask_json("PUT", run + "/epochs/1", epoch_json(3)).status, 201);
    EXPECT_EQ(ask_json("PUT", run + "/epochs/1", epoch_json(3)).status, 200);
    EXPECT_EQ(ask_json("PUT", run + "/epochs/1", epoch_json(2)).status, 409);
    EXPECT_EQ(ask_json("PUT", run + "/epochs/3", epoch_json(0)).status, 201);
    EXPECT_EQ(ask_json("PUT", run + "/predictions", probabilities_json()).status, 201);
    EXPECT_EQ(ask_json("PUT", run + "/predictions", probabilities_json()).status, 200);
    state = parse_json(ask("POST", run + "/finish").body);
    EXPECT_EQ(state.at("state"), "finished");
    EXPECT_EQ(state.at("best_epoch"), 3);
    EXPECT_EQ(ask("POST", run + "/finish").status, 200);
    EXPECT_EQ(ask_json("PUT", run + "/epochs/4", epoch_json(0)).status, 409);
    EXPECT_EQ(study_.ledger().run(study_.study().id, "theirs/1").best->validation.at(0, 0), 6);

    const std::string failing = begin("theirs", 2);
    EXPECT_EQ(
        parse_json(ask_json("POST", failing + "/fail", {{"reason", "out of memory"}}).body).at("reason"),
        "out of memory");
}

TEST_F(Service, WithoutAKnownKeyNothingIsTold) {
    const auto with = [&](const std::string& header, const std::string& path = "/v1/runs/1") {
        HttpRequest request{.path = path};
        if (!header.empty()) request.headers["authorization"] = header;
        return routes_.respond(request);
    };
    for (const std::string& header :
         {std::string(), std::string("Bearer"), std::string("Bearer "), "Basic " + key_,
          "Bearer " + key_ + "0", "Bearer " + key_.substr(1), std::string("Bearer ' OR 1")}) {
        EXPECT_EQ(with(header).status, 401) << header;
        EXPECT_EQ(with(header, "/metrics").status, 401) << header;
    }
    EXPECT_EQ(with("bearer " + key_).status, 404);
    // What is open to all.
    for (const char* path : {"/health/live", "/health/ready", "/openapi.json", "/external-run.schema.json"})
        EXPECT_EQ(with("", path).status, 200) << path;
    // A key for something else, one that asks too often, one that was taken away.
    ServiceStore store(directory_.path());
    const std::string other = store.add_key({.name = "other", .may = {Right::metrics}});
    const std::string seldom = store.add_key({.name = "seldom", .may = {Right::runs}, .per_minute = 2});
    EXPECT_EQ(with("Bearer " + other).status, 403);
    EXPECT_EQ(with("Bearer " + seldom).status, 404);
    EXPECT_EQ(with("Bearer " + seldom).status, 404);
    const HttpResponse refused = with("Bearer " + seldom);
    EXPECT_EQ(refused.status, 429);
    EXPECT_THAT(refused.headers, Contains(testing::Key("Retry-After")));
    EXPECT_TRUE(store.remove_key("all"));
    std::this_thread::sleep_for(std::chrono::milliseconds(600));
    EXPECT_EQ(with("Bearer " + key_).status, 401);
    // Nothing in the file is a key.
    std::ifstream file(directory_ / "service.db", std::ios::binary);
    const std::string bytes((std::istreambuf_iterator<char>(file)), std::istreambuf_iterator<char>());
    EXPECT_THAT(bytes, Not(HasSubstr(other)));
    EXPECT_THROW(store.add_key({.name = "other", .may = {Right::runs}}), InputError);
    EXPECT_THROW(store.add_key({.name = "../x", .may = {Right::runs}}), InputError);
    EXPECT_THROW(store.add_key({.name = "nothing"}), InputError);
}

TEST_F(Service, KeysAreListedWithTheirRightsAndNeverShownAgain) {
    ServiceStore store(directory_.path());
    store.add_key({.name = "a-loop", .may = {Right::metrics, Right::runs}, .per_minute = 90});
    const KeysResult result{store.keys()};
    ASSERT_EQ(result.keys.size(), 2U);
    const std::string text = to_text(result);
    const std::string added = result.keys[0].added;
    EXPECT_THAT(text, HasSubstr("a-loop  runs, metrics                    90  " + added));
    EXPECT_THAT(text, HasSubstr("all     runs, classify, metrics         any  "));
    const Json json = parse_json(to_json(result));
    EXPECT_EQ(json[0].at("may"), Json({"runs", "metrics"}));
    EXPECT_EQ(json[0].at("per_minute"), 90);
    EXPECT_EQ(json[0].at("added"), added);
    EXPECT_EQ(json[1].at("per_minute"), 0);
    EXPECT_EQ(to_text(KeysResult{}), "no keys yet\n");
    EXPECT_THAT(to_text(NewKeyResult{"all", key_}), testing::StartsWith(key_ + "\nkeep it: "));
    EXPECT_EQ(parse_json(to_json(NewKeyResult{"all", key_})).at("key"), key_);
}

TEST_F(Service, BadRequestsGetTheirStatusAndTheCure) {
    const std::string run = begin();
    const auto expect = [&](const HttpResponse& response, int status, const std::string& words) {
        EXPECT_EQ(response.status, status) << response.body;
        EXPECT_THAT(detail(response), HasSubstr(words));
    };
    expect(ask("POST", "/v1/runs", "{"), 400, "not JSON: wrong at byte");
    expect(ask("POST", "/v1/runs", R"({"seed":1,"seed":2})"), 400, "stands twice");
    expect(ask("POST", "/v1/runs", std::string(100, '[')), 400, "nested");
    expect(ask("POST", "/v1/runs", "split=1", "application/x-www-form-urlencoded"), 415, "application/json");
    expect(ask_json("POST", "/v1/runs", {{"seed", 1}}), 422, "'split' is missing");
    Json other = run_json();
    other["study"] = "none";
    expect(ask_json("POST", "/v1/runs", other), 422, "none");
    other = run_json();
    other["batch"] = 8;
    expect(ask_json("POST", "/v1/runs", other), 409, "states something else");
    expect(ask("GET", "/v1/runs/99"), 404, "no run with this number");
    for (const char* number : {"0", "-1", "x", "1e3", "99999999999999999999", "%2e%2e"})
        expect(ask("GET", std::string("/v1/runs/") + number), 404, "is no number of a run");
    expect(ask_json("PUT", run + "/epochs/0", epoch_json()), 404, "is no epoch");
    Json epoch = epoch_json();
    epoch["epoch"] = 2;
    expect(ask_json("PUT", run + "/epochs/1", epoch), 422, "the body is epoch 2");
    expect(ask("PUT", run + "/epochs/1", "[1]"), 422, "expected a JSON object");
    epoch = epoch_json();
    epoch["training_loss"] = nullptr;
    expect(ask_json("PUT", run + "/epochs/1", epoch), 422, "'training_loss' is missing");
    expect(ask("PUT", run + "/predictions", "a", "text/plain"), 415, "text/csv");
    expect(ask("PUT", run + "/predictions", "item,class 000\nx,1\n", "text/csv"), 422, "class 001");
    expect(ask("PUT", run + "/model", "no model", "application/octet-stream"), 422,
           "add those of 'theirs/1' first");
    expect(ask("PUT", run + "/model", "no model", "text/plain"), 415, "ONNX");
    expect(ask("POST", run + "/finish", R"({"best_epok": 1})"), 422, "did you mean 'best_epoch'?");
    expect(ask("POST", run + "/finish"), 422, "neither epochs nor predictions");
    expect(ask("POST", "/v1/runs/99/finish"), 404, "no run");
    study_.add_run({.candidate = "ours"});
    const RunId ours = study_.ledger().run(study_.study().id, "ours/1").id;
    expect(ask_json("PUT", fmt::format("/v1/runs/{}/epochs/1", ours.number), epoch_json()), 409,
           "was trained here");
    expect(ask("GET", "/v1/parts?fold=7"), 422, "no fold 7");
    // Nothing of the machine is told, and nothing of all this was recorded.
    for (const HttpResponse& response : {ask("GET", "/v1/runs/99"), ask("GET", "/v1/parts?study=none")})
        EXPECT_THAT(response.body, Not(HasSubstr(directory_.path().string())));
    EXPECT_EQ(parse_json(ask("GET", run).body).at("epochs"), 0);
}

TEST_F(Service, TheDocumentHasEveryRouteAndNoOther) {
    const Json document = parse_json(openapi_document());
    EXPECT_EQ(document.at("openapi"), "3.1.0");
    const std::string run = begin();
    ServiceStore(directory_.path())
        .publish("surfaces", std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "demo/backbone.onnx", "demo");
    for (int i = 0; i < 500 && ask("GET", "/v1/classifiers/surfaces").status != 200; ++i)
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
    for (const auto& [path, operations] : document.at("paths").items()) {
        std::string called = path;
        if (const auto at = called.find("/v1/runs/{run}"); at == 0) called = run + called.substr(14);
        if (const auto at = called.find("{name}"); at != std::string::npos) called.replace(at, 6, "surfaces");
        if (const auto at = called.find("{epoch}"); at != std::string::npos) called.replace(at, 7, "1");
        ASSERT_EQ(called.find('{'), std::string::npos) << path;
        for (const char* method : {"GET", "POST", "PUT", "DELETE"}) {
            std::string lower = method;
            for (char& letter : lower) letter = static_cast<char>(std::tolower(letter));
            const HttpResponse response = routes_.respond(
                {.method = method, .path = called, .headers = {{"authorization", "Bearer " + key_}}});
            if (operations.contains(lower)) {
                EXPECT_NE(response.status, 404) << method << " " << path;
                EXPECT_NE(response.status, 405) << method << " " << path;
                // A refusal without a key, where one is needed.
                const bool open = operations.at(lower).contains("security");
                EXPECT_EQ(routes_.respond({.method = method, .path = called}).status == 401, !open) << path;
            } else {
                EXPECT_EQ(response.status, path == "/metrics" ? 200 : 405) << method << " " << path;
            }
        }
    }
    for (const char* path :
         {"/", "/v1", "/v2/runs", "/v1/runs/", "/v1/runs/1/epochs", "/v1/runs/1/models", "/api/study"})
        EXPECT_EQ(ask("GET", path).status, 404) << path;
    // What the document refers to is there.
    const Json schema = parse_json(external_run_schema());
    for (const char* name : {"Run", "Epoch"}) EXPECT_TRUE(schema.at("$defs").contains(name));
}

TEST_F(Service, CountsWhatItDoes) {
    const std::string run = begin();
    ask_json("PUT", run + "/epochs/1", epoch_json());
    ask("GET", "/v1/runs/12/../../secret");
    const HttpResponse metrics = ask("GET", "/metrics");
    EXPECT_THAT(metrics.type, HasSubstr("application/openmetrics-text"));
    EXPECT_THAT(
        metrics.body,
        AllOf(HasSubstr(
                  R"(jevrin_requests_total{route="PUT /v1/runs/{number}/epochs/{number}",status="201"} 1)"),
              HasSubstr(R"(jevrin_requests_total{route="other",status="404"} 1)"),
              HasSubstr("jevrin_open_requests 1"), testing::EndsWith("# EOF\n")));
    std::vector<std::string> lines;
    ServiceRoutes logging(
        {.ledger = directory_.path(), .log = [&](const std::string& line) { lines.push_back(line); }});
    logging.respond({.path = "/health/live\n\x1b[2J"});
    ASSERT_EQ(lines.size(), 1U);
    EXPECT_THAT(lines[0], AllOf(Not(HasSubstr("\x1b")), Not(HasSubstr("\n"))));
    EXPECT_EQ(parse_json(lines[0]).at("status"), 404);
}

TEST_F(Service, ManyProgramsReportAtOnce) {
    constexpr int programs = 8;
    constexpr int epochs = 12;
    std::vector<std::string> runs;
    for (int i = 0; i < programs; ++i) runs.push_back(begin("theirs", i + 1));
    std::atomic<int> created{0};
    std::vector<std::thread> threads;
    for (int i = 0; i < programs; ++i)
        threads.emplace_back([&, i] {
            for (int e = epochs; e >= 1; --e) {  // the last one first
                HttpRequest request{
                    .method = "PUT",
                    .path = runs[static_cast<std::size_t>(i)] + "/epochs/" + std::to_string(e),
                    .headers = {{"authorization", "Bearer " + key_}, {"content-type", "application/json"}},
                    .body = json_text(epoch_json(e % 5))};
                for (int twice = 0; twice < 2; ++twice)
                    created += routes_.respond(request).status == 201 ? 1 : 0;
            }
        });
    for (std::thread& thread : threads) thread.join();
    EXPECT_EQ(created, programs * epochs);
    for (const std::string& run : runs) EXPECT_EQ(parse_json(ask("GET", run).body).at("epochs"), epochs);
}

TEST_F(Service, EndsWhenItHasAnswered) {
    auto server =
        std::make_unique<ServiceServer>(ServiceSettings{.ledger = directory_.path()}, HttpAddress{});
    EXPECT_THAT(server->address(), HasSubstr("http://127.0.0.1:"));
    server->stop();
    server.reset();
    EXPECT_THROW(ServiceServer({.ledger = directory_ / "none"}, {}), InputError);
}

}  // namespace
}  // namespace jevrin
