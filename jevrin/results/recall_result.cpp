#include "jevrin/results/recall_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/candidate_styles.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {

RecallResult report_recalls(const Ledger& ledger, const StudyRecord& study,
                            const std::vector<std::string>& runs) {
    const StudyEvidence evidence = gather_evidence(ledger, study, runs_called(ledger, study, runs));
    return {.context = context_of(ledger, study),
            .recalls = recalls_of(evidence),
            .candidates = ledger.candidates(study.id),
            .set_apart = evidence.set_apart};
}

std::string to_json(const RecallResult& result) {
    const RecallTable& recalls = result.recalls;
    Json classes = Json::array();
    for (std::size_t c = 0; c < recalls.recalls.size(); ++c) {
        Json row = {{"class", result.context.study.classes.at(c)},
                    {"items", recalls.items[c]},
                    {"recalls", Json::array()}};
        for (std::size_t k = 0; k < recalls.candidates.size(); ++k)
            row["recalls"].push_back({{"candidate", recalls.candidates[k]},
                                      {"mean", number(recalls.recalls[c][k])},
                                      {"deviation", recalls.deviations[c][k]}});
        classes.push_back(std::move(row));
    }
    return document({{"classes", classes}, {"test_looks", result.context.looks.size()}});
}

ResultTable to_table(const RecallResult& result) {
    const RecallTable& recalls = result.recalls;
    const CandidateStyles letters(result.candidates);
    std::vector<TableColumn> columns = {{.key = "class", .head = "class"},
                                        {.key = "items", .head = "items", .align = Align::right}};
    constexpr std::size_t most = 16;
    for (std::size_t k = 0; k < recalls.candidates.size(); ++k)
        columns.push_back({.key = recalls.candidates[k],
                           .head = letters.letter(recalls.candidates[k]),
                           .align = Align::right,
                           .place = k < most ? TableColumn::Place::both : TableColumn::Place::csv});
    ResultTable table(std::move(columns));
    for (std::size_t c = 0; c < recalls.recalls.size(); ++c) {
        std::vector<TableCell> cells = {name_cell(result.context.study.classes.at(c)),
                                        std::to_string(recalls.items[c])};
        for (std::size_t k = 0; k < recalls.candidates.size(); ++k)
            cells.emplace_back(recalls.items[c] == 0 ? "-"
                                                     : fmt::format("{:.3f}±{:.2f}", recalls.recalls[c][k],
                                                                   recalls.deviations[c][k]),
                               three_decimals(recalls.recalls[c][k]));
        table.add(std::move(cells));
    }
    return table;
}

std::string to_text(const RecallResult& result, const TextForm& form) {
    const RecallTable& recalls = result.recalls;
    const CandidateStyles letters(result.candidates);
    constexpr std::size_t most = 16;
    const std::size_t shown = std::min(most, recalls.candidates.size());
    std::string text = "recall of each class, mean ± standard deviation over seeds\n\n" +
                       to_table(result).text(form.width) + "\n";
    // Names of candidates are too long to head columns.
    for (std::size_t k = 0; k < shown; ++k)
        text +=
            fmt::format("{} {}\n", letters.letter(recalls.candidates[k]), printable(recalls.candidates[k]));
    text += form.and_more(recalls.candidates.size() - shown, "candidates");
    for (const std::string& sentence : result.set_apart) text += sentence + "\n";
    return text;
}

}  // namespace jevrin::inline v1
