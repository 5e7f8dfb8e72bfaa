// Scoring the sealed test part, on an explicit word.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <filesystem>
#include <string>

namespace jevrin {

// Scores a finished run's model on the test part of its study and records the look in the ledger. The images
// are read from where the study found them; InputError when they changed or are gone, or the run is not
// finished.
ConfusionMatrix score_test_part(const std::filesystem::path& ledger_directory, const std::string& study,
                                const std::string& run);

}  // namespace jevrin
