#include "materials_view.hpp"
#include "output.hpp"

#include "jevrin/figures/network_figure.hpp"
#include "jevrin/results/check_result.hpp"

namespace jevrin::app {
namespace {

struct CheckOptions {
    std::filesystem::path plan;
    std::filesystem::path ledger = "ledger";
    std::filesystem::path figure;
    std::string candidate;
    bool json = false;
    double memory = 0.0;
    bool all_layers = false;
};

void check(const CheckOptions& options) {
    const std::shared_ptr<const Materials> materials =
        gather_with_view(read_plan(options.plan), options.ledger);
    CheckResult result = report_check(*materials, options.candidate);
    result.all_layers = options.all_layers;
    for (const std::string& note : result.notes) warn(note);
    if (!options.figure.empty()) draw_network(result.shown().layers, result.figure_title(), options.figure);
    present(
        result,
        {.json = options.json, .form = form_for_terminal({}, "--all-layers"), .written = {options.figure}});
}

}  // namespace

void add_check(Command& command) {
    auto options = std::make_shared<CheckOptions>();
    add_plan_option(command, options->plan);
    add_caching_ledger_option(command, options->ledger);
    command.add_option("--candidate", options->candidate, "only the layers of this candidate")
        .type_name("NAME");
    command.add_flag("--all-layers", options->all_layers,
                     "every layer of a long network, not a row for each stage");
    add_figure_option(command, "--figure", options->figure,
                      "draw the network of --candidate, or of the first candidate");
    add_json_option(command, options->json);
    add_memory_option(command, options->memory);
    command.callback([options] {
        limit_memory(options->memory);
        check(*options);
    });
}

}  // namespace jevrin::app
