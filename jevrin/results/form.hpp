// Answers as values: what a command, a page or a program of your own asks, computed, with its JSON and its
// text.
//
//     const RecallResult result = report_recalls(ledger, study, {"new head"});
//     to_text(result, {.width = 80})    // for a terminal
//     to_json(result)                   // one JSON document; docs/formats.md has its keys
//     to_table(result).csv()            // where a result is also a table
//
// Each result has a header of its own here: a struct, report_...() which computes it, and its forms. Text is
// safe to print, whatever files and classes are called. A result of a study carries a StudyContext, and with
// it who has looked at the sealed test part.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <algorithm>
#include <cstddef>
#include <optional>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// How the text of a result is laid out.
struct TextForm {
    std::size_t width = 100;  // columns of the terminal
    bool rich = false;        // UTF-8 block and braille characters, and colour; otherwise ASCII
    std::optional<std::size_t> rows =
        std::nullopt;          // of a list, at most; 0: all; otherwise as many as is usual
    std::string for_all = {};  // how a reader gets the rest, in the caller's words

    // Of so many rows, how many are shown.
    std::size_t rows_of(std::size_t all, std::size_t usual = 20) const {
        const std::size_t most = rows.value_or(usual);
        return most == 0 ? all : std::min(most, all);
    }
    // " (HOW)"; empty when that is.
    std::string hint() const { return for_all.empty() ? "" : " (" + for_all + ")"; }
    // "... and 5 more classes (HOW)", a line; nothing when none is left.
    std::string and_more(std::size_t left, const std::string& of_what = "") const;
};

// The study that a result tells of, and who has looked at its test part.
struct StudyContext {
    StudyRecord study;
    std::vector<TestLook> looks;
};
// As the ledger has it now.
StudyContext context_of(const Ledger& ledger, const StudyRecord& study);

// "the test part of this study has been looked at 3 times, with 2 runs; last on ... with ...", a line.
std::string test_look_line(const std::vector<TestLook>& looks);
// How many of them were with this run.
std::int64_t looks_with(const std::vector<TestLook>& looks, const std::string& run);

}  // namespace jevrin::inline v1
