// Merging and comparing two ledgers.
#pragma once

#include "jevrin/comparison/ledger_difference.hpp"
#include "jevrin/results/form.hpp"

#include <filesystem>

namespace jevrin::inline v1 {

struct MergeResult {
    std::filesystem::path from;
    std::filesystem::path into;
    MergeSummary summary;
};
MergeResult merge_ledgers(const std::filesystem::path& from, const std::filesystem::path& into);
std::string to_json(const MergeResult& result);
std::string to_text(const MergeResult& result, const TextForm& form = {});

struct ContrastResult {
    std::vector<RunPair> pairs;
};
ContrastResult report_contrast(const std::filesystem::path& first, const std::filesystem::path& second);
std::string to_json(const ContrastResult& result);
// Runs that differ, below a count of those that do not.
std::string to_text(const ContrastResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
