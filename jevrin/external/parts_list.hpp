// The parts of a study's images as a list, for programs that train elsewhere: what they train on the same
// items, they can be compared by.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

struct PartsListSettings {
    std::int64_t fold = 0;                  // that is validation; 0: no folds, or the first
    bool test_labels = false;               // otherwise items of the test part have none
    std::vector<std::uint64_t> seeds = {};  // of these the order of training items,
    std::int64_t epochs = 1;                // in the first epochs
};

struct ListedPlace {
    std::string item;  // id
    std::string path;
    Part part = Part::training;
    std::int64_t fold = 0;  // 0: no folds, or in the test part
    std::string label;      // empty: not shown
    std::string unit;       // id of the first of those that it stays together with, or its own
    double weight = 0.0;    // of its class in a balanced loss, of training items; 0: does not apply
};
// The training items of an epoch in the order in which a run with this seed sees them.
struct ListedOrder {
    std::uint64_t seed = 0;
    std::int64_t epoch = 0;
    std::vector<std::size_t> items;  // places in PartsList::items
};
struct PartsList {
    std::string study;
    std::string image_set;  // fingerprint
    std::string split;      // hash
    std::int64_t fold = 0;
    std::vector<std::string> classes;
    std::vector<ListedPlace> items;  // in the order of the image set
    std::vector<ListedOrder> orders;
};

// A weight is items / (classes * items of the class), over the training part. Orders are those of natural
// sampling (training/sampling.hpp). InputError when the study has no such fold.
PartsList list_parts(const Ledger& ledger, const StudyRecord& study, const PartsListSettings& settings = {});

// That the labels of its test part were shown: what test_labels costs.
void record_parts_look(const Ledger& ledger, const PartsList& list);

}  // namespace jevrin::inline v1
