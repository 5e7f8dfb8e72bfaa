// parts: which item is in which part, for programs that train elsewhere.
#include "materials_view.hpp"
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/external_result.hpp"
#include "jevrin/study/study.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct PartsOptions {
    LedgerOptions ledger;
    std::filesystem::path plan;
    std::filesystem::path table;
    PartsListSettings settings;
};

PartsResult listed(const PartsOptions& options) {
    LedgerOptions ledger = options.ledger;
    if (!options.plan.empty()) {
        const Plan plan = read_plan(options.plan);
        ProgressBars bar;
        declare_study(plan, ledger.directory, bar.named());
        ledger.study = plan.name;
    }
    const OpenStudy open = open_study(ledger);
    const PartsResult result{list_parts(open.ledger, open.study, options.settings)};
    if (options.settings.test_labels) record_parts_look(open.ledger, result.list);
    return result;
}

void parts(const PartsOptions& options) {
    const PartsResult result = listed(options);
    if (!options.table.empty()) write_table(options.table, to_table(result));
    present(result, {.json = options.ledger.json, .written = {options.table}});
}

}  // namespace

void add_parts(Command& command) {
    auto options = std::make_shared<PartsOptions>();
    command.add_option(
        "PLAN", options->plan,
        "a plan whose study is recorded first, without training (default: a study of the ledger)");
    add_table_option(command, options->table,
                     "write a row for each item: id, path, label, part, fold, unit, weight");
    command.add_option("--fold", options->settings.fold, "the fold that is validation")
        .within(1, 1'000'000)
        .option_text("1..K");
    command.add_option("--order", options->settings.seeds, "add the order of training items of these seeds")
        .type_name("SEED");
    command.add_option("--epochs", options->settings.epochs, "orders of so many epochs")
        .within(1, 100'000)
        .option_text("N");
    command.add_flag("--with-test-labels", options->settings.test_labels,
                     "show the labels of the test part; the ledger records it");
    add_ledger_options(command, options->ledger);
    command.callback([options] { parts(*options); });
}

}  // namespace jevrin::app
