#include "output.hpp"

#include "jevrin/figures/sheet.hpp"
#include "jevrin/results/item_result.hpp"

namespace jevrin::app {
namespace {

struct ItemOptions {
    LedgerOptions ledger;
    ItemQuery query;
    std::filesystem::path sheet;
};

void show_item(const ItemOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const ItemResult result = [&] {
        ProgressBars bar;
        return report_item(open.ledger, open.study, options.query, bar.of("computing features"));
    }();
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty()) {
        const std::vector<PicturedItem> items = pictured_items(result);
        files = draw_items(open.study, items, items.size(), result.title(), options.sheet);
    }
    present(result, {.json = options.ledger.json, .form = form_for_terminal(), .written = files});
}

}  // namespace

void add_item(Command& command) {
    auto options = std::make_shared<ItemOptions>();
    command.add_option("RUN", options->query.run, "the run, as CANDIDATE/SEED").required();
    command.add_option("ITEM", options->query.item, "its path below the image set, or the end of it")
        .required();
    command.add_option("--neighbours", options->query.neighbours, "how many training items like it (0: none)")
        .type_name("N")
        .capture_default_str();
    add_picture_option(command, "--sheet", options->sheet, "draw it with them");
    add_ledger_options(command, options->ledger);
    command.callback([options] { show_item(*options); });
}

}  // namespace jevrin::app
