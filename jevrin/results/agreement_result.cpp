#include "jevrin/results/agreement_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/candidate_styles.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>

#include <cmath>

namespace jevrin::inline v1 {
namespace {

std::string spoken_group(const AgreementQuery& query) {
    if (query.regime)
        return fmt::format("that only runs of regime '{}' classify correctly", name_of(*query.regime));
    switch (query.group) {
        case ItemGroup::missed:
            return "that no run classifies correctly";
        case ItemGroup::known:
            return "that all runs classify correctly";
        case ItemGroup::disputed:
            return "that some runs classify correctly";
        case ItemGroup::only_regime:
            return "that only one regime classifies correctly";
    }
    unhandled(query.group);
}

// "scratch 0 %, frozen 100 %".
std::string correct_by_regime(const Agreement& agreement, const AgreedItem& item) {
    std::string text;
    for (std::size_t r = 0; r < agreement.regimes.size(); ++r)
        text += fmt::format("{}{} {}", text.empty() ? "" : ", ", name_of(agreement.regimes[r]),
                            std::isnan(item.correct_fraction[r])
                                ? std::string("-")
                                : fmt::format("{:.0f} %", 100 * item.correct_fraction[r]));
    return text;
}

std::string counts(const Agreement& agreement) {
    const auto many = [&](ItemGroup group, std::optional<Regime> regime = std::nullopt) {
        return items_in(agreement, group, regime).size();
    };
    std::string text = fmt::format("of {} items, {} are correct in all runs, {} in some, {} in none\n",
                                   agreement.items.size(), many(ItemGroup::known), many(ItemGroup::disputed),
                                   many(ItemGroup::missed));
    if (agreement.regimes.size() > 1)
        for (const Regime regime : agreement.regimes)
            text += fmt::format("correct in {} only: {}\n", name_of(regime),
                                many(ItemGroup::only_regime, regime));
    return text;
}

// Beyond chance, candidates by their letters.
std::string kappa_table(const AgreementResult& result, std::size_t width) {
    constexpr std::size_t most = 14;
    const Agreement& agreement = result.agreement;
    const CandidateStyles letters(result.candidates);
    const std::size_t shown = std::min(most, agreement.candidates.size());
    std::vector<std::string> heads = {"kappa"};
    std::vector<std::size_t> right;
    for (std::size_t k = 0; k < shown; ++k) {
        heads.push_back(letters.letter(agreement.candidates[k]));
        right.push_back(k + 1);
    }
    ResultTable table(heads, right);
    for (std::size_t a = 0; a < shown; ++a) {
        std::vector<TableCell> cells = {fmt::format("{} {}", letters.letter(agreement.candidates[a]),
                                                    shortened_name(agreement.candidates[a], 40))};
        for (std::size_t b = 0; b < shown; ++b)
            cells.emplace_back(std::isnan(agreement.kappa[a][b])
                                   ? std::string("-")
                                   : fmt::format("{:.3f}", agreement.kappa[a][b]));
        table.add(std::move(cells));
    }
    std::string text =
        "agreement between runs (Cohen's kappa; on the diagonal: between the seeds of one "
        "candidate)\n" +
        table.text(width);
    if (shown < agreement.candidates.size())
        text += fmt::format("... and {} more candidates\n", agreement.candidates.size() - shown);
    return text;
}

}  // namespace

std::string AgreementResult::what() const {
    return fmt::format("{} {}", plural(std::ssize(selected), "item"), spoken_group(query));
}

std::string AgreementResult::title() const {
    return fmt::format("{}: {}", context.study.name, what());
}

AgreementResult report_agreement(const Ledger& ledger, const StudyRecord& study,
                                 const AgreementQuery& query) {
    const StudyEvidence evidence = gather_evidence(ledger, study, runs_called(ledger, study, query.runs));
    AgreementResult result{.context = context_of(ledger, study),
                           .query = query,
                           .agreement = agree(evidence),
                           .selected = {},
                           .candidates = ledger.candidates(study.id),
                           .set_apart = evidence.set_apart};
    const ItemGroup group = query.regime ? ItemGroup::only_regime : query.group;
    for (const std::size_t place : items_in(result.agreement, group, query.regime)) {
        const AgreedItem& item = result.agreement.items[place];
        result.selected.push_back({item, ledger.item_id(item.item)});
    }
    return result;
}

std::string to_json(const AgreementResult& result) {
    const Agreement& agreement = result.agreement;
    const std::vector<std::string>& classes = result.context.study.classes;
    Json items = Json::array();
    for (const auto& [item, id] : result.selected) {
        Json regimes = Json::object();
        for (std::size_t r = 0; r < agreement.regimes.size(); ++r)
            regimes[name_of(agreement.regimes[r])] = number(item.correct_fraction[r]);
        items.push_back({{"item", path_of_item(id)},
                         {"id", id},
                         {"label", classes.at(item.label)},
                         {"runs", item.runs},
                         {"correct", item.correct},
                         {"most_predicted", classes.at(item.most_predicted)},
                         {"most_predicted_runs", item.most_predicted_runs},
                         {"correct_by_regime", regimes}});
    }
    Json pairs = Json::array();
    for (std::size_t a = 0; a < agreement.candidates.size(); ++a)
        for (std::size_t b = a; b < agreement.candidates.size(); ++b)
            pairs.push_back({{"first", agreement.candidates[a]},
                             {"second", agreement.candidates[b]},
                             {"alike", number(agreement.alike[a][b])},
                             {"kappa", number(agreement.kappa[a][b])}});
    return document({{"items", agreement.items.size()},
                     {"selected", items},
                     {"agreement", pairs},
                     {"test_looks", result.context.looks.size()}});
}

std::string to_text(const AgreementResult& result, const TextForm& form) {
    const std::vector<std::string>& classes = result.context.study.classes;
    std::string text =
        counts(result.agreement) + "\n" + kappa_table(result, form.width) + "\n" + result.what() + "\n";
    const std::size_t rows = form.rows_of(result.selected.size());
    if (rows > 0) {
        ResultTable table({"item", "label", "correct", "most predicted", "by", "correct by regime"}, {2, 4});
        for (const auto& [item, id] : result.selected)
            table.add({name_cell(path_of_item(id), 60), name_cell(classes.at(item.label), 24),
                       fmt::format("{}/{}", item.correct, item.runs),
                       name_cell(classes.at(item.most_predicted), 24),
                       std::to_string(item.most_predicted_runs), correct_by_regime(result.agreement, item)});
        text += "\n" + table.text(form.width, rows) + form.and_more(result.selected.size() - rows);
    }
    for (const std::string& sentence : result.set_apart) text += sentence + "\n";
    return text;
}

std::vector<ShownItem> shown_items(const AgreementResult& result) {
    const std::vector<std::string>& classes = result.context.study.classes;
    std::vector<ShownItem> items;
    for (const auto& [item, id] : result.selected)
        items.push_back({.item = {id, item.label},
                         .lines = {fmt::format("{} (label)", printable(classes.at(item.label))),
                                   fmt::format("{} of {}: {}", item.most_predicted_runs, item.runs,
                                               printable(classes.at(item.most_predicted))),
                                   file_name_of_item(id)},
                         .wrong = item.most_predicted != item.label});
    return items;
}

std::vector<MarkRecord> marks_for(const AgreementResult& result) {
    const std::vector<std::string>& classes = result.context.study.classes;
    std::vector<MarkRecord> marks;
    for (const auto& [item, id] : result.selected)
        marks.push_back(
            {.item = id,
             .label = {},
             .note = fmt::format("{} of {} runs call it {} (label {})", item.most_predicted_runs, item.runs,
                                 classes.at(item.most_predicted), classes.at(item.label)),
             .marked = {}});
    return marks;
}

}  // namespace jevrin::inline v1
