// What the ranks of a job that have no ledger need to know of a study, to train its runs as the rank that has
// it would: the plan as it was settled, the images and their parts, which files its backbones are.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/study.hpp"

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// InputError when the plan was not read from text.
Json study_brief(const Materials& materials, const StudyOptions& options);

// How a rank gets what its machine lacks.
struct Supplies {
    // The bytes of a backbone's file, by the name in the plan.
    std::function<std::string(const std::string& backbone)> backbone;
    // The fitted images of these items, one after the other.
    std::function<std::string(const std::vector<std::size_t>& items)> images;
};

// What came from elsewhere.
struct Supplied {
    std::int64_t images = 0;
    std::int64_t backbones = 0;
};

// Materials that train the same bits as those of the brief. What this machine has under the same paths, with
// the same content, is read here, and what it keeps in `stores` too; the rest is supplied. InputError when a
// backbone cannot be had with the same weights.
std::shared_ptr<const Materials> materials_from(const Json& brief,
                                                const std::optional<std::filesystem::path>& stores,
                                                const Supplies& supplies, Supplied& supplied);

}  // namespace jevrin::inline v1
