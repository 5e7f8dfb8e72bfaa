#include "commands.hpp"
#include "output.hpp"
#include "runs_table.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

Json to_json(const RunRecord& run, const std::vector<TestLook>& looks) {
    Json json = {{"run", run.name()},
                 {"candidate", run.candidate},
                 {"regime", run.regime},
                 {"origin", run.origin},
                 {"seed", run.seed},
                 {"fold", run.fold},
                 {"state", state_name(run.state)},
                 {"in_training", run.claimed},
                 {"epochs", run.epochs},
                 {"planned_epochs", run.planned_epochs}};
    json["best_epoch"] = run.best ? Json(run.best->epoch) : Json();
    json["validation"] = run.best ? Json{{"accuracy", run.best->validation.accuracy()},
                                         {"balanced_accuracy", run.best->validation.balanced_accuracy()},
                                         {"macro_f1", run.best->validation.macro_f1()},
                                         {"loss", run.best->validation_loss}}
                                  : Json();
    json["parameters"] = run.parameters;
    json["trainable_parameters"] = run.trainable_parameters;
    json["multiplications"] = run.multiplications;
    json["seconds"] = run.seconds;
    json["image_set_version"] = run.image_set_version;
    json["test_looks"] = looks_with(looks, run.name());
    if (!run.reason.empty()) json["reason"] = run.reason;
    return json;
}

void runs(const LedgerOptions& options) {
    const OpenStudy open = open_study(options);
    const std::vector<RunRecord> all = open.ledger.runs(open.study.id);
    if (options.json) {
        Json json = Json::array();
        const std::vector<TestLook> looks = open.ledger.test_looks(open.study.id);
        for (const RunRecord& run : all) json.push_back(to_json(run, looks));
        print_json(json);
        return;
    }
    print(fmt::format("study '{}': {}", open.study.name, runs_table(all, open.study.metric)));
    if (open.study.image_set_version > 1)
        print(fmt::format("the image set is version {} of {}; --json says which one each run saw\n",
                          open.study.image_set_version, printable(open.study.image_root)));
    print("scores are of the validation part; " + test_look_line(open));
}

}  // namespace

void add_runs(CLI::App& app) {
    auto options = std::make_shared<LedgerOptions>();
    auto* command = app.add_subcommand("runs", "a line per run");
    add_ledger_options(*command, *options);
    command->callback([options] { runs(*options); });
}

}  // namespace jevrin::app
