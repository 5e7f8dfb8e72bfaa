#include "jevrin/results/form.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <set>

namespace jevrin::inline v1 {

std::string TextForm::and_more(std::size_t left, const std::string& of_what) const {
    if (left == 0) return "";
    return fmt::format("... and {} more{}{}{}\n", left, of_what.empty() ? "" : " ", of_what, hint());
}

StudyContext context_of(const Ledger& ledger, const StudyRecord& study) {
    return {.study = ledger.study(study.name), .looks = ledger.test_looks(study.id)};
}

std::string test_look_line(const std::vector<TestLook>& looks) {
    if (looks.empty()) return "the test part of this study has not been looked at\n";
    std::set<std::string> runs;
    for (const TestLook& look : looks) runs.insert(look.run);
    return fmt::format("the test part of this study has been looked at {}, with {}; last on {} with {}\n",
                       plural(std::ssize(looks), "time"), plural(std::ssize(runs), "run"),
                       looks.back().looked, printable(looks.back().run));
}

std::int64_t looks_with(const std::vector<TestLook>& looks, const std::string& run) {
    return std::count_if(looks.begin(), looks.end(), [&](const TestLook& look) { return look.run == run; });
}

}  // namespace jevrin::inline v1
