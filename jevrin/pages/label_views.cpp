// Labels that are probably wrong, and what is marked.
#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/corrections.hpp"
#include "jevrin/external/received_images.hpp"
#include "jevrin/images/decoding.hpp"
#include "jevrin/pages/page_actions.hpp"
#include "jevrin/pages/picture.hpp"
#include "jevrin/pages/view_functions.hpp"
#include "jevrin/results/marks_result.hpp"
#include "jevrin/results/received_result.hpp"
#include "jevrin/results/suspects_result.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_suspects = 1'000;
constexpr std::size_t longest_note = 2'000;

std::string text_of(const Json& body, const char* name) {
    const Json* value = body.find(name);
    if (value == nullptr) return "";
    if (!value->is_string()) throw InputError(fmt::format("'{}' is no text", name));
    return value->get<std::string>();
}

// Marks of items that may be seen; others were made by command when the test part had been opened.
std::vector<MarkRecord> unsealed_marks(const Ledger& ledger, const StudyRecord& study) {
    std::vector<MarkRecord> marks = ledger.marks(study.id);
    std::erase_if(marks, [&](const MarkRecord& mark) {
        try {
            ledger.unsealed_item(study.id, mark.item);
            return false;
        } catch (const InputError&) {
            return true;
        }
    });
    return marks;
}

std::string marked_item(const Ledger& ledger, const StudyRecord& study, const Json& body) {
    const std::string id = text_of(body, "item");
    if (id.empty()) throw InputError("'item' is missing: the id of an item");
    return path_of_item(ledger.unsealed_item(study.id, id).id);
}

std::int64_t received_number(const Json& body) {
    const Json* number = body.find("number");
    if (number == nullptr || !number->is_integer())
        throw InputError("'number' is missing: that of a received image");
    return number->get<std::int64_t>();
}

// The reviewer's word, if there is one: a class, or empty for none of them.
std::optional<std::string> stated_label(const StudyRecord& study, const Json& body) {
    const Json* label = body.find("label");
    if (label == nullptr) return std::nullopt;
    if (label->is_null()) return "";
    const std::string name = text_of(body, "label");
    if (std::find(study.classes.begin(), study.classes.end(), name) == study.classes.end())
        throw InputError(fmt::format("'{}' is no class of this study", printable(name)));
    return name;
}

}  // namespace

Json suspects_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery& query) {
    const std::string& source = query.text("source");
    const SuspectsResult result =
        report_suspects(ledger, study, query.list("runs"),
                        source.empty() ? SuspectSource::features : value_named<SuspectSource>(source));
    const std::set<std::string> sealed = ledger.sealed_elsewhere(study.id);
    Json json = Json::array();
    for (const SuspectLabel& suspect : result.report.suspects)
        if (json.size() < most_suspects && !sealed.contains(result.id(suspect)))
            json.push_back(Json::array(
                {result.id(suspect), result.report.predictions.table.labels[suspect.item], suspect.proposed,
                 short_number(suspect.label_probability), short_number(suspect.proposed_probability)}));
    return {{"source", result.report.source},
            {"judged", result.report.predictions.items.size()},
            {"all", result.report.suspects.size()},
            {"suspects", std::move(json)}};
}

Json marks_view(const Ledger& ledger, const StudyRecord& study, const ViewQuery&) {
    Json json = Json::array();
    for (const MarkRecord& mark : unsealed_marks(ledger, study))
        json.push_back({{"item", mark.item},
                        {"label", ledger.unsealed_item(study.id, mark.item).label},
                        {"proposed", mark.label},
                        {"excluded", mark.excluded},
                        {"note", mark.note},
                        {"marked", mark.marked}});
    return {{"marks", std::move(json)}};
}

Json page_action(const Ledger& ledger, const StudyRecord& study, const std::string& action,
                 const Json& body) {
    if (!body.is_object()) throw InputError("the body of the request is no JSON object");
    if (action == "mark") {
        const Json* excluded = body.find("excluded");
        const Proposal proposal{
            .label = text_of(body, "label"),
            .excluded = excluded != nullptr && excluded->is_boolean() && excluded->get<bool>(),
            .note = text_of(body, "note")};
        if (proposal.note.size() > longest_note)
            throw InputError(fmt::format("a note has at most {} bytes", longest_note));
        return parse_json(to_json(mark_items(ledger, study, {marked_item(ledger, study, body)}, proposal)));
    }
    if (action == "unmark")
        return parse_json(to_json(unmark_items(ledger, study, {marked_item(ledger, study, body)})));
    if (action == "accept" || action == "reject")
        return parse_json(
            to_json(review_received(ledger.directory(), {received_number(body)},
                                    action == "accept" ? Review::accepted : Review::rejected,
                                    action == "accept" ? stated_label(study, body) : std::nullopt)));
    throw NoView(fmt::format("there is nothing to change called '{}'", printable(action)));
}

Json received_images(const Ledger& ledger) {
    if (!ReceivedImages::exists(ledger.directory())) return {{"images", Json::array()}};
    return parse_json(to_json(report_received(ledger.directory(), true)));
}

Image received_image(const Ledger& ledger, std::int64_t number, std::int64_t longest_side) {
    if (!ReceivedImages::exists(ledger.directory()))
        throw InputError(fmt::format("there is no received image {}", number));
    const std::vector<ReceivedImage> shown = report_received(ledger.directory(), true).images;
    if (std::none_of(shown.begin(), shown.end(),
                     [&](const ReceivedImage& image) { return image.number == number; }))
        throw InputError(fmt::format("there is no received image {}", number));
    return shrunk(decode_image(ReceivedImages(ledger.directory()).bytes(number)), longest_side);
}

std::string corrections_csv(const Ledger& ledger, const StudyRecord& study) {
    return corrections_text(unsealed_marks(ledger, study));
}

}  // namespace jevrin::inline v1
