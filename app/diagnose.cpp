#include "output.hpp"

#include "jevrin/results/diagnosis_result.hpp"

namespace jevrin::app {
namespace {

struct DiagnoseOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
};

void diagnose_runs(const DiagnoseOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    present(report_diagnoses(open.ledger, open.study, options.runs), {.json = options.ledger.json});
}

}  // namespace

void add_diagnose(Command& command) {
    auto options = std::make_shared<DiagnoseOptions>();
    add_runs_option(command, options->runs);
    add_ledger_options(command, options->ledger);
    command.callback([options] { diagnose_runs(*options); });
}

}  // namespace jevrin::app
