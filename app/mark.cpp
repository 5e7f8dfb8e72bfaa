#include "output.hpp"

#include "jevrin/results/marks_result.hpp"

namespace jevrin::app {
namespace {

struct MarkOptions {
    LedgerOptions ledger;
    std::vector<std::string> items;
    Proposal proposal;
    bool remove = false;
};

struct ListOptions {
    LedgerOptions ledger;
    std::filesystem::path corrections;
};

void mark(const MarkOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    present(options.remove ? unmark_items(open.ledger, open.study, options.items)
                           : mark_items(open.ledger, open.study, options.items, options.proposal),
            {.json = options.ledger.json});
}

void list_marks(const ListOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    present(report_marks(open.ledger, open.study, options.corrections), {.json = options.ledger.json});
}

}  // namespace

void add_mark(Command& command) {
    auto options = std::make_shared<MarkOptions>();
    command.add_option("ITEM", options->items, "paths below the image set, or the ends of them").required();
    command.add_option("--note", options->proposal.note, "why").type_name("TEXT");
    Option label = command.add_option("--label", options->proposal.label, "the class it ought to have")
                       .type_name("CLASS");
    Option exclude =
        command.add_flag("--exclude", options->proposal.excluded, "it ought to be left out").excludes(label);
    command.add_flag("--remove", options->remove, "take the mark away").excludes(label).excludes(exclude);
    add_ledger_options(command, options->ledger);
    command.callback([options] { mark(*options); });
}

void add_marks(Command& command) {
    auto options = std::make_shared<ListOptions>();
    command
        .add_option("--corrections", options->corrections,
                    "write what is proposed as a corrections file for the plan; rows that it already has "
                    "for other items stay")
        .type_name("FILE");
    add_ledger_options(command, options->ledger);
    command.callback([options] { list_marks(*options); });
}

}  // namespace jevrin::app
