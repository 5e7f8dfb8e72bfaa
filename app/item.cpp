#include "commands.hpp"
#include "prediction_options.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_features.hpp"
#include "jevrin/figures/sheet.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

namespace jevrin::app {
namespace {

struct ItemOptions {
    LedgerOptions ledger;
    std::string run;
    std::string item;
    std::size_t neighbours = 7;
    std::filesystem::path sheet;
};

struct ItemReport {
    ItemRecord item;
    Part part = Part::training;
    std::vector<float> probabilities;  // by class
    std::size_t predicted = 0;
    RunFeatures features;  // of the training items, and of this one at the end
    std::vector<Neighbour> neighbours;
};

// Where a run has an item; the test part is left alone.
Part part_of_item(const OpenStudy& open, const RunRecord& run, const ItemRecord& item) {
    for (const Part part : all_parts) {
        const std::vector<ItemRecord> items = open.ledger.items(run.id, part);
        const auto here = std::any_of(items.begin(), items.end(),
                                      [&](const ItemRecord& other) { return other.id == item.id; });
        if (!here) continue;
        if (part == Part::test)
            throw InputError(
                fmt::format("{}: this item is in the test part, which is sealed; 'jevrin mistakes --part "
                            "test' opens it and is recorded",
                            printable(path_of(item.id))));
        return part;
    }
    throw InputError(fmt::format("{}: run '{}' did not have this item; it saw another version of the images",
                                 printable(path_of(item.id)), run.name()));
}

ItemReport make_report(const ItemOptions& options, const OpenStudy& open, const RunRecord& run) {
    ItemReport report;
    report.item = open.ledger.item(open.study.id, options.item);
    report.part = part_of_item(open, run, report.item);
    const PartPredictions predictions =
        predict_items(options.ledger.directory, open.study.name, run.name(), {report.item});
    report.probabilities = predictions.table.probabilities;
    report.predicted = predictions.table.predicted(0);
    if (options.neighbours == 0) return report;
    std::vector<ItemRecord> items;
    for (const ItemRecord& item : open.ledger.items(run.id, Part::training))
        if (item.id != report.item.id) items.push_back(item);
    items.push_back(report.item);
    ProgressBars bar;
    report.features = features_of_run(
        open.ledger, open.study, run, items,
        [&](std::int64_t done, std::int64_t total) { bar.show("computing features", done, total); });
    report.neighbours = nearest_items(report.features, items.size() - 1, options.neighbours);
    return report;
}

std::vector<std::filesystem::path> draw(const ItemReport& report, const OpenStudy& open, const RunRecord& run,
                                        const std::filesystem::path& file) {
    std::vector<ItemRecord> items = {report.item};
    for (const Neighbour& neighbour : report.neighbours)
        items.push_back(report.features.items[neighbour.item]);
    const ImageSet set = items_of(open.study, items);
    return draw_pages(
        items.size(),
        [&](std::size_t k) {
            const std::string& label = open.study.classes[items[k].label];
            const std::string name = std::filesystem::path(path_of(items[k].id)).filename().string();
            if (k == 0)
                return CaptionedPicture{
                    .picture = load_image(set, set.items[k]),
                    .lines = {fmt::format("{:.2f} {}", report.probabilities[report.predicted],
                                          printable(open.study.classes[report.predicted])),
                              fmt::format("{:.2f} {} (label)", report.probabilities[report.item.label],
                                          printable(label)),
                              name},
                    .wrong = report.predicted != report.item.label};
            return CaptionedPicture{
                .picture = load_image(set, set.items[k]),
                .lines = {fmt::format("like it: {:.3f}", report.neighbours[k - 1].likeness),
                          fmt::format("{} (label)", printable(label)), name},
                .wrong = items[k].label != report.item.label};
        },
        fmt::format("{} and the training items most like it to {}", path_of(report.item.id), run.name()),
        file);
}

std::string neighbours_table(const ItemReport& report, const OpenStudy& open) {
    Table table({"most like it in training", "label", "likeness"}, {2});
    std::size_t same = 0;
    for (const Neighbour& neighbour : report.neighbours) {
        const ItemRecord& other = report.features.items[neighbour.item];
        same += other.label == report.item.label ? 1U : 0U;
        table.add({short_cell(path_of(other.id), 60), short_cell(open.study.classes[other.label]),
                   three_decimals(neighbour.likeness)});
    }
    return table.text() + fmt::format("{} of {} carry its label\n", same, report.neighbours.size());
}

void show_item(const ItemOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const RunRecord run = open.ledger.run(open.study.id, options.run);
    const ItemReport report = make_report(options, open, run);
    const std::vector<std::string>& classes = open.study.classes;
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty()) files = draw(report, open, run, options.sheet);
    std::vector<std::size_t> order(classes.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return report.probabilities[a] > report.probabilities[b];
    });
    std::string marked;
    for (const MarkRecord& mark : open.ledger.marks(open.study.id))
        if (mark.item == report.item.id)
            marked = fmt::format("{}{}{}", mark.excluded ? "to be left out" : mark.label,
                                 mark.label.empty() && !mark.excluded ? "" : " ", mark.note);
    if (options.ledger.json) {
        Json json = {{"item", path_of(report.item.id)},
                     {"id", report.item.id},
                     {"file", open.study.image_root + "/" + path_of(report.item.id)},
                     {"run", run.name()},
                     {"part", name_of(report.part)},
                     {"label", classes[report.item.label]},
                     {"predicted", classes[report.predicted]},
                     {"probabilities", Json::array()},
                     {"neighbours", Json::array()}};
        for (const std::size_t c : order)
            json["probabilities"].push_back(
                {{"class", classes[c]}, {"probability", report.probabilities[c]}});
        for (const Neighbour& neighbour : report.neighbours)
            json["neighbours"].push_back({{"item", path_of(report.features.items[neighbour.item].id)},
                                          {"label", classes[report.features.items[neighbour.item].label]},
                                          {"likeness", neighbour.likeness}});
        print_json(json);
        return;
    }
    print(fmt::format("{}\n{} part of {}; label {}, called {}{}\n\n",
                      printable(open.study.image_root + "/" + path_of(report.item.id)), name_of(report.part),
                      printable(run.name()), printable(classes[report.item.label]),
                      printable(classes[report.predicted]),
                      report.part == Part::training ? " (it was trained on)" : ""));
    Table table({"class", "probability", ""}, {1});
    constexpr std::size_t most = 20;
    for (std::size_t k = 0; k < std::min(most, order.size()); ++k) {
        const float p = report.probabilities[order[k]];
        table.add({short_cell(classes[order[k]]), three_decimals(p),
                   std::string(static_cast<std::size_t>(40.0F * p + 0.5F), '#') +
                       (order[k] == report.item.label ? "  <- label" : "")});
    }
    print(table.text());
    if (!report.neighbours.empty()) print("\n" + neighbours_table(report, open));
    if (!marked.empty()) print("\nmarked: " + printable(marked) + "\n");
    print_written(files);
}

}  // namespace

void add_item(Command& command) {
    auto options = std::make_shared<ItemOptions>();
    command.add_option("RUN", options->run, "the run, as CANDIDATE/SEED").required();
    command.add_option("ITEM", options->item, "its path below the image set, or the end of it").required();
    command.add_option("--neighbours", options->neighbours, "how many training items like it (0: none)")
        .type_name("N")
        .capture_default_str();
    add_picture_option(command, "--sheet", options->sheet, "draw it with them");
    add_ledger_options(command, options->ledger);
    command.callback([options] { show_item(*options); });
}

}  // namespace jevrin::app
