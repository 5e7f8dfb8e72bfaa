// Runs from elsewhere through the tool: from the list of parts to the choice.
#include "evaluated.hpp"
#include "support/background_process.hpp"

#include "jevrin/base/csv.hpp"

#include <fmt/format.h>

#include <chrono>
#include <csignal>
#include <future>
#include <memory>

namespace jevrin {
namespace {

using test::read_text;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class ExternalRuns : public test::Evaluated {
  protected:
    struct Row {
        std::string item;
        std::string label;
        std::string part;
        std::string split;
    };
    static std::vector<Row> listed() {
        EXPECT_EQ(run({"parts", "--csv", "parts.csv"}).status, 0);
        const std::string text = read_text(file("parts.csv"));
        const CsvReader table(text, "parts.csv");
        std::vector<Row> rows;
        table.for_each([&](const CsvRow& row) {
            const auto cell = [&](const char* name) { return row.cells[table.require(name)]; };
            rows.push_back({cell("item"), cell("label"), cell("part"), cell("split")});
        });
        return rows;
    }
    // What a program that trains elsewhere leaves behind: a folder of a run that calls every item right, the
    // first `wrong` of the validation part excepted.
    static void write_run(const std::string& folder, const std::string& candidate, int seed, int wrong) {
        const std::vector<std::string> classes = {"across", "both", "down"};
        std::filesystem::create_directories(file(folder));
        std::string predictions = "item,across,both,down\n";
        Json predicted = Json::array();
        std::string split;
        for (const Row& row : listed()) {
            split = row.split;
            if (row.part != "validation") continue;
            const std::string called = wrong-- > 0 ? (row.label == "down" ? "both" : "down") : row.label;
            predicted.push_back(called);
            predictions += row.item;
            for (const std::string& one : classes) predictions += one == called ? ",0.9" : ",0.05";
            predictions += "\n";
        }
        std::string epochs;
        for (const int epoch : {1, 2})
            epochs += json_text({{"epoch", epoch},
                                 {"training_loss", 1.0 / epoch},
                                 {"validation_loss", 1.1 / epoch},
                                 {"seconds", 30},
                                 {"predicted", predicted}}) +
                      "\n";
        write_file(file(folder) / "run.json", json_text({{"split", split},
                                                         {"candidate", candidate},
                                                         {"regime", "partial"},
                                                         {"seed", seed},
                                                         {"program", "another program"},
                                                         {"parameters", 1'000'000},
                                                         {"trainable_parameters", 200'000}}));
        write_file(file(folder) / "epochs.jsonl", epochs);
        write_file(file(folder) / "predictions.csv", predictions);
    }
};

TEST_F(ExternalRuns, StandBesideOursInEveryCommand) {
    write_run("theirs/1", "larger network", 1, 1);
    write_run("theirs/2", "larger network", 2, 0);
    const Json taken = run_json({"ledger", "add", "theirs"});
    ASSERT_EQ(taken.at("runs").size(), 2U);
    EXPECT_EQ(taken.at("runs")[0].at("run"), "larger network/1");
    EXPECT_EQ(taken.at("runs")[0].at("new"), true);
    EXPECT_EQ(run_json({"ledger", "add", "theirs/1"}).at("runs")[0].at("new"), false);

    EXPECT_THAT(run({"runs"}).output, HasSubstr("finished elsewhere"));
    const Json runs = run_json({"runs", "--where", "external=another program"});
    ASSERT_EQ(runs.size(), 2U);
    EXPECT_EQ(runs[0].at("external").at("program"), "another program");
    EXPECT_EQ(runs[0].at("seconds"), 60);
    const Json choice = run_json({"choose", "--cost", "trained"});
    EXPECT_EQ(choice.at("ranking").size(), 4U);
    EXPECT_THAT(run({"choose"}).output, HasSubstr("Trained elsewhere, and judged by the predictions"));
    EXPECT_THAT(run({"show", "larger network/1"}).output,
                AllOf(HasSubstr("another program"), HasSubstr("of which 200,000 are trained"),
                      Not(HasSubstr("came without predictions"))));
    write_run("theirs/3", "claims", 3, 0);
    std::filesystem::remove(file("theirs/3/predictions.csv"));
    EXPECT_EQ(run({"ledger", "add", "theirs/3"}).status, 0);
    EXPECT_THAT(run({"show", "claims/3"}).output,
                HasSubstr("it came without predictions: its scores are what it claims"));
    for (const std::vector<std::string>& command :
         std::vector<std::vector<std::string>>{{"scores", "larger network/1"},
                                               {"classes", "larger network/1"},
                                               {"confusion", "larger network/1"},
                                               {"confusion", "larger network/1", "--epoch", "1"},
                                               {"mistakes", "larger network/1"},
                                               {"thresholds", "larger network/2"},
                                               {"suspects", "larger network"},
                                               {"curves", "larger network"},
                                               {"diagnose", "larger network"},
                                               {"agreement"},
                                               {"page", "--report", "report.html"}}) {
        const test::CommandResult result = run(command);
        EXPECT_EQ(result.status, 0) << command.front() << ": " << result.errors;
        EXPECT_THAT(result.output, Not(HasSubstr("nan"))) << command.front();
    }
    // What needs a model says that there is none.
    EXPECT_THAT(run({"export", "larger network/1", "theirs.onnx"}).errors, HasSubstr("came without a model"));
    EXPECT_THAT(run({"scores", "larger network/1", "--part", "test"}).errors,
                HasSubstr("came without a model"));
    // Ours are trained no second time, and theirs are left alone.
    EXPECT_EQ(run({"train", "plan.toml"}).status, 0);
    EXPECT_EQ(run_json({"runs"}).size(), 9U);
}

// A model of ours stands for one from elsewhere: exported, without its metadata, and predicting what its run
// predicted.
TEST_F(ExternalRuns, AModelMayComeAlong) {
    write_run("with model", "with model", 1, 0);
    EXPECT_EQ(run({"scores", "new head/1", "--csv", "own.csv"}).status, 0);
    EXPECT_EQ(run({"export", "new head/1", "with model/model.onnx"}).status, 0);
    std::filesystem::copy_file(file("own.csv"), file("with model/predictions.csv"),
                               std::filesystem::copy_options::overwrite_existing);
    // Epochs that only claim: the predictions are those of the model.
    write_file(
        file("with model/epochs.jsonl"),
        R"({"epoch": 1, "training_loss": 1, "validation_loss": 1, "seconds": 9, "scores": {"accuracy": 0.9}})"
        "\n");
    // A model may follow the run.
    std::filesystem::rename(file("with model/model.onnx"), file("model.onnx"));
    EXPECT_EQ(run({"ledger", "add", "with model"}).status, 0);
    std::filesystem::rename(file("model.onnx"), file("with model/model.onnx"));
    EXPECT_EQ(run_json({"ledger", "add", "with model"}).at("runs")[0].at("new"), true);
    const Json theirs = run_json({"runs", "--where", "candidate=with model"})[0];
    EXPECT_GT(theirs.at("prediction").at("milliseconds").get<double>(), 0.0);
    EXPECT_EQ(run({"export", "with model/1", "theirs.onnx"}).status, 0);
    EXPECT_EQ(run({"classify", "theirs.onnx", "images"}).status, 0);
    const Json own = run_json({"scores", "new head/1", "--part", "test"});
    EXPECT_EQ(run_json({"scores", "with model/1", "--part", "test"}).at("scores").at("accuracy"),
              own.at("scores").at("accuracy"));
    EXPECT_EQ(run_json({"ledger", "add", "with model"}).at("runs")[0].at("new"), false);
    // Another model than the predictions are of: the run stays, and says what is missing.
    write_run("other model", "other model", 1, 3);
    EXPECT_EQ(run({"export", "new head/1", "other model/model.onnx"}).status, 0);
    const test::CommandResult refused = run({"ledger", "add", "other model"});
    EXPECT_EQ(refused.status, 2);
    EXPECT_THAT(refused.errors,
                AllOf(HasSubstr("validation images get another class"), HasSubstr("model.onnx")));
    EXPECT_EQ(run_json({"show", "other model/1"}).at("state"), "finished");
    write_file(file("other model/model.onnx"), "no model");
    EXPECT_THAT(run({"ledger", "add", "other model"}).errors, HasSubstr("model.onnx"));
}

// The schema accepts what is taken in and refuses what is not, by a validator that knows nothing of us.
TEST_F(ExternalRuns, TheSchemaSaysTheSame) {
    write_run("by schema", "by schema", 1, 0);
    const std::string script = R"py(
import json, sys
from jsonschema import Draft202012Validator, RefResolver
schema = json.load(open(sys.argv[1]))
openapi = json.load(open(sys.argv[2]))
Draft202012Validator.check_schema(schema)
for one in openapi["components"]["schemas"].values(): Draft202012Validator.check_schema(one)
def of(name): return Draft202012Validator({"$ref": "#/$defs/" + name}, resolver=RefResolver("", schema))
run = json.load(open(sys.argv[3] + "/run.json"))
epoch = json.loads(open(sys.argv[3] + "/epochs.jsonl").readline())
def counts(name, good, bad):
    if not of(name).is_valid(good): sys.exit(f"{name} is refused: {[e.message for e in of(name).iter_errors(good)]}")
    for change in bad:
        if of(name).is_valid({**good, **change}): sys.exit(f"{name} accepts {change}")
counts("Run", run, [{"regime": "frozn"}, {"seed": 1.5}, {"split": None}, {"candidate": "a/b"}, {"unknown": 1}])
counts("RunInAFolder", {**run, "best_epoch": 2}, [{"best_epoch": 0}, {"unknown": 1}])
counts("Epoch", epoch, [{"epoch": 0}, {"training_loss": "low"}, {"training_los": 1}, {"numbers": {"a": "b"}},
                        {"confusion_cells": [[0, 1]]}, {"scores": {"accuracy": 2}}])
del epoch["predicted"]
if of("Epoch").is_valid(epoch): sys.exit("an epoch without any score is accepted")
)py";
    const std::filesystem::path api = std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "jevrin/server/api";
    const test::CommandResult result =
        test::run_jevrin({"-W", "ignore", "-c", script, (api / "external-run.schema.json").string(),
                          (api / "openapi.json").string(), file("by schema").string()},
                         {.program = "/usr/bin/python3"});
    EXPECT_EQ(result.status, 0) << result.errors;
}

TEST_F(ExternalRuns, PredictionsAloneNeedACandidate) {
    write_run("alone", "unused", 1, 0);
    std::filesystem::copy_file(file("alone") / "predictions.csv", file("alone.csv"),
                               std::filesystem::copy_options::overwrite_existing);
    EXPECT_THAT(run({"ledger", "add", "alone.csv"}).errors, HasSubstr("need --candidate and --regime"));
    EXPECT_THAT(run({"ledger", "add", "alone", "--seed", "3"}).errors, HasSubstr("--seed"));
    EXPECT_THAT(run({"ledger", "add", "alone.csv", "--candidate", "alone", "--regime", "frozn"}).errors,
                HasSubstr("did you mean 'frozen'?"));
    EXPECT_EQ(run({"ledger", "add", "alone.csv", "--candidate", "alone", "--regime", "frozen", "--seed", "4"})
                  .status,
              0);
    EXPECT_EQ(run_json({"show", "alone/4"}).at("state"), "finished");
    EXPECT_THAT(run({"ledger", "add", "nowhere"}).errors, HasSubstr("cannot read"));
    EXPECT_THAT(run({"ledger", "add", "theirs", "--ledger", "none"}).errors, HasSubstr("jevrin parts PLAN"));
}

TEST_F(ExternalRuns, ThePartsAreThereBeforeAnythingIsTrained) {
    const test::CommandResult result = run({"parts", "plan.toml", "--ledger", "fresh", "--csv", "fresh.csv"});
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output,
                AllOf(HasSubstr("3 classes"), HasSubstr("labels of the test part are left out")));
    const Json list = run_json({"parts", "--ledger", "fresh", "--order", "1", "--epochs", "2"});
    EXPECT_EQ(list.at("orders").size(), 2U);
    for (const Json& item : list.at("items"))
        EXPECT_EQ(item.at("label").is_null(), item.at("part") == "test");
    EXPECT_EQ(list.at("split"), listed().front().split);  // the same as that of the training
    const Json open = run_json({"parts", "--ledger", "fresh", "--with-test-labels"});
    for (const Json& item : open.at("items")) EXPECT_FALSE(item.at("label").is_null());
    EXPECT_EQ(run_json({"parts", "plan.toml", "--ledger", "fresh"}).at("split"), list.at("split"));
    EXPECT_THAT(run({"parts", "--ledger", "none"}).errors, HasSubstr("none"));
    EXPECT_THAT(run({"parts", "--fold", "2"}).errors, HasSubstr("no fold 2"));
}

// The clients that come with the library, against the real server, which is killed and started again
// meanwhile.
class Clients : public ExternalRuns {
  protected:
    Clients() { test::ignore_messages(); }  // they share a ledger: the first has no key to remove
    static const std::filesystem::path& clients() {
        static const std::filesystem::path directory =
            std::filesystem::path(JEVRIN_SOURCE_DIRECTORY) / "examples/clients";
        return directory;
    }
    static std::string key() {
        run({"service", "remove-key", "client"});
        return run_json({"service", "add-key", "client", "--may", "runs"}).at("key").get<std::string>();
    }
    static std::unique_ptr<test::BackgroundProcess> server(const std::string& port = "") {
        std::vector<std::string> arguments = {"service", "start", "--quiet", "--ledger",
                                              file("ledger").string()};
        if (!port.empty()) arguments.insert(arguments.end(), {"--port", port});
        return std::make_unique<test::BackgroundProcess>(JEVRIN_PROGRAM, arguments);
    }
};

TEST_F(Clients, APythonProgramReportsWhileTheServerIsKilled) {
    auto serving = server();
    const std::string address = serving->line_with("http://127.0.0.1:");
    const std::string port = address.substr(address.rfind(':') + 1);
    const std::string secret = key();
    const auto client = [&] {
        return test::run_jevrin({(clients() / "train_elsewhere.py").string(), address, secret, "images",
                                 "--seeds", "1,2", "--epochs", "30"},
                                {.directory = directory_->path(), .program = "/usr/bin/python3"});
    };
    auto ended = std::async(std::launch::async, client);
    for (int kills = 0;
         kills < 4 && ended.wait_for(std::chrono::milliseconds(250)) != std::future_status::ready; ++kills) {
        serving->signal(SIGKILL);
        serving->wait(5.0);
        serving = server(port);
        serving->line_with("http://127.0.0.1:");
    }
    const test::CommandResult result = ended.get();
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, AllOf(HasSubstr("byte histogram/1: finished, 30 epochs"),
                                     HasSubstr("byte histogram/2: finished, 30 epochs")));
    for (const Json& one : run_json({"curves", "byte histogram"})) {
        ASSERT_EQ(one.at("epochs").size(), 30U);
        for (int e = 1; e <= 30; ++e)
            EXPECT_EQ(one.at("epochs")[static_cast<std::size_t>(e - 1)].at("epoch"), e);
    }
    EXPECT_THAT(run({"choose"}).output, HasSubstr("byte histogram"));
    // Said again, it is answered again.
    EXPECT_EQ(client().output, result.output);
    serving->signal(SIGTERM);
    EXPECT_EQ(serving->wait(5.0), 0);
}

TEST_F(Clients, AModelIsSentAfterItsPredictions) {
    auto serving = server();
    const std::string address = serving->line_with("http://127.0.0.1:");
    const std::string secret = key();
    EXPECT_EQ(run({"scores", "new head/1", "--csv", "sent.csv"}).status, 0);
    EXPECT_EQ(run({"export", "new head/1", "sent.onnx"}).status, 0);
    const auto send = [&](const std::string& method, const std::string& path,
                          const std::vector<std::string>& more) {
        std::vector<std::string> arguments = {
            "--silent", "--request", method, "--header", "Authorization: Bearer " + secret, address + path};
        arguments.insert(arguments.end(), more.begin(), more.end());
        return parse_json(
            test::run_jevrin(arguments, {.directory = directory_->path(), .program = "/usr/bin/curl"})
                .output);
    };
    const Json created = send(
        "POST", "/v1/runs",
        {"--header", "Content-Type: application/json", "--data",
         json_text(
             {{"split", listed().front().split}, {"candidate", "sent"}, {"regime", "frozen"}, {"seed", 1}})});
    const std::string one = "/v1/runs/" + std::to_string(created.at("id").get<std::int64_t>());
    const std::vector<std::string> model = {"--header", "Content-Type: application/octet-stream",
                                            "--data-binary", "@sent.onnx"};
    EXPECT_THAT(send("PUT", one + "/model", model).at("detail").get<std::string>(),
                AllOf(HasSubstr("add those of 'sent/1' first"), Not(HasSubstr(directory_->path().string()))));
    EXPECT_EQ(send("PUT", one + "/predictions",
                   {"--header", "Content-Type: text/csv", "--data-binary", "@sent.csv"})
                  .at("new"),
              true);
    EXPECT_EQ(send("PUT", one + "/model", model).at("new"), true);
    EXPECT_EQ(send("PUT", one + "/model", model).at("new"), false);
    EXPECT_EQ(send("POST", one + "/finish", {}).at("state"), "finished");
    EXPECT_EQ(run({"export", "sent/1", "again.onnx"}).status, 0);
    EXPECT_GT(
        run_json({"runs", "--where", "candidate=sent"})[0].at("prediction").at("milliseconds").get<double>(),
        0.0);
}

TEST_F(Clients, AShellScriptSendsWhatAProgramHasLogged) {
    auto serving = server();
    const std::string address = serving->line_with("http://127.0.0.1:");
    write_run("logged", "unused", 1, 0);
    write_file(file("log.csv"),
               "epoch,training_loss,validation_loss,accuracy,seconds\n1,1.0,1.1,0.5,3\n2,0.5,0.6,1.0,3\n");
    const auto send = [&](const std::string& secret) {
        return test::run_jevrin(
            {(clients() / "send_log.sh").string(), address, secret, "from a log", "frozen", "1",
             file("log.csv").string(), (file("logged") / "predictions.csv").string()},
            {.directory = directory_->path(), .program = "/bin/sh"});
    };
    const std::string secret = key();
    const test::CommandResult result = send(secret);
    EXPECT_EQ(result.status, 0) << result.errors;
    EXPECT_THAT(result.output, HasSubstr(R"("state":"finished")"));
    EXPECT_EQ(send(secret).output, result.output);
    EXPECT_NE(send("wrong").status, 0);
    EXPECT_EQ(run_json({"show", "from a log/1"}).at("external").at("program"), "send_log.sh");
}

}  // namespace
}  // namespace jevrin
