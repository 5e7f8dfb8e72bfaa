#include "output.hpp"

#include "jevrin/results/runs_result.hpp"

namespace jevrin::app {
namespace {

struct RunsOptions {
    LedgerOptions ledger;
    RunsQuery query;
    std::string group;
    std::filesystem::path csv;
};

void runs(const RunsOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const RunsResult result = report_runs(open.ledger, open.study, options.query);
    write_table(options.csv, to_table(result));
    const Presentation how{.json = options.ledger.json,
                           .form = form_for_terminal({}, "--archived shows them"),
                           .written = {options.csv}};
    if (options.group.empty())
        present(result, how);
    else
        present(group_runs(result, options.group), how);
}

}  // namespace

void add_runs(Command& command) {
    auto options = std::make_shared<RunsOptions>();
    command
        .add_option("--where", options->query.conditions,
                    "filter: KEY=VALUE, with =, !=, <, <=, >, >= or ~ (contains); repeated filters must all "
                    "hold. A key is a "
                    "column or a setting: regime=frozen, 'learning_rate<0.01'")
        .type_name("CONDITION");
    command.add_option("--tag", options->query.tags, "only runs with this tag").type_name("TAG");
    command.add_option("--sort", options->query.sort, "sort by a column or setting; -KEY in descending order")
        .type_name("KEY");
    command.add_option("--group", options->group, "one line per value of a column or setting")
        .type_name("KEY");
    command.add_flag("--differing", options->query.differing,
                     "print only the settings that differ between the runs");
    command.add_flag("--archived", options->query.archived, "list archived runs");
    add_table_option(command, options->csv, "write the runs with all their settings");
    add_ledger_options(command, options->ledger);
    command.callback([options] { runs(*options); });
}

}  // namespace jevrin::app
