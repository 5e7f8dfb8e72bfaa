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
                      {"parameters", c.parameters},
                      {"trainable_parameters", c.trainable_parameters},
                      {"multiplications", c.multiplications},
                      {"model_bytes", c.model_bytes}};
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
