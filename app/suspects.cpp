#include "jevrin/evaluation/suspects.hpp"

#include "commands.hpp"
#include "prediction_options.hpp"
#include "review_marks.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/sheet.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {
namespace {

struct SuspectsOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    bool recorded = false;
    MostItems most;
    std::size_t mark = 0;
    std::filesystem::path sheet;
};

SuspectReport judge(const SuspectsOptions& options, const OpenStudy& open) {
    ProgressBars bar;
    return find_suspects(
        open.ledger, open.study, options.runs,
        options.recorded ? SuspectSource::recorded : SuspectSource::features,
        [&](std::int64_t done, std::int64_t total) { bar.show("computing features", done, total); });
}

std::vector<std::filesystem::path> draw(const OpenStudy& open, const SuspectReport& report,
                                        const MostItems& most, const std::filesystem::path& file) {
    std::vector<ItemRecord> records;
    for (const SuspectLabel& suspect : report.suspects)
        records.push_back({report.predictions.items[suspect.item], suspect.label});
    const ImageSet set = items_of(open.study, records);
    return draw_pages(
        most.pictures(records.size()),
        [&](std::size_t k) {
            const SuspectLabel& suspect = report.suspects[k];
            return CaptionedPicture{
                .picture = load_image(set, set.items[k]),
                .lines = {fmt::format("{:.2f} {}", suspect.proposed_probability,
                                      printable(open.study.classes[suspect.proposed])),
                          fmt::format("{:.2f} {} (label)", suspect.label_probability,
                                      printable(open.study.classes[suspect.label])),
                          std::filesystem::path(path_of(records[k].id)).filename().string()},
                .wrong = true};
        },
        fmt::format("{}: {} of {} labels are suspect, the most suspect first", open.study.name,
                    report.suspects.size(), report.predictions.items.size()),
        file);
}

void suspects(const SuspectsOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const SuspectReport report = judge(options, open);
    const PredictionTable& table = report.predictions.table;
    std::vector<std::filesystem::path> files;
    if (!options.sheet.empty()) files = draw(open, report, options.most, options.sheet);
    const std::size_t marked = mark_first(open, options.mark, report.suspects.size(), [&](std::size_t k) {
        const SuspectLabel& suspect = report.suspects[k];
        return MarkRecord{
            .item = report.predictions.items[suspect.item],
            .label = {},
            .note = fmt::format("suspect: {:.2f} {}, {:.2f} {} (label)", suspect.proposed_probability,
                                open.study.classes[suspect.proposed], suspect.label_probability,
                                open.study.classes[suspect.label]),
            .marked = {}};
    });
    if (options.ledger.json) {
        Json json = {{"source", report.source},
                     {"items", table.items()},
                     {"test_looks", open.study.test_looks},
                     {"suspects", Json::array()}};
        for (const SuspectLabel& suspect : report.suspects)
            json["suspects"].push_back({{"item", path_of(report.predictions.items[suspect.item])},
                                        {"id", report.predictions.items[suspect.item]},
                                        {"label", open.study.classes[suspect.label]},
                                        {"proposed", open.study.classes[suspect.proposed]},
                                        {"label_probability", suspect.label_probability},
                                        {"proposed_probability", suspect.proposed_probability}});
        print_json(json);
        return;
    }
    print(fmt::format("{} of {} labels are suspect\nprobabilities: {}\n\n", report.suspects.size(),
                      table.items(), printable(report.source)));
    const std::size_t rows = options.most.rows(report.suspects.size());
    Table text({"item", "label", "", "rather", ""}, {2, 4});
    for (std::size_t k = 0; k < rows; ++k) {
        const SuspectLabel& suspect = report.suspects[k];
        text.add({short_cell(path_of(report.predictions.items[suspect.item]), 60),
                  short_cell(open.study.classes[suspect.label]), three_decimals(suspect.label_probability),
                  short_cell(open.study.classes[suspect.proposed]),
                  three_decimals(suspect.proposed_probability)});
    }
    if (!report.suspects.empty()) {
        print(text.text());
        if (report.suspects.size() > rows)
            print(fmt::format("... and {} more (--most 0 for all)\n", report.suspects.size() - rows));
        const SuspectLabel& first = report.suspects.front();
        print(
            fmt::format("\nlook at the pictures (--sheet FILE) before you change a label; then: jevrin mark "
                        "{} --label {}\n",
                        shell_word(path_of(report.predictions.items[first.item])),
                        shell_word(open.study.classes[first.proposed])));
    }
    print(marked_line(marked));
    print(test_look_line(open));
    print_written(files);
}

}  // namespace

void add_suspects(Command& command) {
    auto options = std::make_shared<SuspectsOptions>();
    command.add_option(
        "RUN", options->runs,
        "runs or candidates to judge by (default: the best frozen run; without one, all finished runs)");
    command.add_flag("--recorded", options->recorded,
                     "judge by what the runs predicted on the validation part, not by features of a frozen "
                     "run on training and validation items");
    add_most_option(command, options->most);
    add_mark_option(command, options->mark);
    add_picture_option(command, "--sheet", options->sheet, "draw the pictures, 64 on a page");
    add_ledger_options(command, options->ledger);
    command.callback([options] { suspects(*options); });
}

}  // namespace jevrin::app
