// The ids of a ledger, each of its own type.
#pragma once

#include <compare>
#include <cstdint>

namespace jevrin::inline v1 {

// 0 names nothing.
template <typename Kind>
struct LedgerId {
    std::int64_t number = 0;

    explicit operator bool() const { return number != 0; }
    friend auto operator<=>(const LedgerId&, const LedgerId&) = default;
};

using StudyId = LedgerId<struct StudyKind>;
using RunId = LedgerId<struct RunKind>;
using SplitId = LedgerId<struct SplitKind>;
using ImageSetId = LedgerId<struct ImageSetKind>;
using ItemNumber = LedgerId<struct ItemKind>;

}  // namespace jevrin::inline v1
