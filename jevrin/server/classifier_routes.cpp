#include "jevrin/server/classifier_routes.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/external/received_images.hpp"
#include "jevrin/external/run_intake.hpp"
#include "jevrin/external/statement_reader.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/results/answer_json.hpp"
#include "jevrin/server/problem.hpp"
#include "jevrin/server/request_reading.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <mutex>
#include <set>

namespace jevrin::inline v1 {
namespace {

constexpr std::chrono::milliseconds between_questions{100};  // at what the ledger's test parts are
constexpr std::size_t most_images = 256;                     // of a request
constexpr std::size_t longest_field = 200;                   // of a field of a form

// Images of a request; their bytes are those of the request, or decoded ones.
struct SentImages {
    std::vector<SentImage> images;
    std::deque<std::string> decoded;
};

void add_json_image(const Json& json, const std::string& place, const std::string& name, SentImages& to) {
    StatementReader reader(json, place);
    const std::string called = reader.text("name", name);
    const Json& data = reader.required("data");
    reader.require_all_known();
    if (!data.is_string()) reader.refuse("data", "is no text: an image file in base64");
    try {
        to.decoded.push_back(from_base64(data.get<std::string>()));
    } catch (const InputError& error) {
        throw InputError(fmt::format("{}: 'data': {}", place, error.what()));
    }
    to.images.push_back({.name = called, .bytes = to.decoded.back()});
}

// Of a form, as StatementReader::text() of JSON.
const std::string& field_text(const FormPart& part) {
    if (part.content.size() > longest_field || printable(part.content) != part.content)
        throw InputError(fmt::format("the form: '{}' is longer than {} bytes, or holds control characters",
                                     part.name, longest_field));
    return part.content;
}

SentImage image_in(const FormPart& part) {
    return {.name = printable((part.file.empty() ? part.name : part.file).substr(0, longest_field)),
            .bytes = part.content};
}

bool is_image(const std::string& type) {
    return type.starts_with("image/") || type == "application/octet-stream";
}

[[noreturn]] void refuse_type() {
    throw RefusedRequest{
        problem(415, "an image is image/..., several are multipart/form-data or application/json")};
}

// Files of a form in their order, a JSON list, or the body itself.
SentImages images_of(const HttpRequest& request) {
    SentImages sent;
    const std::string type = media_type(request);
    if (type == "multipart/form-data") {
        for (const FormPart& part : request.form) sent.images.push_back(image_in(part));
    } else if (type == "application/json") {
        const Json json = json_body(request, "the request");
        if (!json.is_object() || !json.contains("images") || json.size() != 1 ||
            !json.at("images").is_array())
            throw InputError(
                "the request: {\"images\": [{\"name\": ..., \"data\": BASE64}, ...]} is expected");
        for (const Json& image : json.at("images"))
            add_json_image(image, fmt::format("image {}", sent.images.size() + 1),
                           fmt::format("image {}", sent.images.size() + 1), sent);
    } else if (is_image(type)) {
        sent.images.push_back({.name = "image", .bytes = request.body});
    } else {
        refuse_type();
    }
    if (sent.images.empty()) throw InputError("there is no image in this request");
    if (sent.images.size() > most_images)
        throw InputError(fmt::format("{} images are too many for a request: send at most {}",
                                     sent.images.size(), most_images));
    return sent;
}

// An answer that is contradicted.
struct Contradiction {
    SentImages image;  // one
    std::string label;
    bool none = false;  // of these classes
    std::string note;
};

Contradiction contradiction_of(const HttpRequest& request) {
    Contradiction result;
    const std::string type = media_type(request);
    if (type == "multipart/form-data") {
        for (const FormPart& part : request.form)
            if (part.name == "image")
                result.image.images.push_back(image_in(part));
            else if (part.name == "label")
                result.label = field_text(part);
            else if (part.name == "note")
                result.note = field_text(part);
            else if (part.name == "none_of_these" && (part.content == "true" || part.content == "false"))
                result.none = part.content == "true";
            else
                throw InputError(fmt::format(
                    "the form: '{}' is not known; image, label, none_of_these (true or false) and note are",
                    printable(part.name)));
    } else if (type == "application/json") {
        const Json json = json_body(request, "the correction");
        StatementReader reader(json, "the correction");
        if (const Json* image = reader.find("image")) add_json_image(*image, "image", "image", result.image);
        result.label = reader.text("label", "");
        result.note = reader.text("note", "");
        if (const Json* none = reader.find("none_of_these")) {
            if (!none->is_boolean()) reader.refuse("none_of_these", "is neither true nor false");
            result.none = none->get<bool>();
        }
        reader.require_all_known();
    } else {
        throw RefusedRequest{problem(415, "a correction is multipart/form-data or application/json")};
    }
    if (result.image.images.size() != 1) throw InputError("the correction: one 'image' is expected");
    if (result.label.empty() != result.none)
        throw InputError("the correction: either a 'label' or 'none_of_these': true is expected");
    return result;
}

}  // namespace

struct ClassifierRoutes::State {
    State(const std::filesystem::path& of, const Settings& with)
        : directory(of), settings(with), ledger(Ledger::open(of)), models(of, with.models) {}

    std::filesystem::path directory;
    Settings settings;
    std::mutex mutex;  // of the next four
    Ledger ledger;
    std::int64_t ledger_changes = -1;
    std::chrono::steady_clock::time_point asked;
    std::set<ContentHash> test_images;
    std::mutex received_mutex;
    std::optional<ReceivedImages> received;
    ServedModels models;

    // Records looks at sealed test parts; durable before the answer is given. The images that are in one.
    // WorkError when the ledger is damaged: that is no fault of the request, and where it lies is nobody's
    // business.
    std::set<ContentHash> record_looks(std::span<const ImageOutcome> outcomes) try {
        const std::lock_guard lock(mutex);
        if (const auto now = std::chrono::steady_clock::now(); now - asked >= between_questions) {
            asked = now;
            if (const std::int64_t changes = ledger.changes(); changes != ledger_changes) {
                test_images = ledger.test_images();
                ledger_changes = changes;
            }
        }
        std::set<ContentHash> found;
        for (const ImageOutcome& outcome : outcomes)
            if (outcome.answer && test_images.contains(outcome.answer->content))
                found.insert(outcome.answer->content);
        if (!found.empty())
            LedgerWriter::open(directory).record_look("classify", {found.begin(), found.end()});
        return found;
    } catch (const InputError& error) {
        throw WorkError(error.what());
    }

    std::shared_ptr<ServedModel> model_of(const HttpRequest& request, const std::string& name) const {
        const std::string version = request.parameter("version");
        auto model = models.find(name, version.empty() ? 0 : number_in(version, "version"));
        if (!model)
            throw RefusedRequest{problem(
                404, fmt::format("there is no model '{}'{} in service", printable(name),
                                 version.empty() ? "" : fmt::format(" in version {}", printable(version))))};
        return model;
    }

    static Json model_json(const ServedModel& model) {
        const Classifier& classifier = model.classifier.classifier();
        return {{"name", model.published.name},
                {"version", model.published.version},
                {"classes", classifier.classes},
                {"hash", model.published.hash},
                {"published", model.published.published},
                {"sure_from", model.published.sure_from},
                {"image_size",
                 {classifier.preparation.fitting.size.height, classifier.preparation.fitting.size.width}},
                {"out_of_distribution", classifier.out_of_distribution.has_value()}};
    }

    HttpResponse list() const {
        Json json = Json::array();
        for (const auto& model : models.all()) json.push_back(model_json(*model));
        return json_response(200, {{"classifiers", std::move(json)}});
    }

    HttpResponse classify(const HttpRequest& request, const std::string& name) {
        const std::shared_ptr<ServedModel> model = model_of(request, name);
        std::size_t top = ClassifySettings{}.top;
        if (const std::string stated = request.parameter("top"); !stated.empty())
            top = stated == "0" ? 0 : static_cast<std::size_t>(number_in(stated, "number of classes"));
        const SentImages sent = images_of(request);
        const auto outcomes = model->classifier.classify(sent.images);
        if (!outcomes) return try_again("too many images wait");
        const std::set<ContentHash> test = record_looks(*outcomes);
        if (settings.answered) settings.answered(model->published, *outcomes);
        const std::vector<std::string>& classes = model->classifier.classifier().classes;
        Json images = Json::array();
        bool any = false;
        for (std::size_t i = 0; i < outcomes->size(); ++i) {
            const ImageOutcome& outcome = (*outcomes)[i];
            if (outcome.answer) {
                any = true;
                Json image = answer_json(classes, shown_classes(top, classes.size()), *outcome.answer);
                image["test_image"] = test.contains(outcome.answer->content);
                images.push_back(std::move(image));
            } else {
                images.push_back({{"image", sent.images[i].name}, {"problem", outcome.problem}});
            }
        }
        if (!any)
            return problem(422,
                           fmt::format("{}: {}", printable(sent.images[0].name), (*outcomes)[0].problem));
        return json_response(200, {{"model", model->published.name},
                                   {"version", model->published.version},
                                   {"images", std::move(images)}});
    }

    // The model is asked again, so that what it said stands beside what it should have said.
    HttpResponse correct(const HttpRequest& request, const std::string& name, const std::string& key) {
        const std::shared_ptr<ServedModel> model = model_of(request, name);
        const Contradiction said = contradiction_of(request);
        const std::vector<std::string>& classes = model->classifier.classifier().classes;
        if (!said.none && std::find(classes.begin(), classes.end(), said.label) == classes.end())
            throw InputError(fmt::format("'{}' is no class of this model", printable(said.label)));
        const auto outcomes = model->classifier.classify(said.image.images);
        if (!outcomes) return try_again("too many images wait");
        const ImageOutcome& outcome = outcomes->front();
        if (!outcome.answer) throw InputError(outcome.problem);
        if (!record_looks(*outcomes).empty())
            throw InputError("this image is in a sealed test part: what is said of it would unseal it");
        const ReceivedImage image{.name = said.image.images[0].name,
                                  .label = said.label,
                                  .note = said.note,
                                  .model = model->published.name,
                                  .version = model->published.version,
                                  .predicted = classes[outcome.answer->order[0]],
                                  .probability = static_cast<double>(outcome.answer->confidence()),
                                  .sender = key};
        const std::lock_guard lock(received_mutex);
        if (!received) received.emplace(directory);
        const ReceivedImages::Added added =
            received->add(image, std::as_bytes(std::span(said.image.images[0].bytes)));
        return json_response(added.is_new ? 201 : 200, {{"number", added.number}, {"new", added.is_new}});
    }

    HttpResponse route(const HttpRequest& request, const std::string& key) {
        const std::vector<std::string> path = segments_of(request.path);
        const bool gets = request.method == "GET" || request.method == "HEAD";
        if (path.size() == 2) return gets ? list() : not_allowed("GET");
        if (path.size() == 3)
            return gets ? json_response(200, model_json(*model_of(request, path[2]))) : not_allowed("GET");
        if (path.size() == 4 && path[3] == "classify")
            return request.method == "POST" ? classify(request, path[2]) : not_allowed("POST");
        if (path.size() == 4 && path[3] == "corrections")
            return request.method == "POST" ? correct(request, path[2], key) : not_allowed("POST");
        return problem(404, "there is nothing at this address");
    }
};

ClassifierRoutes::ClassifierRoutes(const std::filesystem::path& ledger, const Settings& settings)
    : state_(std::make_unique<State>(ledger, settings)) {}
ClassifierRoutes::~ClassifierRoutes() = default;

const ServedModels& ClassifierRoutes::models() const {
    return state_->models;
}

HttpResponse ClassifierRoutes::respond(const HttpRequest& request, const std::string& key) {
    try {
        return state_->route(request, key);
    } catch (const RefusedRequest& refusal) {
        return refusal.response;
    } catch (const ConflictError& error) {
        return problem(409, error.what());
    } catch (const InputError& error) {
        return problem(422, error.what());
    } catch (const WorkError&) {
        return try_again("the ledger cannot be read or written now");
    }
}

}  // namespace jevrin::inline v1
