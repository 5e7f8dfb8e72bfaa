// Models in service: images are classified as the library classifies them, versions come and go without a
// lost request, and answers are contradicted.
#include "documented.hpp"
#include "support/trained_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/external/received_images.hpp"
#include "jevrin/results/model_results.hpp"
#include "jevrin/results/received_result.hpp"
#include "jevrin/server/batched_classifier.hpp"
#include "jevrin/server/service_results.hpp"
#include "jevrin/server/service_server.hpp"

#include <fmt/format.h>

#include <atomic>
#include <mutex>
#include <thread>

namespace jevrin {
namespace {

using testing::AllOf;
using testing::Contains;
using testing::HasSubstr;
using testing::Not;

// The bytes as base64 (RFC 4648).
std::string in_base64(const std::string& bytes) {
    constexpr const char* letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string text;
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        std::uint32_t three = 0;
        for (std::size_t k = 0; k < 3; ++k)
            three = three << 8 | (i + k < bytes.size() ? static_cast<unsigned char>(bytes[i + k]) : 0U);
        for (std::size_t k = 0; k < 4; ++k)
            text += i + k > bytes.size() ? '=' : letters[three >> (18 - 6 * k) & 63U];
    }
    return text;
}

class Classifiers : public test::TrainedStudy {
  protected:
    Classifiers() {
        // A ledger of its own for each test.
        std::filesystem::copy(ledger_directory(), own_ / "ledger", std::filesystem::copy_options::recursive);
        ServiceStore store(here());
        key_ = store.add_key({.name = "shop", .may = {Right::classify, Right::metrics}});
        publish("new head/1");
        open();
    }

    std::filesystem::path here() const { return own_ / "ledger"; }
    PublishedModel publish(const std::string& run, double sure_from = 0.0) {
        const Ledger ledger = Ledger::open(here());
        return publish_run(ledger, ledger.study(), run, "stripes", sure_from);
    }
    void open() {
        routes_ = std::make_unique<ServiceRoutes>(
            ServiceSettings{.ledger = here(), .log = [this](const std::string& line) {
                                const std::lock_guard lock(mutex_);
                                log_ += line + "\n";
                            }});
    }
    std::string log() {
        const std::lock_guard lock(mutex_);
        return log_;
    }
    // Until it says so.
    void await_log(const std::string& words) {
        for (int i = 0; i < 500 && log().find(words) == std::string::npos; ++i)
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
        EXPECT_THAT(log(), HasSubstr(words));
    }

    HttpResponse ask(HttpRequest request) {
        if (!request.headers.contains("authorization")) request.headers["authorization"] = "Bearer " + key_;
        HttpResponse response = routes_->respond(request);
        test::expect_documented(request.method, request.path, response);
        return response;
    }
    HttpResponse send(const std::string& body, const std::string& type = "image/png",
                      std::map<std::string, std::string> query = {}, const std::string& name = "stripes") {
        return ask({.method = "POST",
                    .path = "/v1/classifiers/" + name + "/classify",
                    .query = std::move(query),
                    .headers = {{"content-type", type}},
                    .body = body});
    }
    HttpResponse send_form(const std::string& verb, std::vector<FormPart> form) {
        return ask({.method = "POST",
                    .path = "/v1/classifiers/stripes/" + verb,
                    .headers = {{"content-type", "multipart/form-data; boundary=x"}},
                    .form = std::move(form)});
    }
    // Files of a part.
    std::vector<std::filesystem::path> files(Part part) const {
        std::vector<std::filesystem::path> result;
        for (const std::string& id : items(part))
            result.push_back(directory_->path() / "images" / id.substr(0, id.find('#')));
        return result;
    }
    static std::string bytes_of(const std::filesystem::path& file) { return read_text(file); }
    // What the library says of it.
    Json direct(const std::filesystem::path& file, const std::string& run = "new head/1") const {
        ImageClassifier classifier(model_file(run), {.top = 0});
        const ClassifyResult result = classifier.classify({&file, 1});
        return parse_json(to_json(result))[0].at("top");
    }
    std::filesystem::path model_file(const std::string& run) const {
        const Ledger ledger = Ledger::open(here());
        return ledger.model_file(ledger.run(ledger.study().id, run).id);
    }
    static std::string detail(const HttpResponse& response) {
        return parse_json(response.body).value("detail", "");
    }
    void expect(const HttpResponse& response, int status, const std::string& words) {
        EXPECT_EQ(response.status, status) << response.body;
        EXPECT_THAT(detail(response), AllOf(HasSubstr(words), Not(HasSubstr(own_.path().string()))));
    }

    test::TemporaryDirectory own_;
    std::string key_;
    std::mutex mutex_;
    std::string log_;
    std::unique_ptr<ServiceRoutes> routes_;
};

TEST_F(Classifiers, ManyImagesAreClassifiedInBatchesThatFit) {
    std::mutex mutex;
    std::vector<std::size_t> batches;
    BatchedClassifier classifier(load_classifier(model_file("new head/1")),
                                 {.batch = [&](std::size_t images) {
                                     const std::lock_guard lock(mutex);
                                     batches.push_back(images);
                                 }});
    const std::vector<std::filesystem::path> part = files(Part::validation);
    std::vector<std::string> bytes;
    for (std::size_t i = 0; i < 150; ++i) bytes.push_back(bytes_of(part[i % part.size()]));
    std::vector<SentImage> images;
    for (const std::string& one : bytes) images.push_back({"tile.png", one});
    const auto outcomes = classifier.classify(images);
    ASSERT_TRUE(outcomes.has_value());
    ASSERT_EQ(outcomes->size(), 150U);
    for (std::size_t i = 0; i < 150; ++i) {
        ASSERT_TRUE((*outcomes)[i].answer.has_value()) << (*outcomes)[i].problem;
        EXPECT_EQ((*outcomes)[i].answer->probabilities, (*outcomes)[i % part.size()].answer->probabilities);
    }
    std::size_t sum = 0;
    for (const std::size_t images_of : batches) sum += images_of;
    EXPECT_EQ(sum, 150U);
}

TEST_F(Classifiers, AnswerWhatTheLibrarySays) {
    const std::vector<std::filesystem::path> images = files(Part::validation);
    ASSERT_GE(images.size(), 4U);
    const Json one = parse_json(send(bytes_of(images[0]), "image/png", {{"top", "0"}}).body);
    EXPECT_EQ(one.at("model"), "stripes");
    EXPECT_EQ(one.at("version"), 1);
    EXPECT_EQ(one.at("images")[0].at("top"), direct(images[0]));
    EXPECT_EQ(one.at("images")[0].at("sure"), true);
    EXPECT_EQ(one.at("images")[0].at("test_image"), false);
    // Several, and one of them is no image; in the order in which they were sent.
    std::vector<FormPart> form;
    Json list = Json::array();
    for (const auto& image : images) {
        form.push_back({.name = "image", .file = image.filename().string(), .content = bytes_of(image)});
        list.push_back({{"name", image.filename().string()}, {"data", in_base64(bytes_of(image))}});
    }
    form.insert(form.begin() + 1, {.name = "image", .file = "notes.txt", .content = "no image"});
    const Json several = parse_json(send_form("classify", form).body).at("images");
    ASSERT_EQ(several.size(), images.size() + 1);
    EXPECT_THAT(several[1].at("problem").get<std::string>(), HasSubstr("not an image"));
    EXPECT_EQ(several[1].at("image"), "notes.txt");
    const Json in_json =
        parse_json(send(json_text({{"images", list}}), "application/json", {{"top", "1"}}).body).at("images");
    for (std::size_t i = 0; i < images.size(); ++i) {
        const Json expected = direct(images[i]);
        EXPECT_EQ(several[i == 0 ? 0 : i + 1].at("top")[0], expected[0]);
        EXPECT_EQ(in_json[i].at("top"), Json::array({expected[0]}));
        EXPECT_EQ(in_json[i].at("image"), images[i].filename().string());
    }
    const Json listed = parse_json(ask({.path = "/v1/classifiers"}).body).at("classifiers");
    ASSERT_EQ(listed.size(), 1U);
    EXPECT_EQ(listed[0].at("classes"), (Json::array({"across", "both", "down"})));
    EXPECT_EQ(parse_json(ask({.path = "/v1/classifiers/stripes"}).body), listed[0]);
    EXPECT_THAT(
        ask({.path = "/metrics"}).body,
        AllOf(HasSubstr(R"(jevrin_images_total{model="stripes",version="1",kind="refused"} 1)"),
              HasSubstr(R"(jevrin_models{state="ready"} 1)"), HasSubstr("jevrin_batch_images_count")));
}

TEST_F(Classifiers, AnswerManyClientsAtOnce) {
    const std::vector<std::filesystem::path> images = files(Part::training);
    std::vector<std::string> bytes;
    std::vector<Json> expected;
    for (const auto& image : images) {
        bytes.push_back(bytes_of(image));
        expected.push_back(direct(image)[0]);
    }
    std::atomic<int> wrong{0};
    std::vector<std::thread> threads;
    for (std::size_t client = 0; client < 8; ++client)
        threads.emplace_back([&, client] {
            for (std::size_t i = 0; i < 20; ++i) {
                const std::size_t k = (client * 5 + i) % bytes.size();
                const HttpResponse response = send(bytes[k]);
                wrong += response.status == 200 &&
                                 parse_json(response.body).at("images")[0].at("top")[0] == expected[k]
                             ? 0
                             : 1;
            }
        });
    for (std::thread& thread : threads) thread.join();
    EXPECT_EQ(wrong, 0);
}

TEST_F(Classifiers, VersionsComeAndGoWithoutALostRequest) {
    const std::string image = bytes_of(files(Part::validation)[0]);
    std::atomic<bool> stop{false};
    std::atomic<int> lost{0};
    std::mutex mutex;
    std::vector<std::vector<std::int64_t>> seen(4);
    std::vector<std::thread> threads;
    for (auto& versions : seen)
        threads.emplace_back([&] {
            while (!stop) {
                const HttpResponse response = send(image);
                if (response.status != 200) {
                    ++lost;
                    continue;
                }
                const std::int64_t version = parse_json(response.body).at("version").get<std::int64_t>();
                const std::lock_guard lock(mutex);
                if (versions.empty() || versions.back() != version) versions.push_back(version);
            }
        });
    EXPECT_EQ(publish("from scratch/1").version, 2);
    await_log(R"("version":2,"state":"ready")");
    EXPECT_EQ(parse_json(send(image).body).at("version"), 2);
    EXPECT_EQ(parse_json(send(image, "image/png", {{"version", "1"}}).body).at("version"), 1);
    ServiceStore(here()).withdraw("stripes", 2);
    await_log(R"("version":2,"state":"withdrawn")");
    EXPECT_EQ(parse_json(send(image).body).at("version"), 1);
    EXPECT_EQ(publish("new head/1").version, 3);  // a number is never used twice
    await_log(R"("version":3,"state":"ready")");
    stop = true;
    for (std::thread& thread : threads) thread.join();
    EXPECT_EQ(lost, 0);
    for (const auto& versions : seen)
        EXPECT_THAT(versions,
                    testing::AnyOf(testing::ElementsAre(1, 2, 1, 3), testing::ElementsAre(1, 2, 1)));
    expect(send(image, "image/png", {{"version", "2"}}), 404, "version 2");
    // The same file in two versions is one copy, and stays for the second.
    ServiceStore(here()).withdraw("stripes", 1);
    routes_.reset();
    open();
    EXPECT_EQ(parse_json(send(image).body).at("version"), 3);
    ServiceStore(here()).withdraw("stripes", 3);
    EXPECT_TRUE(std::filesystem::is_empty(here() / "published"));
    EXPECT_THROW(ServiceStore(here()).withdraw("stripes", 3), InputError);
}

TEST_F(Classifiers, BadRequestsGetTheirStatusAndTheCure) {
    const std::string image = bytes_of(files(Part::validation)[0]);
    expect(send("", "image/png"), 422, "empty");
    expect(send(image.substr(0, image.size() / 2)), 422, "image: ");
    expect(send(image, "text/plain"), 415, "multipart/form-data");
    expect(send(image, "image/png", {{"top", "-1"}}), 404, "is no number of classes");
    expect(send(image, "image/png", {{"version", "7"}}), 404, "in version 7");
    expect(send(image, "image/png", {}, "other"), 404, "no model 'other'");
    expect(send(image, "image/png", {}, ".."), 404, "no model '..'");
    expect(send("{", "application/json"), 400, "not JSON");
    expect(send("{}", "application/json"), 422, "is expected");
    expect(send(R"({"images": []})", "application/json"), 422, "no image in this request");
    expect(send(R"({"images": [{"name": "a"}]})", "application/json"), 422, "'data' is missing");
    expect(send(R"({"images": [{"data": 7}]})", "application/json"), 422, "no text");
    for (const char* text : {"a", "ab=c", "====", "a-_a", "abc\\n"})
        expect(send(fmt::format(R"({{"images": [{{"data": "{}"}}]}})", text), "application/json"), 422,
               "no base64");
    expect(send_form("classify", {}), 422, "no image in this request");
    expect(send_form("classify", std::vector<FormPart>(257, {.name = "image", .content = image})), 422,
           "at most 256");
    // A header that promises far more pixels than an image may have.
    std::string bomb = image;
    for (std::size_t i = 16; i < 24; ++i) bomb[i] = '\x7f';
    expect(send(bomb), 422, "image: ");
    const std::string other = ServiceStore(here()).add_key({.name = "runs", .may = {Right::runs}});
    expect(ask({.path = "/v1/classifiers", .headers = {{"authorization", "Bearer " + other}}}), 403,
           "classify");
    expect(ask({.path = "/v1/classifiers", .headers = {{"authorization", "Bearer none"}}}), 401, "key");
    EXPECT_EQ(ask({.method = "POST", .path = "/v1/classifiers"}).status, 405);
    EXPECT_EQ(ask({.path = "/v1/classifiers/stripes/classify"}).status, 405);
    // All that was no harm.
    EXPECT_EQ(send(image).status, 200);
    EXPECT_THROW(ServiceStore(here()).publish("a/b", model_file("new head/1"), "x"), InputError);
    EXPECT_THROW(ServiceStore(here()).publish("a", files(Part::training)[0], "x"), InputError);
}

TEST_F(Classifiers, ADamagedCopyIsNotServed) {
    const PublishedModel second = publish("from scratch/1", 1.0);
    const std::filesystem::path file = ServiceStore(here()).model_file(second);
    std::string bytes = bytes_of(file);
    bytes[bytes.size() / 2] = static_cast<char>(bytes[bytes.size() / 2] ^ 1);
    write_file(file, bytes);
    routes_.reset();
    open();
    await_log(R"("version":2,"state":"failed","failure":"its file is damaged")");
    const std::string image = bytes_of(files(Part::validation)[0]);
    EXPECT_EQ(parse_json(send(image).body).at("version"), 1);
    EXPECT_THAT(ask({.path = "/metrics"}).body, HasSubstr(R"(jevrin_models{state="failed"} 1)"));
    // A copy of the same again; with this version few answers are sure.
    publish("from scratch/1", 1.0);
    await_log(R"("version":3,"state":"ready")");
    EXPECT_EQ(parse_json(send(image).body).at("images")[0].at("sure"), false);
}

TEST_F(Classifiers, ASealedTestPartIsNotLookedAtInSecret) {
    const auto looks = [&] {
        const Ledger ledger = Ledger::open(here());
        return ledger.test_looks(ledger.study().id).size();
    };
    const std::string image = bytes_of(files(Part::test)[0]);
    const std::size_t before = looks();
    EXPECT_EQ(parse_json(send(image).body).at("images")[0].at("test_image"), true);
    EXPECT_EQ(looks(), before + 1);
    send(bytes_of(files(Part::training)[0]));
    EXPECT_EQ(looks(), before + 1);
    expect(send_form("corrections", {{.name = "image", .file = "a.png", .content = image},
                                     {.name = "label", .content = "both"}}),
           422, "sealed test part");
}

TEST_F(Classifiers, WhatIsContradictedWaitsForAReview) {
    const std::vector<std::filesystem::path> images = files(Part::validation);
    const auto contradict = [&](std::size_t image, const std::string& label, const std::string& note = "") {
        std::vector<FormPart> form = {{.name = "image", .file = "a.png", .content = bytes_of(images[image])}};
        form.push_back(label.empty() ? FormPart{.name = "none_of_these", .content = "true"}
                                     : FormPart{.name = "label", .content = label});
        if (!note.empty()) form.push_back({.name = "note", .content = note});
        return send_form("corrections", form);
    };
    EXPECT_EQ(contradict(0, "both", "seen by hand").status, 201);
    EXPECT_EQ(contradict(0, "both", "seen by hand").status, 200);
    EXPECT_EQ(contradict(0, "across").status, 201);  // said otherwise while it waits
    EXPECT_EQ(contradict(1, "").status, 201);
    const Json third = {{"image", {{"data", in_base64(bytes_of(images[2]))}}}, {"label", "down"}};
    EXPECT_EQ(ask({.method = "POST",
                   .path = "/v1/classifiers/stripes/corrections",
                   .headers = {{"content-type", "application/json"}},
                   .body = json_text(third)})
                  .status,
              201);
    expect(contradict(0, "oblique"), 422, "no class of this model");
    expect(contradict(0, std::string(300, 'x')), 422, "longer than 200 bytes");
    expect(send_form("corrections", {{.name = "image", .content = bytes_of(images[0])}}), 422, "either");
    expect(send_form("corrections", {{.name = "label", .content = "both"}}), 422, "one 'image'");
    expect(
        send_form("corrections", {{.name = "image", .content = "x"}, {.name = "label", .content = "both"}}),
        422, "not an image");
    expect(send_form("corrections", {{.name = "lable", .content = "both"}}), 422, "'lable' is not known");

    ReceivedResult result = report_received(here(), false);
    ASSERT_EQ(result.images.size(), 3U);
    EXPECT_EQ(result.images[0].label, "across");
    EXPECT_THAT(result.images[0].received, testing::MatchesRegex("20..-..-..T..:..:..Z"));
    EXPECT_EQ(result.images[0].sender, "shop");
    EXPECT_EQ(result.images[0].model, "stripes");
    EXPECT_EQ(result.images[0].predicted, direct(images[0])[0].at("class").get<std::string>());
    EXPECT_EQ(result.images[1].label, "");
    review_received(here(), {1, 2}, Review::accepted);
    review_received(here(), {3}, Review::rejected);
    EXPECT_THROW(review_received(here(), {1, 9}, Review::rejected), InputError);
    expect(contradict(0, "both"), 409, "was reviewed");

    std::filesystem::create_directory(own_ / "set");
    result = report_received(here(), true, {.root = own_ / "set", .unlabelled = {}});
    EXPECT_EQ(result.written->labelled, 1);
    EXPECT_EQ(result.written->left, 1);
    EXPECT_EQ(bytes_of(result.images[0].written), bytes_of(images[0]));
    EXPECT_EQ(std::filesystem::path(result.images[0].written).parent_path(), own_ / "set" / "across");
    result = report_received(here(), true, {.root = own_ / "set", .unlabelled = own_ / "unlabelled"});
    EXPECT_EQ(result.written->labelled, 0);
    EXPECT_EQ(result.written->unlabelled, 1);
    EXPECT_THAT(to_text(result), HasSubstr("in the image set"));
    EXPECT_THROW(review_received(here(), {1}, Review::rejected), InputError);
    EXPECT_TRUE(report_received(here(), false).images.empty());
}

}  // namespace
}  // namespace jevrin
