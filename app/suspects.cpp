#include "output.hpp"
#include "review.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/results/suspects_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct SuspectsOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
    bool recorded = false;
    std::optional<std::size_t> most;
    std::size_t mark = 0;
    std::filesystem::path sheet;
};

SuspectsResult judge(const OpenStudy& open, const SuspectsOptions& options) {
    ProgressBars bar;
    return report_suspects(open.ledger, open.study, options.runs,
                           options.recorded ? SuspectSource::recorded : SuspectSource::features,
                           bar.of("computing features"));
}

// What to do about the first of them.
std::string next_of(const SuspectsResult& result) {
    if (result.report.suspects.empty()) return "";
    const SuspectLabel& first = result.report.suspects.front();
    return fmt::format(
        "next: look at the images (--sheet FILE) before you change a label; then jevrin marks add {} --label "
        "{}\n",
        shell_word(path_of_item(result.id(first))), shell_word(result.context.study.classes[first.proposed]));
}

void suspects(const SuspectsOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const SuspectsResult result = judge(open, options);
    present_for_review(result, open,
                       {.json = options.ledger.json,
                        .most = options.most,
                        .mark = options.mark,
                        .sheet = options.sheet,
                        .next = next_of(result)});
}

}  // namespace

void add_suspects(Command& command) {
    auto options = std::make_shared<SuspectsOptions>();
    command.add_option("RUN", options->runs,
                       "runs or candidates whose features are used (default: the best frozen run; without "
                       "one, the predictions of "
                       "all finished runs)");
    command.add_flag(
        "--recorded", options->recorded,
        "use the recorded predictions on the validation part, not features of a frozen run on training and "
        "validation items");
    add_most_option(command, options->most);
    add_mark_option(command, options->mark);
    add_figure_option(command, "--sheet", options->sheet, "draw the images, 64 per page");
    add_ledger_options(command, options->ledger);
    command.callback([options] { suspects(*options); });
}

}  // namespace jevrin::app
