#include "jevrin/results/choice_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

namespace jevrin::inline v1 {
namespace {

Json to_json(const std::optional<Lead>& lead) {
    if (!lead) return {};
    return {{"mean", lead->mean},
            {"low", lead->interval.low},
            {"high", lead->interval.high},
            {"p", lead->p_value},
            {"adjusted_p", lead->adjusted_p},
            {"over", lead->rule == LeadRule::crossed    ? "seeds and items"
                     : lead->rule == LeadRule::one_seed ? "items"
                                                        : "pairs of runs"},
            {"seeds", lead->seeds},
            {"items", lead->items},
            {"units", lead->units},
            {"first_only", lead->first_only},
            {"second_only", lead->second_only},
            {"exact_p", lead->exact_p}};
}

Json to_json(const RankedCandidate& c, Cost cost) {
    Json json = {{"candidate", c.candidate},
                 {"regime", name_of(c.regime)},
                 {"mean", c.mean},
                 {"low", c.interval ? Json(c.interval->low) : Json()},
                 {"high", c.interval ? Json(c.interval->high) : Json()},
                 {"runs", c.runs},
                 {"seeds", c.seeds},
                 {"seconds", c.seconds},
                 {"parameters", c.parameters},
                 {"trainable_parameters", c.trainable_parameters},
                 {"multiplications", c.multiplications},
                 {"model_bytes", c.model_bytes},
                 {"cost", number(c.cost(cost))},
                 {"pareto_optimal", c.pareto_optimal},
                 {"separated", c.separated}};
    if (c.behind) json["behind_best"] = to_json(c.behind);
    return json;
}

Json to_json(const TestReport& report) {
    Json runs = Json::array();
    for (const TestedRun& run : report.runs)
        runs.push_back({{"run", run.run}, {"validation", run.validation}, {"test", run.test}});
    return {{"candidate", report.candidate},
            {"items", report.items},
            {"mean", report.mean},
            {"low", report.interval.low},
            {"high", report.interval.high},
            {"validation", report.validation},
            {"runs", runs},
            {"words", report.words},
            {"test_looks", report.test_looks}};
}

Json to_json(const std::vector<CandidatePair>& pairs) {
    Json json = Json::array();
    for (const CandidatePair& pair : pairs)
        json.push_back({{"first", pair.first}, {"second", pair.second}, {"lead", to_json(pair.lead)}});
    return json;
}

std::string p_cell(double p) {
    return p < 0.0005 ? "<0.001" : fmt::format("{:.3f}", p);
}

std::string lead_cell(const std::optional<Lead>& lead) {
    return lead
               ? fmt::format("{:.3f} ({:.3f} to {:.3f})", lead->mean, lead->interval.low, lead->interval.high)
               : "";
}

// Why a candidate stands where it does.
std::string standing(const Choice& choice, const RankedCandidate& c) {
    if (&c == &choice.ranking.front()) return "best";
    if (!c.behind) return "unknown";
    if (c.separated) return "yes";
    return c.behind->seeds < fewest_seeds ? "few seeds" : "no";
}

std::string cost_cell(const RankedCandidate& c, Cost cost) {
    switch (cost) {
        case Cost::training_seconds:
            return two_digits(c.seconds);
        case Cost::trained_parameters:
            return with_commas(c.trainable_parameters);
        case Cost::operations:
            return c.multiplications == 0 ? "" : with_commas(c.multiplications);
        case Cost::file_size:
            return c.model_bytes == 0 ? "" : spoken_bytes(c.model_bytes);
    }
    unhandled(cost);
}

std::string cost_head(Cost cost) {
    switch (cost) {
        case Cost::training_seconds:
            return "s/run";
        case Cost::trained_parameters:
            return "trained";
        case Cost::operations:
            return "operations";
        case Cost::file_size:
            return "file";
    }
    unhandled(cost);
}

std::string pairs_text(const std::vector<CandidatePair>& pairs, const TextForm& form) {
    ResultTable table(
        {"first", "second", "difference", "p", "only first correct", "only second correct", "McNemar p"},
        {3, 4, 5, 6});
    for (const CandidatePair& pair : pairs) {
        if (pair.lead)
            table.add({name_cell(pair.first), name_cell(pair.second), lead_cell(pair.lead),
                       p_cell(pair.lead->adjusted_p), count_cell(pair.lead->first_only),
                       count_cell(pair.lead->second_only), p_cell(pair.lead->exact_p)});
        else
            table.add({name_cell(pair.first), name_cell(pair.second), "not comparable", "", "", "", ""});
    }
    const std::size_t shown = form.rows_of(pairs.size(), 60);
    return table.text(shown) + form.and_more(pairs.size() - shown, "pairs") +
           fmt::format(
               "p over seeds and items, corrected for {}; the exact test (McNemar) covers the items alone, "
               "not "
               "the variance between seeds\n",
               plural(std::ssize(pairs), "comparison"));
}

}  // namespace

std::string ChoiceResult::title() const {
    return fmt::format("{}: {} candidates, '{}' chosen", study.name, choice.ranking.size(),
                       printable(choice.chosen));
}

ChoiceResult report_choice(const Ledger& ledger, const StudyRecord& study, const ChoiceQuery& query,
                           const PredictionProgress& progress) {
    const StudyEvidence evidence = gather_evidence(ledger, study, runs_called(ledger, study, query.runs));
    ChoiceResult result{.study = study,
                        .choice = choose(ledger, study, evidence, {.cost = query.cost}),
                        .pairs = {},
                        .test = {},
                        .with_pairs = query.pairs};
    if (query.pairs) result.pairs = compare_pairs(ledger, study, evidence);
    if (query.test) {
        result.test = report_on_test(ledger.directory(), study, result.choice, progress);
        result.choice.test_looks = result.test->test_looks;
    }
    return result;
}

std::string to_json(const ChoiceResult& result) {
    const Choice& choice = result.choice;
    Json json = {{"metric", name_of(choice.metric)}, {"cost", name_of(choice.cost)},
                 {"chosen", choice.chosen},          {"clear", choice.clear},
                 {"summary", choice.summary},        {"ranking", Json::array()}};
    for (const RankedCandidate& c : choice.ranking) json["ranking"].push_back(to_json(c, choice.cost));
    json["reasons"] = choice.reasons;
    json["needed"] = {{"seeds", or_null(choice.needed.seeds)}, {"items", or_null(choice.needed.items)}};
    json["optimism"] = or_null(choice.optimism);
    json["validation_items"] = choice.validation_items;
    json["validation_units"] = choice.validation_units;
    json["test_looks"] = choice.test_looks;
    if (result.with_pairs) json["pairs"] = to_json(result.pairs);
    if (result.test) json["test"] = to_json(*result.test);
    return document(json);
}

ResultTable to_table(const ChoiceResult& result) {
    const Choice& choice = result.choice;
    using Place = TableColumn::Place;
    const auto csv_only = [](const char* key) {
        return TableColumn{.key = key, .head = {}, .place = Place::csv};
    };
    const auto text_only = [](std::string head, Align align = Align::left) {
        return TableColumn{.key = {}, .head = std::move(head), .align = align, .place = Place::text};
    };
    ResultTable table({{.key = "candidate", .head = "candidate"},
                       {.key = "regime", .head = "regime", .optional = 4},
                       {.key = "mean", .head = spoken_metric(choice.metric)},
                       csv_only("low"),
                       csv_only("high"),
                       csv_only("runs"),
                       {.key = "seeds", .head = "seeds", .align = Align::right, .optional = 3},
                       text_only(cost_head(choice.cost), Align::right),
                       {.key = {}, .head = "Pareto", .place = Place::text, .optional = 1},
                       text_only("behind the best by"),
                       csv_only("behind_best"),
                       csv_only("behind_low"),
                       csv_only("behind_high"),
                       {.key = "adjusted_p", .head = "p", .align = Align::right, .optional = 2},
                       text_only("separated"),
                       csv_only("separated"),
                       csv_only("seconds"),
                       csv_only("trainable_parameters"),
                       csv_only("multiplications"),
                       csv_only("model_bytes"),
                       csv_only("pareto_optimal")});
    const auto exact = [](double value) { return fmt::format("{}", value); };
    for (const RankedCandidate& c : choice.ranking)
        table.add(
            {{(c.candidate == choice.chosen ? "> " : "  ") + shortened(c.candidate, 40), c.candidate},
             name_of(c.regime),
             {c.interval ? fmt::format("{:.3f} ({:.3f} to {:.3f})", c.mean, c.interval->low, c.interval->high)
                         : fmt::format("{:.3f}", c.mean),
              exact(c.mean)},
             c.interval ? exact(c.interval->low) : "",
             c.interval ? exact(c.interval->high) : "",
             std::to_string(c.runs),
             std::to_string(c.seeds),
             cost_cell(c, choice.cost),
             c.pareto_optimal ? "*" : "",
             lead_cell(c.behind),
             c.behind ? exact(c.behind->mean) : "",
             c.behind ? exact(c.behind->interval.low) : "",
             c.behind ? exact(c.behind->interval.high) : "",
             {c.behind ? p_cell(c.behind->adjusted_p) : "", c.behind ? exact(c.behind->adjusted_p) : ""},
             standing(choice, c),
             c.separated ? "true" : "false",
             exact(c.seconds),
             std::to_string(c.trainable_parameters),
             std::to_string(c.multiplications),
             std::to_string(c.model_bytes),
             c.pareto_optimal ? "true" : "false"});
    return table;
}

std::string to_text(const ChoiceResult& result, const TextForm& form) {
    const Choice& choice = result.choice;
    const std::size_t shown = form.rows_of(choice.ranking.size(), 40);
    std::string text =
        wrapped(choice.summary, form.width) + "\n" + to_table(result).text(shown, form.width) +
        form.and_more(choice.ranking.size() - shown, "candidates") + "\n" +
        wrapped(
            fmt::format(
                "95 % intervals over seeds and items; separated: p < 0.05, corrected for {}; Pareto *: no "
                "other candidate is better at the same cost or less",
                plural(std::ssize(choice.ranking) - 1, "comparison")),
            form.width);
    // After the verdict and one sentence for each candidate come those about what was not compared.
    for (std::size_t i = choice.ranking.size(); i < choice.reasons.size(); ++i)
        text += wrapped(choice.reasons[i], form.width);
    text += choice.test_looks == 0
                ? "Chosen on the validation part; the test part has not been looked at.\n"
                : fmt::format("Chosen on the validation part; the test part has been looked at {}.\n",
                              plural(choice.test_looks, "time"));
    if (result.with_pairs) text += "\n" + pairs_text(result.pairs, form);
    if (result.test) text += "\n" + wrapped(result.test->words, form.width);
    return text;
}

}  // namespace jevrin::inline v1
