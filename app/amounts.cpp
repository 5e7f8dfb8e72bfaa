#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/amounts_figure.hpp"
#include "jevrin/results/amounts_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct AmountsOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::filesystem::path figure;
    std::filesystem::path csv;
};

void amounts(const AmountsOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const AmountsResult result = report_amounts(open.ledger, open.study, options.runs);
    if (!options.figure.empty())
        draw_amounts(result.report, open.study.metric, CandidateStyles(open.ledger.candidates(open.study.id)),
                     fmt::format("{}: score by amount of training data", open.study.name), options.figure);
    write_table(options.csv, to_table(result));
    present(
        result,
        {.json = options.ledger.json, .form = form_for_terminal(), .written = {options.figure, options.csv}});
}

}  // namespace

void add_amounts(Command& command) {
    auto options = std::make_shared<AmountsOptions>();
    command.add_option("RUN", options->runs, "candidates, or runs (default: all)");
    add_picture_option(command, "--figure", options->figure, "draw it");
    add_table_option(command, options->csv, "write it as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { amounts(*options); });
}

}  // namespace jevrin::app
