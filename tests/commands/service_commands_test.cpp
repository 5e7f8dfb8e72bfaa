// Models in service through the tool: published, asked by another program, contradicted, withdrawn; and the
// file that other readers use.
#include "evaluated.hpp"
#include "support/background_process.hpp"

#include <csignal>
#include <memory>

namespace jevrin {
namespace {

using testing::AllOf;
using testing::HasSubstr;

class ModelsInService : public test::Evaluated {
  protected:
    ModelsInService() { test::ignore_messages(); }  // they share a ledger: the first has no key to remove
    static Json curl(std::vector<std::string> arguments, const std::string& key) {
        arguments.insert(arguments.begin(), {"--silent", "--header", "Authorization: Bearer " + key});
        return parse_json(
            test::run_jevrin(arguments, {.directory = directory_->path(), .program = "/usr/bin/curl"})
                .output);
    }
    static std::string key(const std::string& ledger) {
        if (std::filesystem::exists(file(ledger) / "service.db"))
            run({"service", "remove-key", "shop", "--ledger", ledger});
        return run_json({"service", "add-key", "shop", "--may", "classify", "--ledger", ledger})
            .at("key")
            .get<std::string>();
    }
    // One of the images that are not in the test part.
    static std::string image(int which = 0) {
        const Json parts = run_json({"parts"});
        for (const Json& item : parts.at("items"))
            if (item.at("part") != "test" && which-- == 0)
                return "images/" + item.at("path").get<std::string>();
        return "";
    }
};

// Answers are what the OpenAPI document says, by a validator that knows nothing of us; what clients send,
// too.
TEST_F(ModelsInService, TheDocumentSaysWhatIsAnswered) {
    EXPECT_EQ(run({"service", "publish", "described", "--run", "new head/1"}).status, 0);
    const std::string secret = key("ledger");
    test::BackgroundProcess server(JEVRIN_PROGRAM,
                                   {"service", "start", "--quiet", "--ledger", file("ledger").string()});
    const std::string address = server.line_with("http://127.0.0.1:");
    const std::string script = R"py(
import base64, json, sys, urllib.request
from jsonschema import Draft202012Validator, RefResolver
address, key, image = sys.argv[1:]
def ask(path, body=None, type="application/json"):
    request = urllib.request.Request(address + path, body, {"Authorization": "Bearer " + key, "Content-Type": type})
    try: return json.load(urllib.request.urlopen(request))
    except urllib.error.HTTPError as error: return json.load(error)
document = ask("/openapi.json")
operations = [one["operationId"] for path in document["paths"].values() for method, one in path.items() if method != "parameters"]
if len(set(operations)) != len(operations): sys.exit("two operations have one name")
def check(name, value):
    errors = list(Draft202012Validator({"$ref": "#/components/schemas/" + name}, resolver=RefResolver("", document)).iter_errors(value))
    if errors: sys.exit(f"{name}: {errors[0].message}")
for one in ask("/v1/classifiers")["classifiers"]: check("Classifier", one)
sent = {"name": "a", "data": base64.b64encode(open(image, "rb").read()).decode()}
images = {"images": [sent, {"data": "bm8gaW1hZ2U="}]}
check("Images", images)
answers = ask("/v1/classifiers/described/classify", json.dumps(images).encode())
check("Answers", answers)
if "top" not in answers["images"][0] or "problem" not in answers["images"][1]: sys.exit(str(answers))
check("Problem", ask("/v1/classifiers/none/classify", b"{}"))
correction = {"image": sent, "label": "down", "note": "described"}
check("Correction", correction)
if not ask("/v1/classifiers/described/corrections", json.dumps(correction).encode())["new"]: sys.exit("not new")
)py";
    const test::CommandResult result =
        test::run_jevrin({"-W", "ignore", "-c", script, address, secret, file(image()).string()},
                         {.program = "/usr/bin/python3"});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_EQ(run({"marks", "reject", "1"}).status, 0);
}

// The machine that serves has no study, only the file.
TEST_F(ModelsInService, AFileIsServedWhereNothingWasTrained) {
    EXPECT_EQ(run({"export", "new head/1", "chosen.onnx", "--replace"}).status, 0);
    EXPECT_EQ(run({"service", "publish", "stripes", "images", "--ledger", "served"}).status, 2);
    EXPECT_FALSE(std::filesystem::exists(file("served")));
    EXPECT_THAT(run({"service", "publish", "stripes", "chosen.onnx", "--ledger", "served"}).output,
                AllOf(HasSubstr("stripes"), HasSubstr("in service")));
    const std::string secret = key("served");
    test::BackgroundProcess server(JEVRIN_PROGRAM, {"service", "start", "--ledger", file("served").string()});
    const std::string address = server.line_with("http://127.0.0.1:") + "/v1/classifiers/stripes";
    const std::string tile = image();
    const Json answer = curl({"-F", "image=@" + tile, address + "/classify"}, secret).at("images")[0];
    const Json said = run_json({"classify", "chosen.onnx", tile})[0];
    EXPECT_EQ(answer.at("top"), said.at("top"));
    EXPECT_EQ(answer.at("distance"), said.at("distance"));
    EXPECT_THAT(server.line_with("/classify"), HasSubstr(R"("status":200)"));
    // A second version, asked for by its number too.
    EXPECT_EQ(run({"service", "publish", "stripes", "chosen.onnx", "--sure-from", "1", "--ledger", "served"})
                  .status,
              0);
    server.line_with(R"("version":2,"state":"ready")");
    EXPECT_EQ(curl({"-F", "image=@" + tile, address + "/classify"}, secret).at("version"), 2);
    EXPECT_EQ(curl({"-F", "image=@" + tile, address + "/classify?version=1"}, secret).at("version"), 1);
    EXPECT_EQ(run({"service", "withdraw", "stripes", "2", "--ledger", "served"}).status, 0);
    server.line_with(R"("version":2,"state":"withdrawn")");
    EXPECT_EQ(curl({"-F", "image=@" + tile, address + "/classify"}, secret).at("version"), 1);
    const Json models = run_json({"service", "models", "--ledger", "served"});
    ASSERT_EQ(models.size(), 2U);
    EXPECT_EQ(models[0].at("withdrawn"), Json());
    EXPECT_NE(models[1].at("withdrawn"), Json());
    EXPECT_EQ(run({"service", "withdraw", "stripes", "2", "--ledger", "served"}).status, 2);
    EXPECT_EQ(run({"service", "publish", "stripes", "--ledger", "served"}).status, 2);
    EXPECT_EQ(run({"service", "publish", "stripes", "chosen.onnx", "--run", "new head/1"}).status, 2);
    server.signal(SIGTERM);
    EXPECT_EQ(server.wait(5.0), 0);
}

TEST_F(ModelsInService, WhatUsersSendBackEntersTheImageSet) {
    EXPECT_EQ(run({"service", "publish", "stripes", "--run", "new head/1"}).status, 0);
    const std::string secret = key("ledger");
    test::BackgroundProcess server(JEVRIN_PROGRAM,
                                   {"service", "start", "--quiet", "--ledger", file("ledger").string()});
    const std::string address = server.line_with("http://127.0.0.1:") + "/v1/classifiers/stripes/corrections";
    EXPECT_EQ(run({"marks", "received"}).output, "no image waits for a review\n");
    const std::string tile = image(1);
    const Json taken = curl({"-F", "image=@" + tile, "-F", "label=both", address}, secret);
    const std::string number = std::to_string(taken.at("number").get<std::int64_t>());
    server.signal(SIGKILL);
    server.wait(5.0);
    EXPECT_THAT(run({"marks", "received"}).output,
                AllOf(HasSubstr("both"), HasSubstr("marks accept NUMBER")));
    EXPECT_THAT(run({"marks", "accept", number, "--label", "botj"}).errors,
                HasSubstr("did you mean 'both'?"));
    EXPECT_EQ(run({"marks", "accept", "77"}).status, 2);
    EXPECT_EQ(run_json({"marks", "accept", number}).at("images")[0].at("review"), "accepted");
    std::filesystem::copy(file("images"), file("next"), std::filesystem::copy_options::recursive);
    EXPECT_EQ(run({"marks", "received", "--into", "none"}).status, 2);
    EXPECT_THAT(run({"marks", "received", "--all", "--into", "next"}).output,
                AllOf(HasSubstr("1 image with a label written"), HasSubstr("in the image set")));
    const Json all = run_json({"marks", "received", "--all"});
    const Json& received = all.at("images")[all.at("images").size() - 1];
    EXPECT_EQ(test::read_text(file(received.at("file").get<std::string>())), test::read_text(file(tile)));
    EXPECT_EQ(run({"marks", "reject", number}).status, 2);
}

TEST_F(ModelsInService, AFileWithItsPreparationAnswersAsTheOther) {
    EXPECT_EQ(run({"export", "new head/1", "plain.onnx"}).status, 0);
    const Json exported = run_json({"export", "new head/1", "prepared.onnx", "--with-preparation"});
    EXPECT_EQ(exported.at("with_preparation"), true);
    EXPECT_EQ(exported.at("bytes"), std::filesystem::file_size(file("prepared.onnx")));
    const std::string tile = image();
    EXPECT_EQ(run_json({"classify", "prepared.onnx", tile}), run_json({"classify", "plain.onnx", tile}));
    EXPECT_THAT(run({"export", "new head/1", "prepared.onnx", "--with-preparation", "--replace"}).output,
                HasSubstr("prepared inside the graph"));
    EXPECT_EQ(run({"export", "new head/1", "prepared.onnx", "--with-preparation"}).status, 2);
}

}  // namespace
}  // namespace jevrin
