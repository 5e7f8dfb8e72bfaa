#include "output.hpp"

#include "jevrin/figures/matrices_figure.hpp"
#include "jevrin/results/recall_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct RecallOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::filesystem::path figure;
    std::filesystem::path csv;
};

void recall(const RecallOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const RecallResult result = report_recalls(open.ledger, open.study, options.runs);
    if (!options.figure.empty())
        draw_recalls(result.recalls, open.study.classes, CandidateStyles(result.candidates),
                     fmt::format("{}: recall of each class (items) by candidate", open.study.name),
                     options.figure);
    write_table(options.csv, to_table(result));
    present(result, {.json = options.ledger.json,
                     .form = form_for_terminal({}, "--csv FILE or --figure FILE for all"),
                     .written = {options.figure, options.csv}});
}

}  // namespace

void add_recall(Command& command) {
    auto options = std::make_shared<RecallOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates (default: all)");
    add_picture_option(command, "--figure", options->figure, "draw them");
    add_table_option(command, options->csv, "write them as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { recall(*options); });
}

}  // namespace jevrin::app
