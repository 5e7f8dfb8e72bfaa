#include "jevrin/pages/report.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/comparison/choice.hpp"
#include "jevrin/ledger/ledger_pool.hpp"
#include "jevrin/pages/assets.hpp"
#include "jevrin/pages/data_uri.hpp"
#include "jevrin/pages/picture.hpp"
#include "jevrin/pages/unsealed_items.hpp"
#include "jevrin/pages/view.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <algorithm>
#include <ctime>
#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr std::int64_t picture_side = 128;
constexpr std::size_t at_a_time = 32;  // questions and pictures
// Of so many candidates every pair is compared; of more, the first so many.
constexpr std::size_t most_compared = 8;
// Room for the page's own files and the frame around the answers.
constexpr std::int64_t frame_bytes = 400'000;

// As the page asks (questionOf() in web/data.ts).
std::string question_of(const ViewQuery& query) {
    const auto encoded = [](const std::string& text) {
        std::string result;
        for (const char letter : text)
            if (std::isalnum(static_cast<unsigned char>(letter)) != 0 ||
                std::string_view("-_.!~*'()").find(letter) != std::string_view::npos)
                result += letter;
            else
                result += fmt::format("%{:02X}", static_cast<unsigned char>(letter));
        return result;
    };
    std::string question = query.view;
    for (const auto& [name, value] : query.parameters)
        question += fmt::format("{}{}={}", question.size() == query.view.size() ? '?' : '&', encoded(name),
                                encoded(value));
    return question;
}

// What the page will ask, the most important first.
struct Questions {
    std::vector<ViewQuery> needed;
    std::vector<ViewQuery> wanted;
};

// Finished runs, the best of every candidate first, then the others.
std::vector<const RunRecord*> runs_in_order(const std::vector<RunRecord>& runs, Metric metric) {
    std::vector<const RunRecord*> order;
    for (const RunRecord& run : runs)
        if (run.epochs > 0) order.push_back(&run);
    std::stable_sort(order.begin(), order.end(), [&](const RunRecord* a, const RunRecord* b) {
        const auto score = [&](const RunRecord* run) {
            return run->best ? validation_score(*run->best, metric) : -1.0;
        };
        return score(a) > score(b);
    });
    std::set<std::string> seen;
    std::stable_partition(order.begin(), order.end(),
                          [&](const RunRecord* run) { return seen.insert(run->candidate).second; });
    return order;
}

std::vector<std::string> validation_items(const Ledger& ledger, const std::vector<const RunRecord*>& runs) {
    std::vector<std::string> items;
    if (runs.empty()) return items;
    for (const ItemRecord& item : ledger.items(runs.front()->id, Part::validation)) items.push_back(item.id);
    return items;
}

Questions questions_for(const Ledger& ledger, const StudyRecord& study) {
    Questions questions;
    const std::vector<RunRecord> all = ledger.runs(study.id);
    const std::vector<const RunRecord*> runs = runs_in_order(all, study.metric);
    const std::vector<std::string> candidates = ledger.candidates(study.id);
    questions.needed = {{"study"}, {"choice"}, {"settings"}, {"curves"}, {"marks"}};
    const auto want = [&](const char* view, std::map<std::string, std::string> parameters = {}) {
        questions.wanted.push_back({view, std::move(parameters)});
    };
    for (const Cost cost : names_of(Cost{}).values()) want("choice", {{"cost", name_of(cost)}});
    want("suspects");
    want("suspects", {{"source", "recorded"}});
    want("survey");
    want("sample", {{"seed", "1"}, {"per_class", study.classes.size() > 30 ? "4" : "8"}});
    for (const RunRecord* run : runs) {
        for (const char* view : {"run", "matrices", "layers"}) want(view, {{"run", run->name()}});
        if (run->state != RunState::finished) continue;
        for (const char* view : {"items", "classes", "scores"}) want(view, {{"run", run->name()}});
    }
    for (const std::string& item : validation_items(ledger, runs)) want("item", {{"item", item}});
    const std::size_t compared = std::min(candidates.size(), most_compared);
    for (std::size_t i = 0; i < compared; ++i)
        for (std::size_t j = 0; j < compared; ++j)
            if (i != j) want("difference", {{"first", candidates[i]}, {"second", candidates[j]}});
    std::set<std::string> seen;
    for (const RunRecord* run : runs) {
        if (run->state != RunState::finished || !seen.insert(run->candidate).second) continue;
        want("network", {{"run", run->name()}});
        for (const std::string& one : study.classes)
            want("thresholds", {{"run", run->name()}, {"class", one}});
    }
    return questions;
}

// Every item that an answer names, in the order of the answers.
void collect_items(const Json& json, const std::set<std::string>& known, std::vector<std::string>& items,
                   std::set<std::string>& seen) {
    if (json.is_string()) {
        const auto text = json.get<std::string>();
        if (known.contains(text) && seen.insert(text).second) items.push_back(text);
    }
    for (const Json& element : json) collect_items(element, known, items, seen);
    for (const auto& [key, value] : json.items()) collect_items(value, known, items, seen);
}

std::set<std::string> ids_of(const std::vector<ItemRecord>& items) {
    std::set<std::string> ids;
    for (const ItemRecord& item : items) ids.insert(item.id);
    return ids;
}

std::string jpeg_uri(const Image& image) {
    return "data:image/jpeg;base64," + base64(encode_jpeg(image, 88));
}

// JSON inside an HTML script element: nothing in it can end the element.
std::string inside_script(std::string text) {
    std::string result;
    result.reserve(text.size());
    for (const char letter : text)
        if (letter == '<')
            result += "\\u003c";
        else
            result += letter;
    return result;
}

// Without a folder of this machine, wherever it stands.
std::string without_folder(std::string text, const std::filesystem::path& folder) {
    const std::string name = folder.string();
    if (name.size() < 2) return text;
    for (std::size_t at = 0; (at = text.find(name, at)) != std::string::npos;)
        text.replace(at, name.size(), "…");
    return text;
}

std::string html_of(const std::string& title, const std::string& data) {
    const std::string_view script = asset_at("/page.js")->content;
    const std::string_view style = asset_at("/page.css")->content;
    const std::string nonce = content_hash(script);
    const std::string icon = base64(std::as_bytes(std::span(asset_at("/icon.svg")->content)));
    return fmt::format(R"(<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; script-src 'nonce-{0}'; style-src 'nonce-{0}'; img-src data: blob:; base-uri 'none'; form-action 'none'">
<meta name="viewport" content="width=device-width">
<meta name="color-scheme" content="light dark">
<title>{1}</title>
<link rel="icon" href="data:image/svg+xml;base64,{2}">
<style nonce="{0}">{3}</style>
<body><noscript>This report needs JavaScript.</noscript>
<script type="application/json" id="report">{4}</script>
<script nonce="{0}">{5}</script>
</body>
</html>
)",
                       nonce, title, icon, style, data, script);
}

std::string html_text(const std::string& text) {
    std::string result;
    for (const char letter : text)
        result += letter == '<' ? "&lt;" : letter == '&' ? "&amp;" : std::string(1, letter);
    return result;
}

// The answers and pictures of a report, as the members of JSON objects.
class Contents {
  public:
    Contents(const Ledger& ledger, const StudyRecord& study, std::int64_t most_bytes)
        : study_(study),
          ledgers_(ledger.directory()),
          most_bytes_(most_bytes),
          known_(ids_of(unsealed_items(ledger, study))) {}

    // In their order, as long as there is room; needed ones always.
    void add_answers(std::span<const ViewQuery> queries, bool needed) {
        std::vector<std::optional<Json>> found(queries.size());
        std::vector<std::string> reasons(queries.size());
        parallel_for(std::ssize(queries), [&](std::int64_t i) {
            const auto k = static_cast<std::size_t>(i);
            try {
                found[k] = ledgers_.with(
                    [&](const Ledger& ledger) { return view_data(ledger, study_, queries[k]); });
            } catch (const InputError& error) {  // images are gone, a run from elsewhere has no network
                if (needed) throw;
                reasons[k] = error.what();
            }
        });
        for (std::size_t k = 0; k < queries.size(); ++k) {
            const std::string question = question_of(queries[k]);
            if (!found[k]) {
                add(refusals_, question, json_text(Json(reasons[k])), true);
                continue;
            }
            if (!add(answers_, question, json_text(*found[k]), needed)) {
                ++summary_.left_out;
                continue;
            }
            collect_items(*found[k], known_, items_, seen_);
            ++summary_.answers;
        }
    }

    // Of all items that the answers name.
    void add_pictures() {
        for (std::size_t begin = 0; begin < items_.size(); begin += at_a_time) {
            const std::size_t count = std::min(at_a_time, items_.size() - begin);
            std::vector<std::string> uris(count);
            parallel_for(static_cast<std::int64_t>(count), [&](std::int64_t i) {
                const auto k = static_cast<std::size_t>(i);
                try {
                    uris[k] = ledgers_.with([&](const Ledger& ledger) {
                        return jpeg_uri(shown_image(ledger, study_, items_[begin + k], picture_side));
                    });
                } catch (const InputError&) {  // the file is gone, or changed
                }
            });
            for (std::size_t k = 0; k < count; ++k) {
                if (uris[k].empty())
                    ++summary_.images_gone;
                else if (add(pictures_, items_[begin + k], json_text(Json(uris[k])), false))
                    ++summary_.pictures;
                else
                    ++summary_.left_out;
            }
        }
    }

    const std::string& answers() const { return answers_; }
    // Why there is no answer, by question, as the live page says it.
    const std::string& refusals() const { return refusals_; }
    const std::string& pictures() const { return pictures_; }
    const ReportSummary& summary() const { return summary_; }

  private:
    bool add(std::string& members, const std::string& key, const std::string& value, bool needed) {
        const std::string member =
            fmt::format("{}{}:{}", members.empty() ? "" : ",", json_text(Json(key)), value);
        if (!needed && std::ssize(answers_) + std::ssize(pictures_) + std::ssize(member) > most_bytes_)
            return false;
        members += member;
        return true;
    }

    const StudyRecord& study_;
    LedgerPool ledgers_;
    std::int64_t most_bytes_;
    std::set<std::string> known_;
    std::vector<std::string> items_;  // that answers name, in their order
    std::set<std::string> seen_;
    std::string answers_;
    std::string refusals_;
    std::string pictures_;
    ReportSummary summary_;
};

}  // namespace

ReportSummary write_report(const Ledger& ledger, const StudyRecord& study, const std::filesystem::path& file,
                           const ReportSettings& settings, const ReportProgress& progress) {
    const Questions questions = questions_for(ledger, study);
    const auto total = std::ssize(questions.needed) + std::ssize(questions.wanted);
    Contents contents(ledger, study, settings.most_bytes - frame_bytes);
    std::int64_t done = 0;
    const auto add = [&](const std::vector<ViewQuery>& queries, bool needed) {
        for (std::size_t begin = 0; begin < queries.size(); begin += at_a_time) {
            if (progress) progress(done, total);
            const auto some = std::span(queries).subspan(begin, std::min(at_a_time, queries.size() - begin));
            contents.add_answers(some, needed);
            done += std::ssize(some);
        }
    };
    add(questions.needed, true);
    add(questions.wanted, false);
    contents.add_pictures();
    ReportSummary summary = contents.summary();
    std::string data = fmt::format(
        R"({{"written":"{:%Y-%m-%d}","left_out":{},"answers":{{{}}},"refusals":{{{}}},"pictures":{{{}}}}})",
        fmt::gmtime(std::time(nullptr)), summary.left_out, contents.answers(), contents.refusals(),
        contents.pictures());
    for (const std::filesystem::path& folder :
         {std::filesystem::path(study.image_root), std::filesystem::absolute(ledger.directory()),
          std::filesystem::weakly_canonical(ledger.directory())})
        data = without_folder(std::move(data), folder);
    const std::string html = html_of(html_text(study.name), inside_script(std::move(data)));
    write_file(file, html);
    summary.bytes = std::ssize(html);
    if (progress) progress(total, total);
    return summary;
}

}  // namespace jevrin::inline v1
