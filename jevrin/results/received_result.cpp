#include "jevrin/results/received_result.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/results/json_values.hpp"
#include "jevrin/results/result_table.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

namespace jevrin::inline v1 {
namespace {

const char* const no_class = "none of the classes";

// What is a test image by now is not shown: its label is sealed.
void leave_sealed_out(std::vector<ReceivedImage>& images, const Ledger& ledger) {
    const std::set<ContentHash> test = ledger.test_images();
    std::erase_if(images, [&](const ReceivedImage& image) {
        const auto content = ContentHash::from_text(image.content);
        return content && test.contains(*content);
    });
}

ReceivedImages open_received(const std::filesystem::path& ledger) {
    Ledger::open(ledger);  // none is made by asking for one
    return ReceivedImages(ledger);
}

// Of any study; a ledger that only serves has none.
void require_class(const Ledger& ledger, const std::string& label) {
    std::vector<std::string> classes;
    for (const std::string& name : ledger.study_names())
        for (const std::string& one : ledger.study(name).classes) classes.push_back(one);
    if (!classes.empty() && std::find(classes.begin(), classes.end(), label) == classes.end())
        throw InputError(fmt::format("'{}' is no class of this ledger's studies{}", printable(label),
                                     did_you_mean(label, classes)));
}

}  // namespace

ReceivedResult report_received(const std::filesystem::path& ledger, bool all, const ReceivedPlaces& places) {
    ReceivedImages received = open_received(ledger);
    ReceivedResult result;
    if (!places.root.empty()) {
        if (!std::filesystem::is_directory(places.root))
            throw InputError(fmt::format("{}: there is no such folder; name that of the image set",
                                         printable(places.root.string())));
        result.written = received.write_into(places.root, places.unlabelled);
    }
    result.images = received.list();
    leave_sealed_out(result.images, Ledger::open(ledger));
    if (!all)
        std::erase_if(result.images,
                      [](const ReceivedImage& image) { return image.review != Review::waiting; });
    return result;
}

ReceivedResult review_received(const std::filesystem::path& ledger, const std::vector<std::int64_t>& numbers,
                               Review review, const std::optional<std::string>& label) {
    ReceivedImages received = open_received(ledger);
    if (label && !label->empty()) require_class(Ledger::open(ledger), *label);
    received.review(numbers, review, label);
    ReceivedResult result{.images = received.list(), .written = {}};
    std::erase_if(result.images, [&](const ReceivedImage& image) {
        return std::find(numbers.begin(), numbers.end(), image.number) == numbers.end();
    });
    return result;
}

std::string to_json(const ReceivedResult& result) {
    Json images = Json::array();
    for (const ReceivedImage& image : result.images)
        images.push_back({{"number", image.number},
                          {"name", image.name},
                          {"content", image.content},
                          {"label", image.label.empty() ? Json() : Json(image.label)},
                          {"note", image.note},
                          {"model", image.model},
                          {"version", image.version},
                          {"predicted", image.predicted},
                          {"probability", image.probability},
                          {"sender", image.sender},
                          {"received", image.received},
                          {"review", name_of(image.review)},
                          {"file", image.written}});
    Json json = {{"images", std::move(images)}};
    if (result.written)
        json["written"] = {{"labelled", result.written->labelled},
                           {"unlabelled", result.written->unlabelled},
                           {"left", result.written->left}};
    return document(json);
}

std::string to_text(const ReceivedResult& result, const TextForm& form) {
    std::string text;
    if (result.written)
        text += fmt::format("{} with a label written, {} unlabelled{}\n",
                            plural(result.written->labelled, "image"), result.written->unlabelled,
                            result.written->left == 0
                                ? ""
                                : fmt::format(", {} of none of the classes left", result.written->left));
    if (result.images.empty()) return text + (result.written ? "" : "no image waits for a review\n");
    ResultTable table(
        {"number", "image", "sent as", "review", "predicted", "probability", "model", "by", "note"}, {0, 5});
    for (const ReceivedImage& image : result.images)
        table.add({std::to_string(image.number), shortened_name(image.name, 32),
                   image.label.empty() ? no_class : shortened_name(image.label, 24),
                   image.written.empty() ? name_of(image.review) : "in the image set",
                   shortened_name(image.predicted, 24), fmt::format("{:.3f}", image.probability),
                   fmt::format("{} {}", image.model, image.version), image.sender,
                   shortened_text(image.note, 32)});
    return text + table.text(form.width);
}

}  // namespace jevrin::inline v1
