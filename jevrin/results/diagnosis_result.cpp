#include "jevrin/results/diagnosis_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/words.hpp"

#include <fmt/format.h>

#include <map>
#include <sstream>

namespace jevrin::inline v1 {
namespace {

// A name, and beside it words that go on in their own column.
std::string beside(const std::string& name, std::size_t width, const std::string& words,
                   std::size_t columns) {
    const std::size_t room = std::max<std::size_t>(40, columns - std::min(columns, width + 2));
    std::string text;
    std::istringstream lines(wrapped(words, room));
    for (std::string line; std::getline(lines, line);)
        text += fmt::format("{}  {}\n", padded(text.empty() ? name : "", width), line);
    return text;
}

}  // namespace

DiagnosisResult report_diagnoses(const Ledger& ledger, const StudyRecord& study,
                                 const std::vector<std::string>& runs) {
    DiagnosisResult result;
    for (const RunRecord& run : runs_called(ledger, study, runs)) {
        DiagnosisSettings settings{.metric = study.metric};
        if (run.best) settings.baseline = baseline_of(run.best->validation, study.metric);
        result.runs.push_back({run, diagnose(ledger.curve(run.id), settings)});
    }
    return result;
}

std::string to_json(const DiagnosisResult& result) {
    Json json = Json::array();
    for (const auto& [run, diagnosis] : result.runs) {
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
    return document(json);
}

std::string to_text(const DiagnosisResult& result, const TextForm& form) {
    if (result.runs.empty()) return "no runs yet\n\n";
    std::map<std::string, std::int64_t> counts;
    std::size_t width = 0;
    for (const auto& [run, diagnosis] : result.runs) {
        ++counts[spoken_finding(diagnosis.finding())];
        width = std::max(width, display_width(printable(run.name())));
    }
    std::string verdict;
    for (const auto& [finding, count] : counts)
        verdict += fmt::format("{}{}: {}", verdict.empty() ? "" : ", ", finding, plural(count, "run"));
    std::string text = verdict + "\n\n";
    for (const auto& [run, diagnosis] : result.runs)
        for (std::size_t k = 0; k < diagnosis.findings.size(); ++k)
            text +=
                beside(k == 0 ? printable(run.name()) : "", width, diagnosis.findings[k].words, form.width);
    return text;
}

}  // namespace jevrin::inline v1
