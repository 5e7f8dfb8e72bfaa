// Composed image sets and exported features.
#pragma once

#include "jevrin/images/composition.hpp"
#include "jevrin/results/form.hpp"
#include "jevrin/study/features.hpp"

namespace jevrin::inline v1 {

struct CompositionResult {
    std::filesystem::path directory;
    CompositionSummary summary;
};
std::string to_json(const CompositionResult& result);
std::string to_text(const CompositionResult& result, const TextForm& form = {});

struct FeaturesResult {
    std::filesystem::path directory;
    FeatureExport written;
};
std::string to_json(const FeaturesResult& result);
std::string to_text(const FeaturesResult& result, const TextForm& form = {});

}  // namespace jevrin::inline v1
