#include "jevrin/results/ledgers_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace jevrin::inline v1 {
namespace {

std::string score_cell(const std::optional<double>& value) {
    return value ? three_decimals(*value) : "-";
}

}  // namespace

MergeResult merge_ledgers(const std::filesystem::path& from, const std::filesystem::path& into) {
    const Ledger other = Ledger::open(from);
    LedgerWriter ledger = LedgerWriter::open(into);
    return {.from = from, .into = into, .summary = ledger.merge(other)};
}

std::string to_json(const MergeResult& result) {
    return document({{"studies", result.summary.studies},
                     {"runs", result.summary.runs},
                     {"known", result.summary.known},
                     {"differing", result.summary.differing}});
}

std::string to_text(const MergeResult& result, const TextForm&) {
    const MergeSummary& summary = result.summary;
    return fmt::format(
        "{} and {} copied from {} into {}; {} there already\n",
        summary.studies == 1 ? std::string("1 study") : fmt::format("{} studies", summary.studies),
        plural(summary.runs, "run"), printable(result.from.string()), printable(result.into.string()),
        summary.known);
}

ContrastResult report_contrast(const std::filesystem::path& first, const std::filesystem::path& second) {
    return {compare_ledgers(Ledger::open(first), Ledger::open(second))};
}

std::string to_json(const ContrastResult& result) {
    Json json = Json::array();
    for (const RunPair& pair : result.pairs)
        json.push_back({{"study", pair.study},
                        {"run", pair.run},
                        {"in_first", pair.in_first},
                        {"in_second", pair.in_second},
                        {"differing", pair.differing},
                        {"first", or_null(pair.first)},
                        {"second", or_null(pair.second)}});
    return document(json);
}

std::string to_text(const ContrastResult& result, const TextForm& form) {
    std::int64_t alike = 0;
    ResultTable table({"study", "run", "first", "second", "difference"}, {2, 3});
    for (const RunPair& pair : result.pairs) {
        if (pair.same_settings() && pair.first == pair.second) {
            ++alike;
            continue;
        }
        const std::string what = !pair.in_second  ? "only in the first"
                                 : !pair.in_first ? "only in the second"
                                 : pair.differing.empty()
                                     ? "the score, with the same settings"
                                     : fmt::format("{}", fmt::join(pair.differing, ", "));
        table.add({name_cell(pair.study), name_cell(pair.run), score_cell(pair.first),
                   score_cell(pair.second), text_cell(what, 80)});
    }
    std::string text = fmt::format("{} with the same settings and score in both\n", plural(alike, "run"));
    if (table.rows() > 0) text += "\n" + table.text(form.width);
    return text;
}

}  // namespace jevrin::inline v1
