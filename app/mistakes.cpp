#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/metrics/item_selection.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace jevrin::app {
namespace {

struct MistakesOptions {
    PredictionOptions predictions;
    std::string true_class;
    std::string called;
    std::string show = "wrong";
    std::string by = "confidence";
    std::uint64_t seed = 1;
    MostItems most;
    std::filesystem::path sheet;
    std::filesystem::path csv;
};

ItemSelection selection_of(const MistakesOptions& options, const std::vector<std::string>& classes) {
    ItemSelection selection;
    selection.outcome = options.show == "wrong"   ? ItemOutcome::wrong
                        : options.show == "right" ? ItemOutcome::right
                                                  : ItemOutcome::all;
    if (!options.true_class.empty()) selection.true_class = class_called(classes, options.true_class);
    if (!options.called.empty()) selection.called = class_called(classes, options.called);
    selection.order = options.by == "confidence" ? ItemOrder::confidence
                      : options.by == "loss"     ? ItemOrder::loss
                                                 : ItemOrder::random;
    selection.seed = options.seed;
    return selection;
}

double loss_of(const PredictionTable& table, std::size_t item) {
    constexpr double least = 1e-12;
    return -std::log(std::max(least, static_cast<double>(table.row(item)[table.labels[item]])));
}

std::string to_table(const OpenPredictions& open, const std::vector<std::size_t>& items,
                     const MostItems& most) {
    const PredictionTable& table = open.table();
    Table text({"item", "label", "called", "confidence", "of its label"}, {3, 4});
    const std::size_t rows = most.rows(items.size());
    for (std::size_t k = 0; k < rows; ++k) {
        const std::size_t i = items[k];
        text.add({short_cell(open.path(i), 60), short_cell(open.classes()[table.labels[i]]),
                  short_cell(open.classes()[table.predicted(i)]), three_decimals(table.confidence(i)),
                  three_decimals(table.row(i)[table.labels[i]])});
    }
    std::string result = text.text();
    if (items.size() > rows)
        result += fmt::format("... and {} more (--most 0 for all)\n", items.size() - rows);
    return result;
}

std::string to_csv(const OpenPredictions& open, const std::vector<std::size_t>& items) {
    const PredictionTable& table = open.table();
    std::string text = csv_row(
        std::vector<std::string>{"item", "label", "predicted", "confidence", "label_probability", "loss"});
    for (const std::size_t i : items)
        text += csv_row(std::vector<std::string>{
            open.path(i), open.classes()[table.labels[i]], open.classes()[table.predicted(i)],
            fmt::format("{}", table.confidence(i)), fmt::format("{}", table.row(i)[table.labels[i]]),
            fmt::format("{}", loss_of(table, i))});
    return text;
}

std::vector<std::filesystem::path> draw(const OpenPredictions& open, const std::vector<std::size_t>& items,
                                        const MostItems& most, const std::string& title,
                                        const std::filesystem::path& file) {
    const PredictionTable& table = open.table();
    std::vector<ItemRecord> records;
    for (const std::size_t i : items) records.push_back({open.predictions.items[i], table.labels[i]});
    const ImageSet set = items_of(open.open.study, records);
    return draw_pages(
        most.pictures(items.size()),
        [&](std::size_t k) {
            const std::size_t i = items[k];
            const bool wrong = table.predicted(i) != table.labels[i];
            const std::string called =
                fmt::format("{:.2f} {}", table.confidence(i), printable(open.classes()[table.predicted(i)]));
            return CaptionedPicture{
                .picture = load_image(set, set.items[k]),
                .lines = {called,
                          wrong ? fmt::format("{:.2f} {} (label)", table.row(i)[table.labels[i]],
                                              printable(open.classes()[table.labels[i]]))
                                : std::string("right"),
                          std::filesystem::path(open.path(i)).filename().string()},
                .wrong = wrong};
        },
        title, file);
}

void mistakes(const MistakesOptions& options) {
    const OpenPredictions open = open_predictions(options.predictions);
    const PredictionTable& table = open.table();
    const std::vector<std::size_t> items = select_items(table, selection_of(options, open.classes()));
    const std::string cell =
        fmt::format("{}{}", options.true_class.empty() ? "" : " of " + printable(options.true_class),
                    options.called.empty() ? "" : " called " + printable(options.called));
    const std::string what =
        fmt::format("{}: {} {}item{}{}", open.what(), items.size(),
                    options.show == "all" ? "" : options.show + " ", items.size() == 1 ? "" : "s", cell);
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty()) files = draw(open, items, options.most, what, options.sheet);
    if (!options.csv.empty()) {
        write_file(options.csv, to_csv(open, items));
        files.push_back(options.csv);
    }
    if (options.predictions.ledger.json) {
        Json json = open.json();
        json["selected"] = items.size();
        json["mistakes"] = Json::array();
        for (const std::size_t i : items)
            json["mistakes"].push_back({{"item", open.path(i)},
                                        {"id", open.predictions.items[i]},
                                        {"label", open.classes()[table.labels[i]]},
                                        {"predicted", open.classes()[table.predicted(i)]},
                                        {"right", table.predicted(i) == table.labels[i]},
                                        {"confidence", table.confidence(i)},
                                        {"label_probability", table.row(i)[table.labels[i]]},
                                        {"loss", loss_of(table, i)}});
        print_json(json);
        return;
    }
    print(what + "\n");
    if (!items.empty()) {
        print("\n" + to_table(open, items, options.most));
        print(fmt::format("\nnext: jevrin item {} {}\n", shell_word(open.run.name()),
                          shell_word(open.path(items.front()))));
    }
    print(test_look_line(open.open));
    print_written(files);
}

}  // namespace

void add_mistakes(Command& command) {
    auto options = std::make_shared<MistakesOptions>();
    add_prediction_options(command, options->predictions);
    command.add_option("--true", options->true_class, "only items of this class").type_name("CLASS");
    command.add_option("--called", options->called, "only items predicted as this class").type_name("CLASS");
    command.add_option("--show", options->show, "wrong, right or all")
        .one_of({"wrong", "right", "all"})
        .option_text("WHICH=" + options->show);
    command.add_option("--by", options->by, "order: confidence, loss or random")
        .one_of({"confidence", "loss", "random"})
        .option_text("ORDER=" + options->by);
    command.add_option("--seed", options->seed, "of the random order").capture_default_str();
    add_most_option(command, options->most);
    add_picture_option(command, "--sheet", options->sheet, "draw the pictures, 64 on a page");
    add_table_option(command, options->csv, "write the list");
    command.callback([options] { mistakes(*options); });
}

}  // namespace jevrin::app
