// Exports the features of frozen layers for an image set.
#pragma once

#include "jevrin/study/gathering.hpp"

#include <cstdint>
#include <filesystem>
#include <string>

namespace jevrin::inline v1 {

struct FeatureExport {
    std::int64_t items = 0;
    std::int64_t width = 0;
    std::string boundary;  // the last frozen layer
};

// Writes the values at the boundary of a frozen or partial candidate, without augmentation, for every item of
// the training and validation parts (and the test part, when asked), in the order of the image set:
// features.npy [items, width] float32, labels.npy [items] int64 (places in the order of the classes), and
// features.csv with item, label, part and the features. The candidate is
// the one of this name, or the first with frozen layers. InputError for a scratch one, or when there is none.
enum class TestItems { left_out, included };
FeatureExport export_features(const Materials& materials, const std::string& candidate, TestItems test,
                              const std::filesystem::path& directory, const MaterialsProgress& progress = {});

// Records in the ledger of this directory that the images of the test part were looked at; false when there
// is no ledger.
bool record_features_look(const Materials& materials, const std::filesystem::path& ledger);

}  // namespace jevrin::inline v1
