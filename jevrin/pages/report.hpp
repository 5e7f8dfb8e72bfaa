// The page of a study as one HTML file, to be handed over: it opens from disk, needs no network, and explores
// the same way. It cannot mark or classify, holds nothing of the sealed test part and no path of this
// machine.
//
//     const ReportSummary summary = write_report(ledger, ledger.study(), "study.html");
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <functional>

namespace jevrin::inline v1 {

struct ReportSettings {
    // What must be there is always written: the study, the choice, the curves. Then come runs, pictures and
    // details, the best runs first, as long as the file stays below this.
    std::int64_t most_bytes = std::int64_t{40} << 20;
};

struct ReportSummary {
    std::int64_t bytes = 0;
    std::int64_t answers = 0;
    std::int64_t pictures = 0;
    std::int64_t left_out = 0;     // answers and pictures that there was no room for
    std::int64_t images_gone = 0;  // pictures whose file is gone, or changed
};

using ReportProgress = std::function<void(std::int64_t done, std::int64_t total)>;

// A file of that name is replaced when the new one is whole. WorkError when it cannot be written.
ReportSummary write_report(const Ledger& ledger, const StudyRecord& study, const std::filesystem::path& file,
                           const ReportSettings& settings = {}, const ReportProgress& progress = {});

}  // namespace jevrin::inline v1
