#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/figures/matrices_figure.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct RecallOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::filesystem::path figure;
    std::filesystem::path csv;
};

Json to_json(const RecallTable& table, const StudyRecord& study) {
    Json classes = Json::array();
    for (std::size_t c = 0; c < table.recalls.size(); ++c) {
        Json row = {{"class", study.classes.at(c)}, {"items", table.items[c]}, {"recalls", Json::array()}};
        for (std::size_t k = 0; k < table.candidates.size(); ++k)
            row["recalls"].push_back({{"candidate", table.candidates[k]},
                                      {"mean", number(table.recalls[c][k])},
                                      {"deviation", table.deviations[c][k]}});
        classes.push_back(std::move(row));
    }
    return {{"classes", classes}, {"test_looks", study.test_looks}};
}

std::string to_csv(const RecallTable& table, const StudyRecord& study) {
    std::vector<std::string> cells = {"class", "items"};
    cells.insert(cells.end(), table.candidates.begin(), table.candidates.end());
    std::string text = csv_row(cells);
    for (std::size_t c = 0; c < table.recalls.size(); ++c) {
        cells = {study.classes.at(c), std::to_string(table.items[c])};
        for (const double recall : table.recalls[c]) cells.push_back(three_decimals(recall));
        text += csv_row(cells);
    }
    return text;
}

// Letters head the columns: names of candidates are long.
std::string to_text(const RecallTable& table, const StudyRecord& study, const CandidateStyles& styles) {
    std::vector<std::string> heads = {"class", "items"};
    std::vector<std::size_t> right = {1};
    std::string legend;
    constexpr std::size_t most = 16;
    const std::size_t shown = std::min(most, table.candidates.size());
    for (std::size_t k = 0; k < shown; ++k) {
        heads.push_back(styles.letter(table.candidates[k]));
        right.push_back(heads.size() - 1);
        legend += fmt::format("{} {}\n", heads.back(), printable(table.candidates[k]));
    }
    if (shown < table.candidates.size())
        legend += fmt::format("and {} more (--csv FILE or --figure FILE for all)\n",
                              table.candidates.size() - shown);
    Table text(heads, right);
    for (std::size_t c = 0; c < table.recalls.size(); ++c) {
        std::vector<std::string> cells = {short_cell(study.classes.at(c)), std::to_string(table.items[c])};
        for (std::size_t k = 0; k < shown; ++k)
            cells.push_back(table.items[c] == 0
                                ? "-"
                                : fmt::format("{:.2f}±{:.2f}", table.recalls[c][k], table.deviations[c][k]));
        text.add(cells);
    }
    return "recall of each class, mean ± deviation over seeds\n\n" + text.text() + "\n" + legend;
}

void recall(const RecallOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const StudyEvidence evidence =
        gather_evidence(open.ledger, open.study, runs_called(open.ledger, open.study, options.runs));
    const RecallTable table = recalls_of(evidence);
    const CandidateStyles styles(open.ledger.candidates(open.study.id));
    if (!options.figure.empty())
        draw_recalls(table, open.study.classes, styles,
                     fmt::format("{}: recall of each class (items) by candidate", open.study.name),
                     options.figure);
    if (!options.csv.empty()) write_file(options.csv, to_csv(table, open.study));
    if (options.ledger.json) {
        print_json(to_json(table, open.study));
        return;
    }
    print(to_text(table, open.study, styles));
    for (const std::string& sentence : evidence.set_apart) print(sentence + "\n");
    print(test_look_line(open));
    print_written({options.figure, options.csv});
}

}  // namespace

void add_recall(Command& command) {
    auto options = std::make_shared<RecallOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates (default: all)");
    add_picture_option(command, "--figure", options->figure, "draw them");
    add_table_option(command, options->csv, "write them as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { recall(*options); });
}

}  // namespace jevrin::app
