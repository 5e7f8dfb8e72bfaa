#include "jevrin/results/diagnosis_result.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/run_names.hpp"
#include "jevrin/results/json_values.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <sstream>

namespace jevrin::inline v1 {
namespace {

// A name, and beside it text wrapped in its own column.
std::string beside(const std::string& name, std::size_t width, const std::string& words,
                   std::size_t columns) {
    const std::size_t room = std::max<std::size_t>(40, columns - std::min(columns, width + 2));
    std::string text;
    std::istringstream lines(wrapped(words, room));
    for (std::string line; std::getline(lines, line);)
        text += fmt::format("{}  {}\n", padded(text.empty() ? name : "", width), line);
    return text;
}

using CandidateRuns = std::vector<const DiagnosedRun*>;

// The runs of each candidate, in the order of the result.
std::vector<CandidateRuns> candidates_in(const DiagnosisResult& result) {
    std::vector<CandidateRuns> candidates;
    for (const DiagnosedRun& one : result.runs) {
        const auto known =
            std::find_if(candidates.begin(), candidates.end(), [&](const CandidateRuns& candidate) {
                return candidate.front()->run.candidate == one.run.candidate;
            });
        if (known == candidates.end())
            candidates.push_back({&one});
        else
            known->push_back(&one);
    }
    return candidates;
}

// An observation that several runs of a candidate have in common.
struct Shared {
    std::vector<const Observation*> observations;
    std::vector<const RunRecord*> runs;
};

// The one that most runs have comes first.
std::vector<Shared> shared_observations(const CandidateRuns& candidate) {
    std::vector<Shared> all;
    for (const DiagnosedRun* one : candidate)
        for (const Observation& observation : one->diagnosis.findings) {
            const auto known = std::find_if(all.begin(), all.end(), [&](const Shared& shared) {
                return shared.observations.front()->pattern == observation.pattern;
            });
            Shared& shared = known == all.end() ? all.emplace_back() : *known;
            shared.observations.push_back(&observation);
            shared.runs.push_back(&one->run);
        }
    std::stable_sort(all.begin(), all.end(),
                     [](const Shared& a, const Shared& b) { return a.runs.size() > b.runs.size(); });
    return all;
}

// "all 3 seeds", "seeds 1 and 3", "seed 2"; with folds "run 2/4".
std::string runs_of(const Shared& shared, std::size_t all) {
    const bool folds = std::any_of(shared.runs.begin(), shared.runs.end(),
                                   [](const RunRecord* run) { return run->fold > 0; });
    const std::string what = folds ? "run" : "seed";
    if (shared.runs.size() == all && all > 1)
        return fmt::format("all {}", plural(static_cast<std::int64_t>(all), what));
    std::vector<std::string> names;
    for (const RunRecord* run : shared.runs)
        names.push_back(folds ? fmt::format("{}/{}", run->seed, run->fold) : std::to_string(run->seed));
    const std::string last = names.back();
    names.pop_back();
    return names.empty() ? fmt::format("{} {}", what, last)
                         : fmt::format("{}s {} and {}", what, fmt::join(names, ", "), last);
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
                {{"finding", spoken_finding(observation.finding)}, {"evidence", observation.text()}});
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
        width = std::max(width, display_width(printable(run.candidate)));
    }
    std::string verdict;
    for (const auto& [finding, count] : counts)
        verdict += fmt::format("{}{}: {}", verdict.empty() ? "" : ", ", finding, plural(count, "run"));
    std::string text = verdict + "\n\n";
    for (const CandidateRuns& candidate : candidates_in(result)) {
        const std::string name = printable(candidate.front()->run.candidate);
        bool is_first = true;
        for (const Shared& shared : shared_observations(candidate)) {
            text +=
                beside(is_first ? name : "", width,
                       runs_of(shared, candidate.size()) + ": " + text_of(shared.observations), form.width);
            is_first = false;
        }
    }
    return text;
}

}  // namespace jevrin::inline v1
