#include "prediction_options.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/results/mistakes_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct MistakesOptions {
    PredictionOptions predictions;
    MistakesQuery query;
    std::string show = "wrong";
    std::string by = "confidence";
    std::optional<std::size_t> most;
    std::filesystem::path sheet;
    std::filesystem::path csv;
};

MistakesQuery query_of(const MistakesOptions& options) {
    MistakesQuery query = options.query;
    query.outcome = options.show == "wrong"     ? ItemOutcome::wrong
                    : options.show == "correct" ? ItemOutcome::correct
                                                : ItemOutcome::all;
    query.order = options.by == "confidence" ? ItemOrder::confidence
                  : options.by == "loss"     ? ItemOrder::loss
                                             : ItemOrder::random;
    return query;
}

void mistakes(const MistakesOptions& options) {
    const OpenStudy open = open_study(options.predictions.ledger);
    const MistakesResult result =
        report_mistakes(open_predictions(open, options.predictions), query_of(options));
    const TextForm form = form_for_terminal(options.most, "--most 0 for all");
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty())
        files = draw_items(open.study, shown_items(result), form.rows_of(result.items.size(), page_of_images),
                           result.title(), options.sheet);
    write_table(options.csv, to_table(result));
    files.push_back(options.csv);
    present(result, {.json = options.predictions.ledger.json,
                     .form = form,
                     .written = files,
                     .next = result.items.empty()
                                 ? ""
                                 : fmt::format("next: jevrin show {} {}\n", shell_word(result.of.run.name()),
                                               shell_word(result.of.path(result.items.front())))});
}

}  // namespace

void add_mistakes(Command& command) {
    auto options = std::make_shared<MistakesOptions>();
    add_prediction_options(command, options->predictions);
    command.add_option("--true", options->query.true_class, "only items of this class").type_name("CLASS");
    command.add_option("--predicted", options->query.predicted, "only items predicted as this class")
        .type_name("CLASS");
    command.add_option("--show", options->show, "wrong, correct or all")
        .one_of({"wrong", "correct", "all"})
        .option_text("WHICH=" + options->show);
    command.add_option("--by", options->by, "order by confidence, loss, or random")
        .one_of({"confidence", "loss", "random"})
        .option_text("ORDER=" + options->by);
    command.add_option("--seed", options->query.seed, "seed of the random order").capture_default_str();
    add_most_option(command, options->most);
    add_figure_option(command, "--sheet", options->sheet, "draw the images, 64 per page");
    add_table_option(command, options->csv, "write the list");
    command.callback([options] { mistakes(*options); });
}

}  // namespace jevrin::app
