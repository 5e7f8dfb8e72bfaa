#include "output.hpp"
#include "review.hpp"

#include "jevrin/figures/sheet.hpp"
#include "jevrin/results/agreement_result.hpp"

namespace jevrin::app {
namespace {

struct AgreementOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    std::string show = "missed";
    std::string regime;
    std::optional<std::size_t> most;
    std::size_t mark = 0;
    std::filesystem::path sheet;
};

AgreementQuery query_of(const AgreementOptions& options) {
    AgreementQuery query{.runs = options.runs};
    query.group = options.show == "missed"     ? ItemGroup::missed
                  : options.show == "known"    ? ItemGroup::known
                  : options.show == "disputed" ? ItemGroup::disputed
                                               : ItemGroup::only_regime;
    if (!options.regime.empty()) query.regime = value_named<Regime>(options.regime);
    return query;
}

void agreement(const AgreementOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const AgreementResult result = report_agreement(open.ledger, open.study, query_of(options));
    present_for_review(
        result, open,
        {.json = options.ledger.json, .most = options.most, .mark = options.mark, .sheet = options.sheet});
}

}  // namespace

void add_agreement(Command& command) {
    auto options = std::make_shared<AgreementOptions>();
    add_runs_option(command, options->runs);
    command
        .add_option("--show", options->show,
                    "missed (wrong in all runs), known (correct in all), disputed, or one-regime (correct in "
                    "one regime only)")
        .one_of({"missed", "known", "disputed", "one-regime"})
        .option_text("WHICH=" + options->show);
    command.add_option("--regime", options->regime, "only items that are correct in this regime alone")
        .type_name("REGIME");
    add_most_option(command, options->most);
    add_mark_option(command, options->mark);
    add_figure_option(command, "--sheet", options->sheet, "draw the images, 64 per page");
    add_ledger_options(command, options->ledger);
    command.callback([options] { agreement(*options); });
}

}  // namespace jevrin::app
