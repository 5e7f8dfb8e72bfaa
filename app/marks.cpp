#include "output.hpp"

#include "jevrin/results/marks_result.hpp"

namespace jevrin::app {
namespace {

struct MarkOptions {
    LedgerOptions ledger;
    std::vector<std::string> items;
    Proposal proposal;  // of those that are added
};

struct ListOptions {
    LedgerOptions ledger;
    std::filesystem::path corrections;
};

void add_marks(const MarkOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    present(mark_items(open.ledger, open.study, options.items, options.proposal),
            {.json = options.ledger.json});
}

void remove_marks(const MarkOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    present(unmark_items(open.ledger, open.study, options.items), {.json = options.ledger.json});
}

void add_items_option(Command& command, std::vector<std::string>& items) {
    command.add_option("ITEM", items, "paths relative to the image set, or the ends of such paths")
        .required();
}

void list_marks(const ListOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    present(report_marks(open.ledger, open.study, options.corrections), {.json = options.ledger.json});
}

}  // namespace

void add_marks_add(Command& command) {
    auto options = std::make_shared<MarkOptions>();
    add_items_option(command, options->items);
    command.add_option("--note", options->proposal.note, "the reason").type_name("TEXT");
    Option label =
        command.add_option("--label", options->proposal.label, "the class proposed").type_name("CLASS");
    command.add_flag("--exclude", options->proposal.excluded, "propose to leave the item out")
        .excludes(label);
    add_ledger_options(command, options->ledger);
    command.callback([options] { add_marks(*options); });
}

void add_marks_remove(Command& command) {
    auto options = std::make_shared<MarkOptions>();
    add_items_option(command, options->items);
    add_ledger_options(command, options->ledger);
    command.callback([options] { remove_marks(*options); });
}

void add_marks_list(Command& command) {
    auto options = std::make_shared<ListOptions>();
    command
        .add_option("--corrections", options->corrections,
                    "write the proposed labels as a corrections file for the plan; rows of other items in an "
                    "existing file stay")
        .type_name("FILE");
    add_ledger_options(command, options->ledger);
    command.callback([options] { list_marks(*options); });
}

}  // namespace jevrin::app
