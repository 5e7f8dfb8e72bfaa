// Agreement between runs, and groups of items.
#pragma once

#include "jevrin/comparison/agreement.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/results/shown_items.hpp"

namespace jevrin::inline v1 {

struct AgreementQuery {
    std::vector<std::string> runs = {};  // runs or candidates; none: all
    ItemGroup group = ItemGroup::missed;
    std::optional<Regime> regime = std::nullopt;  // correct in this regime only, whatever the group
};

// An item of the group.
struct SelectedItem {
    AgreedItem agreed;
    std::string id;
};

struct AgreementResult {
    StudyContext context;
    AgreementQuery query;
    Agreement agreement;
    std::vector<SelectedItem> selected;
    std::vector<std::string> candidates;  // of the study, as letters count them
    std::vector<std::string> set_apart;   // what is not compared, in sentences

    // "12 items that no run classifies correctly".
    std::string what() const;
    std::string title() const;
};
AgreementResult report_agreement(const Ledger& ledger, const StudyRecord& study,
                                 const AgreementQuery& query = {});

std::string to_json(const AgreementResult& result);
std::string to_text(const AgreementResult& result, const TextForm& form = {});
std::vector<ShownItem> shown_items(const AgreementResult& result);
// Marks for review, in the order of the selected items.
std::vector<MarkRecord> marks_for(const AgreementResult& result);

}  // namespace jevrin::inline v1
