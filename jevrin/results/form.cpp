#include "jevrin/results/form.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <map>
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
    std::map<std::string, std::int64_t> others;  // how else, and how often
    for (const TestLook& look : looks) {
        if (look.run.empty())
            ++others[fmt::format("by '{}'", printable(look.what))];
        else if (!look.study.empty())
            ++others[fmt::format("in the study '{}'", printable(look.study))];
        else
            runs.insert(look.run);
    }
    std::string text =
        fmt::format("the test part of this study has been looked at {}", plural(std::ssize(looks), "time"));
    if (!runs.empty()) text += ", with " + plural(std::ssize(runs), "run");
    for (const auto& [how, times] : others) text += fmt::format(", {} {}", plural(times, "time"), how);
    const TestLook& last = looks.back();
    return text + fmt::format("; last on {}{}\n", last.looked,
                              last.run.empty() ? "" : " with " + printable(last.run));
}

std::int64_t looks_with(const std::vector<TestLook>& looks, const std::string& run) {
    return std::count_if(looks.begin(), looks.end(),
                         [&](const TestLook& look) { return look.study.empty() && look.run == run; });
}

}  // namespace jevrin::inline v1
