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
    static Json curl(std::vector<std::string> arguments, const std::string& key) {
        arguments.insert(arguments.begin(), {"--silent", "--header", "Authorization: Bearer " + key});
        return parse_json(
            test::run_jevrin(arguments, {.directory = directory_->path(), .program = "/usr/bin/curl"})
                .output);
    }
    static std::string key(const std::string& ledger) {
        return run_json({"service", "add-key", "shop", "--may", "classify", "--ledger", ledger})
            .at("key")
            .get<std::string>();
    }
    // An image that is not in the test part.
    static std::string image() {
        const Json parts = run_json({"parts"});
        for (const Json& item : parts.at("items"))
            if (item.at("part") != "test") return "images/" + item.at("path").get<std::string>();
        return "";
    }
};

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
    const std::string tile = image();
    EXPECT_EQ(curl({"-F", "image=@" + tile, "-F", "label=both", address}, secret).at("number"), 1);
    server.signal(SIGKILL);
    server.wait(5.0);
    EXPECT_THAT(run({"marks", "received"}).output,
                AllOf(HasSubstr("both"), HasSubstr("marks accept NUMBER")));
    EXPECT_THAT(run({"marks", "accept", "1", "--label", "botj"}).errors, HasSubstr("did you mean 'both'?"));
    EXPECT_EQ(run({"marks", "accept", "2"}).status, 2);
    EXPECT_EQ(run_json({"marks", "accept", "1"}).at("images")[0].at("review"), "accepted");
    std::filesystem::copy(file("images"), file("next"), std::filesystem::copy_options::recursive);
    EXPECT_EQ(run({"marks", "received", "--into", "none"}).status, 2);
    EXPECT_THAT(run({"marks", "received", "--all", "--into", "next"}).output,
                AllOf(HasSubstr("1 image written with their label"), HasSubstr("in the image set")));
    const Json received = run_json({"marks", "received", "--all"}).at("images")[0];
    EXPECT_EQ(test::read_text(file(received.at("file").get<std::string>())), test::read_text(file(tile)));
    EXPECT_EQ(run({"marks", "reject", "1"}).status, 2);
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
