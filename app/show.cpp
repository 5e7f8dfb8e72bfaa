#include "prediction_options.hpp"

#include "jevrin/figures/sheet.hpp"
#include "jevrin/results/item_result.hpp"
#include "jevrin/results/run_result.hpp"

namespace jevrin::app {
namespace {

struct ShowOptions {
    LedgerOptions ledger;
    std::string run;
    bool layers = false;
    std::int64_t epoch = 0;  // 0: the last
    ItemQuery item;
    std::filesystem::path sheet;
};

void show_run(const ShowOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const RunResult result = report_run(open.ledger, open.study, options.run, stated_epoch(options.epoch));
    if (options.layers && !options.ledger.json)
        print(layers_text(result, form_for_terminal()));
    else
        present(result, {.json = options.ledger.json});
}

void show_item(const ShowOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const ItemResult result = [&] {
        ProgressBars bar;
        return report_item(open.ledger, open.study, options.item, bar.of("computing features"));
    }();
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty()) {
        const std::vector<ShownItem> items = shown_items(result);
        files = draw_items(open.study, items, items.size(), result.title(), options.sheet);
    }
    present(result, {.json = options.ledger.json, .written = files});
}

}  // namespace

void add_show(Command& command) {
    auto options = std::make_shared<ShowOptions>();
    add_run_option(command, options->run);
    Option item = command.add_option("ITEM", options->item.item,
                                     "an item: its path relative to the image set, or the end of it");
    const std::vector<Option> of_run = {
        command.add_flag("--layers", options->layers, "weights and gradients by layer, instead of the plan"),
        add_epoch_option(command, options->epoch, "the epoch of --layers (default: the last)")};
    std::vector<Option> of_item = {
        command
            .add_option("--neighbours", options->item.neighbours,
                        "with ITEM: number of nearest training items (0: none)")
            .type_name("N")
            .capture_default_str(),
        add_figure_option(command, "--sheet", options->sheet, "with ITEM: draw it and its neighbours")};
    add_ledger_options(command, options->ledger);
    command.callback([options, item, of_run, of_item] {
        if (item.count() == 0) {
            refuse_options(of_item, "needs an ITEM");
            return show_run(*options);
        }
        refuse_options(of_run, "does not apply to an ITEM");
        options->item.run = options->run;
        show_item(*options);
    });
}

}  // namespace jevrin::app
