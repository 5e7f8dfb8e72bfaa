// The diagnosis of each run.
#pragma once

#include "jevrin/comparison/diagnosis.hpp"
#include "jevrin/results/form.hpp"

namespace jevrin::inline v1 {

struct DiagnosedRun {
    RunRecord run;
    Diagnosis diagnosis;
};

struct DiagnosisResult {
    std::vector<DiagnosedRun> runs;
};
// runs: runs or candidates; none: all.
DiagnosisResult report_diagnoses(const Ledger& ledger, const StudyRecord& study,
                                 const std::vector<std::string>& runs = {});

std::string to_json(const DiagnosisResult& result);
std::string to_text(const DiagnosisResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
