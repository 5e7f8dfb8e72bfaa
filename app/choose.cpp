#include "choice_text.hpp"
#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/comparison/test_report.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/figures/choice_figure.hpp"

#include <fmt/format.h>

#include <cmath>

namespace jevrin::app {
namespace {

struct ChooseOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string cost = name_of(ChoiceSettings{}.cost);
    bool pairs = false;
    bool test = false;
    std::filesystem::path figure;
    std::filesystem::path csv;
};

Json interval_or_null(const std::optional<Interval>& interval, double Interval::*end) {
    return interval ? Json((*interval).*end) : Json();
}

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
            {"first_only", lead->first_only},
            {"second_only", lead->second_only},
            {"exact_p", lead->exact_p}};
}

Json cost_json(double cost) {
    return std::isfinite(cost) ? Json(cost) : Json();
}

Json to_json(const Choice& choice) {
    Json json = {{"metric", name_of(choice.metric)},
                 {"cost", name_of(choice.cost)},
                 {"chosen", choice.chosen},
                 {"clear", choice.clear},
                 {"summary", choice.summary}};
    json["ranking"] = Json::array();
    for (const RankedCandidate& c : choice.ranking) {
        Json entry = {{"candidate", c.candidate},
                      {"regime", name_of(c.regime)},
                      {"mean", c.mean},
                      {"low", interval_or_null(c.interval, &Interval::low)},
                      {"high", interval_or_null(c.interval, &Interval::high)},
                      {"runs", c.runs},
                      {"seeds", c.seeds},
                      {"seconds", c.seconds},
                      {"parameters", c.parameters},
                      {"trainable_parameters", c.trainable_parameters},
                      {"multiplications", c.multiplications},
                      {"model_bytes", c.model_bytes},
                      {"cost", cost_json(c.cost(choice.cost))},
                      {"on_front", c.on_front},
                      {"told_apart", c.told_apart}};
        if (c.behind) entry["behind_best"] = to_json(c.behind);
        json["ranking"].push_back(entry);
    }
    json["reasons"] = choice.reasons;
    json["needed"] = {{"seeds", choice.needed.seeds ? Json(*choice.needed.seeds) : Json()},
                      {"items", choice.needed.items ? Json(*choice.needed.items) : Json()}};
    json["optimism"] = choice.optimism ? Json(*choice.optimism) : Json();
    json["validation_items"] = choice.validation_items;
    json["test_looks"] = choice.test_looks;
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

std::string to_csv(const Choice& choice) {
    std::string text = csv_row(
        std::vector<std::string>{"candidate", "regime", "mean", "low", "high", "runs", "seeds", "behind_best",
                                 "behind_low", "behind_high", "adjusted_p", "told_apart", "seconds",
                                 "trainable_parameters", "multiplications", "model_bytes", "on_front"});
    const auto cell = [](double value) { return fmt::format("{}", value); };
    for (const RankedCandidate& c : choice.ranking)
        text += csv_row(std::vector<std::string>{
            c.candidate, name_of(c.regime), cell(c.mean), c.interval ? cell(c.interval->low) : "",
            c.interval ? cell(c.interval->high) : "", std::to_string(c.runs), std::to_string(c.seeds),
            c.behind ? cell(c.behind->mean) : "", c.behind ? cell(c.behind->interval.low) : "",
            c.behind ? cell(c.behind->interval.high) : "", c.behind ? cell(c.behind->adjusted_p) : "",
            c.told_apart ? "true" : "false", cell(c.seconds), std::to_string(c.trainable_parameters),
            std::to_string(c.multiplications), std::to_string(c.model_bytes), c.on_front ? "true" : "false"});
    return text;
}

Json to_json(const std::vector<CandidatePair>& pairs) {
    Json json = Json::array();
    for (const CandidatePair& pair : pairs)
        json.push_back({{"first", pair.first}, {"second", pair.second}, {"lead", to_json(pair.lead)}});
    return json;
}

void choose_candidate(const ChooseOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const StudyEvidence evidence =
        gather_evidence(open.ledger, open.study, runs_called(open.ledger, open.study, options.runs));
    Choice choice = choose(open.ledger, open.study, evidence, {.cost = value_named<Cost>(options.cost)});
    std::vector<CandidatePair> pairs;
    if (options.pairs) pairs = compare_pairs(open.ledger, open.study, evidence);
    std::optional<TestReport> report;
    if (options.test) {
        ProgressBars bar;
        report = report_on_test(
            options.ledger.directory, open.study, choice,
            [&](std::int64_t done, std::int64_t total) { bar.show("predicting", done, total); });
        choice.test_looks = report->test_looks;
    }
    if (!options.figure.empty())
        draw_choice(choice, CandidateStyles(open.ledger.candidates(open.study.id)),
                    fmt::format("{}: {} candidates, '{}' chosen", open.study.name, choice.ranking.size(),
                                printable(choice.chosen)),
                    options.figure);
    if (!options.csv.empty()) write_file(options.csv, to_csv(choice));
    if (options.ledger.json) {
        Json json = to_json(choice);
        if (options.pairs) json["pairs"] = to_json(pairs);
        if (report) json["test"] = to_json(*report);
        print_json(json);
        return;
    }
    print(choice_text(choice));
    if (options.pairs) print("\n" + pairs_text(pairs));
    if (report) print("\n" + wrapped(report->words, terminal_width()));
    print_written({options.figure, options.csv});
}

}  // namespace

void add_choose(Command& command) {
    auto options = std::make_shared<ChooseOptions>();
    command.add_option("RUN", options->runs, "candidates, or runs, to choose among (default: all)");
    command
        .add_option(
            "--cost", options->cost,
            "what the cheapest is: seconds of training, trained parameters, operations of a prediction, or "
            "the file's size")
        .one_of({"seconds", "trained", "operations", "file"})
        .option_text("COST=" + options->cost);
    command.add_flag("--pairs", options->pairs, "every candidate against every other");
    command.add_flag("--test", options->test,
                     "score the chosen one on the test part: this opens the sealed part and is recorded");
    add_picture_option(command, "--figure", options->figure, "draw it");
    add_table_option(command, options->csv, "write the ranking as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { choose_candidate(*options); });
}

}  // namespace jevrin::app
