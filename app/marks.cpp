#include "output.hpp"

#include "jevrin/results/marks_result.hpp"
#include "jevrin/results/received_result.hpp"

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

struct ReceivedOptions {
    std::filesystem::path ledger = "ledger";
    std::vector<std::uint64_t> numbers;
    std::optional<std::string> label;  // empty: none of the classes
    bool all = false;
    ReceivedPlaces places;
    bool json = false;
};

void list_received(const ReceivedOptions& options) {
    const ReceivedResult result = report_received(options.ledger, options.all, options.places);
    present(result, {.json = options.json,
                     .next = result.images.empty() || options.all
                                 ? ""
                                 : "'jevrin marks accept NUMBER' or 'jevrin marks reject NUMBER'\n"});
}

void review_images(const ReceivedOptions& options, Review review) {
    const std::vector<std::int64_t> numbers(options.numbers.begin(), options.numbers.end());
    present(review_received(options.ledger, numbers, review, options.label), {.json = options.json});
}

void add_numbers_option(Command& command, std::vector<std::uint64_t>& numbers) {
    command.add_option("NUMBER", numbers, "numbers of 'jevrin marks received'").required();
}

}  // namespace

void add_marks_received(Command& command) {
    auto options = std::make_shared<ReceivedOptions>();
    command.add_flag("--all", options->all, "those that were reviewed too");
    Option root = command
                      .add_option("--into", options->places.root,
                                  "write the accepted images into this image set, a folder per class")
                      .type_name("DIR");
    command
        .add_option("--unlabelled", options->places.unlabelled,
                    "and those of none of the classes into this folder")
        .type_name("DIR")
        .needs(root);
    add_ledger_option(command, options->ledger);
    add_json_option(command, options->json);
    command.callback([options] { list_received(*options); });
}

void add_marks_accept(Command& command) {
    auto options = std::make_shared<ReceivedOptions>();
    add_numbers_option(command, options->numbers);
    auto label = std::make_shared<std::string>();
    auto none = std::make_shared<bool>(false);
    Option stated =
        command.add_option("--label", *label, "the class, instead of the sender's word").type_name("CLASS");
    command.add_flag("--none-of-these", *none, "none of the classes, instead of the sender's word")
        .excludes(stated);
    add_ledger_option(command, options->ledger);
    add_json_option(command, options->json);
    command.callback([options, label, none] {
        if (*none || !label->empty()) options->label = *label;
        review_images(*options, Review::accepted);
    });
}

void add_marks_reject(Command& command) {
    auto options = std::make_shared<ReceivedOptions>();
    add_numbers_option(command, options->numbers);
    add_ledger_option(command, options->ledger);
    add_json_option(command, options->json);
    command.callback([options] { review_images(*options, Review::rejected); });
}

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
