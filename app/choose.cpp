#include "output.hpp"

#include "jevrin/figures/choice_figure.hpp"
#include "jevrin/figures/equal_effort_figure.hpp"
#include "jevrin/figures/pairs_figure.hpp"
#include "jevrin/results/choice_result.hpp"

namespace jevrin::app {
namespace {

struct ChooseOptions {
    LedgerOptions ledger;
    ChoiceQuery query;
    std::string cost = name_of(ChoiceSettings{}.cost);
    std::string rule = name_of(ChoiceSettings{}.rule);
    std::filesystem::path figure;
    std::filesystem::path pairs_figure;
    std::filesystem::path effort_figure;
    std::filesystem::path csv;
};

ChoiceResult make_choice(const OpenStudy& open, const ChooseOptions& options) {
    ChoiceQuery query = options.query;
    query.cost = value_named<Cost>(options.cost);
    query.rule = value_named<ChoiceRule>(options.rule);
    ProgressBars bar;
    return report_choice(open.ledger, open.study, query, bar.of("predicting"), bar.of("comparing"));
}

void choose_candidate(const ChooseOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const ChoiceResult result = make_choice(open, options);
    if (!options.figure.empty())
        draw_choice(result.choice, CandidateStyles(open.ledger.candidates(open.study.id)), result.title(),
                    options.figure);
    if (!options.pairs_figure.empty())
        draw_pairs(result.choice, CandidateStyles(open.ledger.candidates(open.study.id)), result.title(),
                   options.pairs_figure);
    if (!options.effort_figure.empty())
        draw_equal_effort(result.choice, open.study.name + ": regimes at equal tuning effort",
                          options.effort_figure);
    write_table(options.csv, to_table(result));
    present(result, {.json = options.ledger.json,
                     .form = form_for_terminal({}, "--csv FILE or --json for all"),
                     .written = {options.figure, options.pairs_figure, options.effort_figure, options.csv}});
}

}  // namespace

void add_choose(Command& command) {
    auto options = std::make_shared<ChooseOptions>();
    add_runs_option(command, options->query.runs);
    command
        .add_option(
            "--cost", options->cost,
            "what makes a candidate cheaper: seconds (training time), trained (parameters), operations "
            "(of a prediction), file (size); measured: latency (one image), batch (time per image), memory")
        .one_of({"seconds", "trained", "operations", "file", "latency", "batch", "memory"})
        .option_text("COST=" + options->cost);
    command
        .add_option("--margin", options->query.margin,
                    "smallest difference that matters, instead of the plan's: a cheaper candidate is "
                    "recommended when it is shown to be worse by less")
        .within(0.0001, 0.5)
        .option_text("DIFFERENCE");
    command
        .add_option("--rule", options->rule,
                    "what is recommended: margin (the best, unless a cheaper one is shown to be within the "
                    "margin), best, one-standard-error (the cheapest within one standard error of the best)")
        .one_of({"margin", "best", "one-standard-error"})
        .option_text("RULE=" + options->rule);
    command.add_flag("--pairs", options->query.pairs, "compare all pairs of candidates");
    command.add_flag(
        "--test", options->query.test,
        "score the chosen candidate on the test part, which opens the sealed part; the ledger records it");
    add_figure_option(command, "--figure", options->figure, "draw the ranking");
    add_figure_option(command, "--pairs-figure", options->pairs_figure, "draw the verdicts on all pairs");
    add_figure_option(command, "--effort-figure", options->effort_figure,
                      "draw the regimes at equal tuning effort: the expected best of k variants");
    add_table_option(command, options->csv, "write the ranking as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { choose_candidate(*options); });
}

}  // namespace jevrin::app
