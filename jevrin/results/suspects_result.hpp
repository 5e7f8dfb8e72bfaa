// Items whose label is probably wrong, the most suspect first.
#pragma once

#include "jevrin/evaluation/suspects.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/shown_items.hpp"

namespace jevrin::inline v1 {

struct SuspectsResult {
    StudyContext context;
    SuspectReport report;

    // The id of the item of a suspect.
    const std::string& id(const SuspectLabel& suspect) const {
        return report.predictions.items[suspect.item];
    }
    std::string title() const;
};
// find_suspects() for runs or candidates by their names.
SuspectsResult report_suspects(const Ledger& ledger, const StudyRecord& study,
                               const std::vector<std::string>& runs,
                               SuspectSource source = SuspectSource::features,
                               const PredictionProgress& progress = {});

std::string to_json(const SuspectsResult& result);
std::string to_text(const SuspectsResult& result, const TextForm& form = {});
std::vector<ShownItem> shown_items(const SuspectsResult& result);
// Marks for review, in the order of the suspects.
std::vector<MarkRecord> marks_for(const SuspectsResult& result);

}  // namespace jevrin::inline v1
