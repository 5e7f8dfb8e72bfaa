#include "choice_text.hpp"
#include "commands.hpp"
#include "output.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

Json interval_or_null(const std::optional<Interval>& interval, double Interval::*end) {
    return interval ? Json((*interval).*end) : Json();
}

Json to_json(const Choice& choice) {
    Json json = {{"metric", metric_name(choice.metric)}, {"chosen", choice.chosen}, {"clear", choice.clear}};
    json["ranking"] = Json::array();
    for (const RankedCandidate& c : choice.ranking) {
        Json entry = {{"candidate", c.candidate},
                      {"regime", c.regime},
                      {"mean", c.mean},
                      {"low", interval_or_null(c.interval, &Interval::low)},
                      {"high", interval_or_null(c.interval, &Interval::high)},
                      {"runs", c.runs},
                      {"seconds", c.seconds},
                      {"trainable_parameters", c.trainable_parameters}};
        if (c.behind)
            entry["behind_best"] = {
                {"mean", c.behind->mean}, {"low", c.behind->interval.low}, {"high", c.behind->interval.high}};
        json["ranking"].push_back(entry);
    }
    json["reasons"] = choice.reasons;
    json["test_looks"] = choice.test_looks;
    return json;
}

}  // namespace

std::string choice_text(const Choice& choice) {
    std::string text = choice.reasons.front() + "\n\n";
    Table table(
        {"candidate", "regime", metric_name(choice.metric), "95 % over seeds", "runs", "trainable", "s/run"},
        {2, 4, 5, 6});
    for (const RankedCandidate& c : choice.ranking)
        table.add({(c.candidate == choice.chosen ? "> " : "  ") + c.candidate, c.regime,
                   fmt::format("{:.3f}", c.mean),
                   c.interval ? fmt::format("{:.3f} to {:.3f}", c.interval->low, c.interval->high)
                              : "one seed: unknown",
                   std::to_string(c.runs), with_commas(c.trainable_parameters),
                   fmt::format("{:.1f}", c.seconds)});
    text += table.text() + "\n";
    for (std::size_t i = 1; i < choice.reasons.size(); ++i) text += choice.reasons[i] + "\n";
    text += choice.test_looks == 0
                ? "Chosen on the validation part; the test part has not been looked at.\n"
                : fmt::format("Chosen on the validation part; the test part has been looked at {}.\n",
                              plural(choice.test_looks, "time"));
    return text;
}

void add_choose(CLI::App& app) {
    auto options = std::make_shared<LedgerOptions>();
    auto* command = app.add_subcommand("choose", "the ranking of candidates, the evidence and the choice");
    add_ledger_options(*command, *options);
    command->callback([options] {
        const OpenStudy open = open_study(*options);
        const Choice choice = choose(open.ledger, open.study);
        if (options->json)
            print_json(to_json(choice));
        else
            print(choice_text(choice));
    });
}

}  // namespace jevrin::app
