#include "prediction_options.hpp"

#include "jevrin/results/run_result.hpp"

namespace jevrin::app {
namespace {

struct ShowOptions {
    LedgerOptions ledger;
    std::string run;
    bool layers = false;
    std::int64_t epoch = 0;  // 0: the last
};

void show(const ShowOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const RunResult result = report_run(open.ledger, open.study, options.run, stated_epoch(options.epoch));
    if (options.layers && !options.ledger.json)
        print(layers_text(result));
    else
        present(result, {.json = options.ledger.json});
}

}  // namespace

void add_show(Command& command) {
    auto options = std::make_shared<ShowOptions>();
    command.add_option("RUN", options->run, "the run, as CANDIDATE/SEED").required();
    command.add_flag("--layers", options->layers, "how its layers fared, instead of its plan");
    add_epoch_option(command, options->epoch, "of this epoch (default: the last)");
    add_ledger_options(command, options->ledger);
    command.callback([options] { show(*options); });
}

}  // namespace jevrin::app
