#include "jevrin/results/choice_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/choice_words.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

std::string over(LeadRule rule) {
    switch (rule) {
        case LeadRule::crossed:
            return "seeds and items";
        case LeadRule::one_seed:
            return "items";
        case LeadRule::folds:
            return "seeds, items and folds";
        case LeadRule::resampled:
            return "pairs of runs";
    }
    unhandled(rule);
}

Json to_json(const std::optional<Lead>& lead) {
    if (!lead) return {};
    return {{"mean", lead->mean},
            {"low", lead->interval.low},
            {"high", lead->interval.high},
            {"p", lead->p_value},
            {"adjusted_p", lead->adjusted_p},
            {"over", over(lead->rule)},
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
                 {"external", external_json(c.external)},
                 {"mean", c.mean},
                 {"low", c.interval ? Json(c.interval->low) : Json()},
                 {"high", c.interval ? Json(c.interval->high) : Json()},
                 {"best_epoch_mean", c.best_epoch_mean},
                 {"runs", c.runs},
                 {"seeds", c.seeds},
                 {"failed_seeds", c.failed_seeds},
                 {"seconds", number(c.seconds)},
                 {"parameters", c.parameters},
                 {"trainable_parameters", c.trainable_parameters},
                 {"multiplications", c.multiplications},
                 {"model_bytes", c.model_bytes},
                 {"prediction", prediction_json(c.prediction_cost)},
                 {"cost", number(c.cost(cost))},
                 {"pareto_optimal", c.pareto_optimal},
                 {"separated", c.verdict == Verdict::better},
                 {"may_be_best", c.may_be_best},
                 {"non_inferior", c.non_inferior},
                 {"probability_best", c.odds.probability_best},
                 {"expected_loss", c.odds.expected_loss},
                 {"on_front", c.odds.on_front}};
    if (const auto failure = c.failure_interval()) json["failure"] = {failure->low, failure->high};
    if (c.behind) json["behind_best"] = to_json(c.behind);
    if (c.behind) json["behind_best"]["verdict"] = name_of(c.verdict);
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

Json to_json(const Choice& choice, const std::vector<PairVerdict>& pairs) {
    Json json = Json::array();
    for (const PairVerdict& pair : pairs)
        json.push_back({{"first", choice.ranking[pair.first].candidate},
                        {"second", choice.ranking[pair.second].candidate},
                        {"verdict", name_of(pair.verdict)},
                        {"lead", to_json(pair.lead)}});
    return json;
}

Json to_json(const NeededNumber& number) {
    return {{"expected", or_null(number.expected)},
            {"least", or_null(number.least)},
            {"most", or_null(number.most)}};
}

Json to_json(const std::vector<EffortCurve>& curves) {
    Json json = Json::array();
    for (const EffortCurve& curve : curves)
        json.push_back({{"regime", name_of(curve.regime)},
                        {"variants", curve.expected_best.size()},
                        {"expected_best", curve.expected_best}});
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

// What the evidence says of it, beside the best.
std::string standing(const Choice& choice, const RankedCandidate& c) {
    if (&c == &choice.ranking.front()) return choice.clear ? "better than all" : "first";
    return spoken_verdict(c);
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
        case Cost::latency:
            return c.prediction_cost ? fmt::format("{:.3g}", c.prediction_cost->milliseconds) : "";
        case Cost::batch_time:
            return c.prediction_cost ? fmt::format("{:.3g}", c.prediction_cost->batch_milliseconds) : "";
        case Cost::prediction_memory:
            return c.prediction_cost ? spoken_bytes(c.prediction_cost->bytes) : "";
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
        case Cost::latency:
            return "ms/image";
        case Cost::batch_time:
            return "ms in batch";
        case Cost::prediction_memory:
            return "memory";
    }
    unhandled(cost);
}

std::string pairs_text(const Choice& choice, const TextForm& form) {
    ResultTable table({"first", "second", "verdict", "difference", "p", "only first correct",
                       "only second correct", "McNemar p"},
                      {4, 5, 6, 7});
    for (const PairVerdict& pair : choice.pairs) {
        const TableCell first = name_cell(choice.ranking[pair.first].candidate);
        const TableCell second = name_cell(choice.ranking[pair.second].candidate);
        if (pair.lead)
            table.add({first, second, name_of(pair.verdict), lead_cell(pair.lead),
                       p_cell(pair.lead->adjusted_p), count_cell(pair.lead->first_only),
                       count_cell(pair.lead->second_only), p_cell(pair.lead->exact_p)});
        else
            table.add({first, second, "unknown", "not comparable", "", "", "", ""});
    }
    const std::size_t shown = form.rows_of(choice.pairs.size(), 60);
    return table.text(form.width, shown) + form.and_more(choice.pairs.size() - shown, "pairs") +
           wrapped(
               fmt::format("better: the first is (p < 0.05, corrected for {}); equivalent: they differ by "
                           "less than {:.3f} (two one-sided tests); the exact test (McNemar) covers the "
                           "items alone, not the variance between seeds",
                           plural(std::ssize(choice.pairs), "comparison"), choice.margin),
               form.width);
}

// Empty, or why it could not be counted.
std::string count_look(const Ledger& ledger, const StudyRecord& study, const Choice& choice) {
    std::int64_t seeds = 0;
    for (const RankedCandidate& candidate : choice.ranking) seeds = std::max(seeds, candidate.seeds);
    const bool is_known =
        std::find(study.seed_looks.begin(), study.seed_looks.end(), seeds) != study.seed_looks.end();
    if (is_known || seeds < fewest_seeds || choice.ranking.size() < 2) return "";
    try {
        LedgerWriter::open(ledger.directory()).put_seed_look(study.id, seeds);
        return "";
    } catch (const Error& error) {
        return error.what();
    }
}

}  // namespace

std::string ChoiceResult::title() const {
    return fmt::format("{}: {} candidates, '{}' chosen", study.name, choice.ranking.size(),
                       printable(choice.chosen));
}

ChoiceResult report_choice(const Ledger& ledger, const StudyRecord& study, const ChoiceQuery& query,
                           const PredictionProgress& progress, const PairProgress& comparing) {
    const std::vector<RunRecord> runs = runs_called(ledger, study, query.runs);
    const StudyEvidence evidence = gather_evidence(ledger, study, runs);
    SeedLooks looks{.earlier = study.seed_looks};
    if (study.most_seeds > 0) looks.most = study.most_seeds;
    ChoiceResult result{.study = study,
                        .choice = choose(ledger, study, evidence,
                                         {.cost = query.cost,
                                          .rule = query.rule,
                                          .margin = query.margin,
                                          .looks = looks,
                                          .progress = comparing}),
                        .test = {},
                        .with_pairs = query.pairs,
                        .uncounted_look = {}};
    const bool is_complete = std::none_of(runs.begin(), runs.end(), [](const RunRecord& run) {
        return run.state == RunState::waiting || run.state == RunState::training;
    });
    if (is_complete) result.uncounted_look = count_look(ledger, study, result.choice);
    if (query.test) {
        result.test = report_on_test(ledger.directory(), study, result.choice, progress);
        result.choice.test_looks = result.test->test_looks;
    }
    return result;
}

std::string to_json(const ChoiceResult& result) {
    const Choice& choice = result.choice;
    Json json = {{"metric", name_of(choice.metric)},
                 {"cost", name_of(choice.cost)},
                 {"rule", name_of(choice.rule)},
                 {"margin", choice.margin},
                 {"level", choice.level},
                 {"chosen", choice.chosen},
                 {"clear", choice.clear},
                 {"summary", choice.summary},
                 {"ranking", Json::array()}};
    for (const RankedCandidate& c : choice.ranking) json["ranking"].push_back(to_json(c, choice.cost));
    json["reasons"] = choice.reasons;
    json["needed"] = {{"seeds", to_json(choice.needed.seeds)}, {"items", to_json(choice.needed.items)}};
    json["optimism"] = or_null(choice.optimism);
    json["corrected"] = choice.corrected ? Json({{"mean", choice.corrected->mean},
                                                 {"low", choice.corrected->interval.low},
                                                 {"high", choice.corrected->interval.high}})
                                         : Json();
    json["equal_effort"] = to_json(choice.equal_effort);
    json["epochs"] = choice.epochs == EpochChoice::cross_fitted ? "cross-fitted" : "common";
    json["rare_classes"] = Json::array();
    for (const auto& [name, items] : choice.rare_classes)
        json["rare_classes"].push_back({{"class", name}, {"items", items}});
    json["validation_items"] = choice.validation_items;
    json["validation_units"] = choice.validation_units;
    json["test_looks"] = choice.test_looks;
    json["seed_looks"] = result.study.seed_looks;
    if (result.with_pairs) json["pairs"] = to_json(choice, choice.pairs);
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
                       text_only("verdict"),
                       {.key = "verdict", .head = {}, .place = Place::csv},
                       csv_only("may_be_best"),
                       {.key = "probability_best", .head = "P(best)", .align = Align::right},
                       {.key = "expected_loss", .head = "loss", .align = Align::right, .optional = 2},
                       csv_only("best_epoch_mean"),
                       csv_only("failed_seeds"),
                       csv_only("separated"),
                       csv_only("seconds"),
                       csv_only("trainable_parameters"),
                       csv_only("multiplications"),
                       csv_only("model_bytes"),
                       csv_only("prediction_milliseconds"),
                       csv_only("prediction_batch_milliseconds"),
                       csv_only("prediction_bytes"),
                       csv_only("pareto_optimal")});
    const auto exact = [](double value) { return fmt::format("{}", value); };
    for (const RankedCandidate& c : choice.ranking)
        table.add(
            {{(c.candidate == choice.chosen ? "> " : "  ") + shortened_name(c.candidate, 40), c.candidate},
             name_of(c.regime),
             {c.interval ? fmt::format("{:.3f} ({:.3f} to {:.3f})", c.mean, c.interval->low, c.interval->high)
                         : fmt::format("{:.3f}", c.mean),
              exact(c.mean)},
             c.interval ? exact(c.interval->low) : "",
             c.interval ? exact(c.interval->high) : "",
             std::to_string(c.runs),
             std::to_string(c.seeds),
             cost_cell(c, choice.cost),
             fmt::format("{} {:>5}", c.pareto_optimal ? "*" : " ", percent(c.odds.on_front)),
             lead_cell(c.behind),
             c.behind ? exact(c.behind->mean) : "",
             c.behind ? exact(c.behind->interval.low) : "",
             c.behind ? exact(c.behind->interval.high) : "",
             {c.behind ? p_cell(c.behind->adjusted_p) : "", c.behind ? exact(c.behind->adjusted_p) : ""},
             standing(choice, c),
             &c == &choice.ranking.front() ? "" : name_of(c.verdict),
             c.may_be_best ? "true" : "false",
             {percent(c.odds.probability_best), exact(c.odds.probability_best)},
             {fmt::format("{:.3f}", c.odds.expected_loss), exact(c.odds.expected_loss)},
             exact(c.best_epoch_mean),
             std::to_string(c.failed_seeds),
             c.verdict == Verdict::better ? "true" : "false",
             exact(c.seconds),
             std::to_string(c.trainable_parameters),
             std::to_string(c.multiplications),
             std::to_string(c.model_bytes),
             c.prediction_cost ? exact(c.prediction_cost->milliseconds) : "",
             c.prediction_cost ? exact(c.prediction_cost->batch_milliseconds) : "",
             c.prediction_cost ? std::to_string(c.prediction_cost->bytes) : "",
             c.pareto_optimal ? "true" : "false"});
    return table;
}

std::string to_text(const ChoiceResult& result, const TextForm& form) {
    const Choice& choice = result.choice;
    const std::size_t shown = form.rows_of(choice.ranking.size(), 40);
    std::string text =
        wrapped(choice.summary, form.width) + "\n" + to_table(result).text(form.width, shown) +
        form.and_more(choice.ranking.size() - shown, "candidates") + "\n" +
        wrapped(
            fmt::format(
                "95 % intervals over seeds and items; worse: p < 0.05, corrected for {}; not the best: "
                "outside "
                "the 95 % confidence set of the best; equivalent: within {:.3f}; P(best), loss: how often it "
                "is the best of a bootstrap draw, and how far below it on average; Pareto *: no other "
                "candidate is better at the same cost or less, and in how many draws",
                plural(std::ssize(choice.pairs), "comparison"), choice.margin),
            form.width);
    // After the verdict and one sentence for each candidate come those about what was not compared.
    for (std::size_t i = choice.ranking.size(); i < choice.reasons.size(); ++i)
        text += wrapped(choice.reasons[i], form.width);
    text +=
        wrapped("Chosen on the validation part; the test part has " +
                    (choice.test_looks == 0 ? std::string("not been looked at.")
                                            : "been looked at " + plural(choice.test_looks, "time") + "."),
                form.width);
    if (!result.uncounted_look.empty())
        text += wrapped(fmt::format("This look could not be counted, which matters when seeds are added: {}",
                                    result.uncounted_look),
                        form.width);
    if (result.with_pairs) text += "\n" + pairs_text(choice, form);
    if (result.test) text += "\n" + wrapped(result.test->words, form.width);
    return text;
}

}  // namespace jevrin::inline v1
