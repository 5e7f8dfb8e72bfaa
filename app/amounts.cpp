#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/figures/amounts_figure.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct AmountsOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::filesystem::path figure;
    std::filesystem::path csv;
};

Json to_json(const AmountReport& report, const StudyRecord& study) {
    Json curves = Json::array();
    for (const AmountCurve& curve : report.curves) {
        Json points = Json::array();
        for (const AmountPoint& point : curve.points)
            points.push_back({{"fraction", point.fraction},
                              {"training_items", point.training_items},
                              {"candidate", point.candidate},
                              {"mean", point.mean},
                              {"interval", interval_json(point.interval)},
                              {"seeds", point.seeds}});
        curves.push_back({{"name", curve.name}, {"regime", name_of(curve.regime)}, {"points", points}});
    }
    Json catch_ups = Json::array();
    for (const CatchUp& one : report.catch_ups)
        catch_ups.push_back({{"behind", one.behind},
                             {"ahead", one.ahead},
                             {"fraction", one.fraction ? Json(*one.fraction) : Json()},
                             {"first_gap", one.first_gap},
                             {"last_gap", one.last_gap},
                             {"times_more", one.times_more ? Json(*one.times_more) : Json()},
                             {"words", one.words}});
    return {{"metric", name_of(study.metric)},
            {"curves", curves},
            {"catch_ups", catch_ups},
            {"test_looks", study.test_looks}};
}

void amounts(const AmountsOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const StudyEvidence evidence =
        gather_evidence(open.ledger, open.study, runs_called(open.ledger, open.study, options.runs));
    const AmountReport report = learning_curves(open.study, evidence);
    if (!options.figure.empty())
        draw_amounts(report, open.study.metric, CandidateStyles(open.ledger.candidates(open.study.id)),
                     fmt::format("{}: score by amount of training data", open.study.name), options.figure);
    std::string csv = csv_row(std::vector<std::string>{"curve", "regime", "fraction", "training_items",
                                                       "mean", "low", "high", "seeds"});
    Table table({"curve", "regime", "fraction", "training items", spoken_metric(open.study.metric),
                 "95 % over seeds", "seeds"},
                {2, 3, 4, 6});
    for (const AmountCurve& curve : report.curves)
        for (const AmountPoint& point : curve.points) {
            const bool first = &point == &curve.points.front();
            table.add({first ? short_cell(curve.name) : "", first ? name_of(curve.regime) : "",
                       fmt::format("{:.3g}", point.fraction), with_commas(point.training_items),
                       fmt::format("{:.3f}", point.mean),
                       point.interval
                           ? fmt::format("{:.3f} to {:.3f}", point.interval->low, point.interval->high)
                           : "one seed: unknown",
                       std::to_string(point.seeds)});
            csv += csv_row(std::vector<std::string>{
                curve.name, name_of(curve.regime), fmt::format("{}", point.fraction),
                std::to_string(point.training_items), fmt::format("{}", point.mean),
                point.interval ? fmt::format("{}", point.interval->low) : "",
                point.interval ? fmt::format("{}", point.interval->high) : "", std::to_string(point.seeds)});
        }
    if (!options.csv.empty()) write_file(options.csv, csv);
    if (options.ledger.json) {
        print_json(to_json(report, open.study));
        return;
    }
    print(table.text() + "\n");
    for (const CatchUp& one : report.catch_ups) print(wrapped(one.words + ".", terminal_width()));
    for (const std::string& sentence : evidence.set_apart) print(sentence + "\n");
    print(test_look_line(open));
    print_written({options.figure, options.csv});
}

}  // namespace

void add_amounts(Command& command) {
    auto options = std::make_shared<AmountsOptions>();
    command.add_option("RUN", options->runs, "candidates, or runs (default: all)");
    add_picture_option(command, "--figure", options->figure, "draw it");
    add_table_option(command, options->csv, "write it as a table");
    add_ledger_options(command, options->ledger);
    command.callback([options] { amounts(*options); });
}

}  // namespace jevrin::app
