// gather_materials() with a progress bar, for commands that use a plan without training it.
#pragma once

#include "output.hpp"

#include "jevrin/study/gathering.hpp"

namespace jevrin::app {

// What a ledger already holds is used; none is made.
inline std::shared_ptr<const Materials> gather_with_view(const Plan& plan,
                                                         const std::filesystem::path& ledger) {
    ProgressBars bar;
    return gather_materials(plan, Ledger::exists(ledger) ? std::optional(ledger) : std::nullopt, bar.named());
}

}  // namespace jevrin::app
