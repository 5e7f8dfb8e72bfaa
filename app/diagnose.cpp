#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/comparison/diagnosis.hpp"
#include "jevrin/comparison/evidence.hpp"
#include "jevrin/evaluation/run_names.hpp"

#include <fmt/format.h>

#include <map>
#include <sstream>

namespace jevrin::app {
namespace {

struct DiagnoseOptions {
    LedgerOptions ledger;
    std::vector<std::string> runs;
};

struct Diagnosed {
    RunRecord run;
    Diagnosis diagnosis;
};

// A name, and beside it words that go on in their own column.
std::string beside(const std::string& name, std::size_t width, const std::string& words) {
    const std::size_t room =
        std::max<std::size_t>(40, terminal_width() - std::min(terminal_width(), width + 2));
    std::string text;
    std::istringstream lines(wrapped(words, room));
    for (std::string line; std::getline(lines, line);)
        text += fmt::format("{}  {}\n", padded(text.empty() ? name : "", width), line);
    return text;
}

void diagnose_runs(const DiagnoseOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    std::vector<Diagnosed> all;
    for (const RunRecord& run : runs_called(open.ledger, open.study, options.runs)) {
        DiagnosisSettings settings{.metric = open.study.metric};
        if (run.best) settings.guess = guess_of(run.best->validation, open.study.metric);
        all.push_back({run, diagnose(open.ledger.curve(run.id), settings)});
    }
    if (options.ledger.json) {
        Json json = Json::array();
        for (const auto& [run, diagnosis] : all) {
            Json findings = Json::array();
            for (const Observation& observation : diagnosis.findings)
                findings.push_back(
                    {{"finding", spoken_finding(observation.finding)}, {"evidence", observation.words}});
            json.push_back(
                {{"run", run.name()},
                 {"finding", spoken_finding(diagnosis.finding())},
                 {"findings", findings},
                 {"overfit_since", diagnosis.overfit_since > 0 ? Json(diagnosis.overfit_since) : Json()},
                 {"overfit_by", diagnosis.overfit_by},
                 {"slope", diagnosis.slope}});
        }
        print_json(json);
        return;
    }
    std::map<std::string, std::int64_t> counts;
    std::size_t width = 0;
    for (const auto& [run, diagnosis] : all) {
        ++counts[spoken_finding(diagnosis.finding())];
        width = std::max(width, display_width(printable(run.name())));
    }
    std::string text;
    for (const auto& [run, diagnosis] : all)
        for (std::size_t k = 0; k < diagnosis.findings.size(); ++k)
            text += beside(k == 0 ? printable(run.name()) : "", width, diagnosis.findings[k].words);
    std::string verdict;
    for (const auto& [finding, count] : counts)
        verdict += fmt::format("{}{}: {}", verdict.empty() ? "" : ", ", finding, plural(count, "run"));
    print((verdict.empty() ? "no runs yet" : verdict) + "\n\n" + text);
}

}  // namespace

void add_diagnose(Command& command) {
    auto options = std::make_shared<DiagnoseOptions>();
    command.add_option("RUN", options->runs, "runs as CANDIDATE/SEED, or candidates (default: all)");
    add_ledger_options(command, options->ledger);
    command.callback([options] { diagnose_runs(*options); });
}

}  // namespace jevrin::app
