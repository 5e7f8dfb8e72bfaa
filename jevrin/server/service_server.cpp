#include "jevrin/server/service_server.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/ledger/statements.hpp"
#include "jevrin/server/api_documents.hpp"
#include "jevrin/server/classifier_routes.hpp"
#include "jevrin/server/key_ring.hpp"
#include "jevrin/server/problem.hpp"
#include "jevrin/server/run_routes.hpp"
#include "jevrin/server/service_metrics.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <utility>

namespace jevrin::inline v1 {
namespace {

// A path as its route: numbers stand for what they name.
std::string route_of(const HttpRequest& request) {
    static const std::vector<std::string> known = {"v1",           "runs",
                                                   "parts",        "epochs",
                                                   "predictions",  "finish",
                                                   "fail",         "model",
                                                   "health",       "live",
                                                   "ready",        "metrics",
                                                   "openapi.json", "external-run.schema.json",
                                                   "classifiers",  "classify",
                                                   "corrections"};
    std::string route;
    bool is_name = false;  // what comes next
    std::size_t begin = 1;
    for (int count = 0; begin <= request.path.size(); ++count) {
        if (count == 6) return "other";
        const std::size_t end = std::min(request.path.find('/', begin), request.path.size());
        const std::string part = request.path.substr(begin, end - begin);
        begin = end + 1;
        if (std::exchange(is_name, part == "classifiers" && route == "/v1"))
            route += "/{name}";
        else if (std::find(known.begin(), known.end(), part) != known.end())
            route += "/" + part;
        else if (!part.empty() && part.find_first_not_of("0123456789") == std::string::npos)
            route += "/{number}";
        else
            return "other";
    }
    static const std::vector<std::string> methods = {"GET", "HEAD", "POST", "PUT", "DELETE"};
    const bool is_known = std::find(methods.begin(), methods.end(), request.method) != methods.end();
    return (is_known ? request.method : "other") + " " + route;
}

std::size_t size_of(const HttpRequest& request) {
    std::size_t size = request.body.size();
    for (const FormPart& part : request.form) size += part.content.size();
    return size;
}

bool is_below(const std::string& path, const std::string& begin) {
    return path == begin || path.starts_with(begin + "/");
}

}  // namespace

struct ServiceRoutes::State {
    explicit State(const ServiceSettings& of)
        : settings(of), keys(existing(of.ledger)), runs(of.ledger), classifiers(of.ledger, classifying()) {}

    // No ledger is made by asking for one.
    static const std::filesystem::path& existing(const std::filesystem::path& ledger) {
        Ledger::open(ledger);
        return ledger;
    }

    ServiceSettings settings;
    KeyRing keys;
    ServiceMetrics metrics;
    RunRoutes runs;
    ClassifierRoutes classifiers;
    std::atomic<bool> ending{false};

    ClassifierRoutes::Settings classifying() {
        return {.models = {.delay = settings.batch_delay,
                           .batch = [this](std::size_t images) { metrics.count_batch(images); },
                           .changed = [this](const PublishedModel& model, ModelChange change,
                                             const std::string& failure) { tell(model, change, failure); }},
                .answered = [this](const PublishedModel& model, std::span<const ImageOutcome> outcomes) {
                    ImageCounts counts;
                    for (const ImageOutcome& outcome : outcomes) {
                        ++(outcome.answer ? counts.classified : counts.refused);
                        if (outcome.answer && !outcome.answer->sure) ++counts.unsure;
                        if (outcome.answer && outcome.answer->unknown()) ++counts.out_of_distribution;
                    }
                    metrics.count_images(model.name, model.version, counts);
                }};
    }

    HttpResponse open_route(const HttpRequest& request) const {
        if (request.method != "GET" && request.method != "HEAD") {
            HttpResponse response = problem(405, "GET is understood here");
            response.headers.emplace_back("Allow", "GET, HEAD");
            return response;
        }
        if (request.path == "/health/live") return json_response(200, {{"alive", true}});
        if (request.path == "/health/ready")
            return ending ? problem(503, "the server is about to end")
                          : json_response(200, {{"ready", true}});
        if (request.path == "/openapi.json") return {.body = std::string(openapi_document())};
        if (request.path == "/external-run.schema.json")
            return {.type = "application/schema+json", .body = std::string(external_run_schema())};
        return problem(404, "there is nothing at this address");
    }

    HttpResponse route(const HttpRequest& request, std::string& key) {
        const bool is_runs = is_below(request.path, "/v1/runs") || is_below(request.path, "/v1/parts");
        const bool is_classifiers = is_below(request.path, "/v1/classifiers");
        const bool is_metrics = request.path == "/metrics";
        if (!is_runs && !is_classifiers && !is_metrics) return open_route(request);
        KeyRing::Pass pass = keys.check(request, is_runs          ? Right::runs
                                                 : is_classifiers ? Right::classify
                                                                  : Right::metrics);
        key = pass.key;
        if (pass.refusal) return std::move(*pass.refusal);
        if (is_metrics)
            return {.type = "application/openmetrics-text; version=1.0.0; charset=utf-8",
                    .body = metrics.text(classifiers.models().all().size(), classifiers.models().failed())};
        if (is_classifiers) return classifiers.respond(request, key);
        return runs.respond(request);
    }

    void tell(const HttpRequest& request, const std::string& route, const HttpResponse& response,
              double seconds, const std::string& key, const std::string& failure) const {
        if (!settings.log) return;
        settings.log(json_text({{"time", now()},
                                {"method", printable(request.method.substr(0, 20))},
                                {"path", printable(request.path.substr(0, 200))},
                                {"route", route},
                                {"status", response.status},
                                {"seconds", seconds},
                                {"bytes_in", size_of(request)},
                                {"bytes_out", response.body.size()},
                                {"key", key},
                                {"failure", failure}}));
    }

    void tell(const PublishedModel& model, ModelChange change, const std::string& failure) const {
        if (!settings.log) return;
        settings.log(json_text({{"time", now()},
                                {"model", model.name},
                                {"version", model.version},
                                {"state", name_of(change)},
                                {"failure", printable(failure)}}));
    }
};

ServiceRoutes::ServiceRoutes(const ServiceSettings& settings) : state_(std::make_unique<State>(settings)) {}
ServiceRoutes::~ServiceRoutes() = default;

void ServiceRoutes::end() {
    state_->ending = true;
}

HttpResponse ServiceRoutes::respond(const HttpRequest& request) {
    const auto begin = std::chrono::steady_clock::now();
    state_->metrics.begin();
    HttpResponse response;
    std::string key;
    std::string failure;
    try {
        response = state_->route(request, key);
    } catch (const std::exception& error) {
        failure = printable(error.what());
        response = problem(500, "the server failed; its log says how");
    }
    response.headers.emplace_back("Cache-Control", "no-store");
    response.headers.emplace_back("X-Content-Type-Options", "nosniff");
    const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    const std::string route = route_of(request);
    state_->metrics.count(route, response.status, seconds, size_of(request), response.body.size());
    state_->metrics.end();
    state_->tell(request, route, response, seconds, key, failure);
    return response;
}

struct ServiceServer::State {
    State(const ServiceSettings& settings, const HttpAddress& where)
        : listener(where, {.connections = 512, .body_bytes = std::size_t{64} << 20}), routes(settings) {
        const std::string host =
            where.address.find(':') == std::string::npos ? where.address : "[" + where.address + "]";
        address = fmt::format("http://{}:{}", host, listener.port());
        listener.start([this](const HttpRequest& request) { return routes.respond(request); });
    }
    ~State() { listener.stop(); }  // before what its handler uses

    HttpListener listener;
    ServiceRoutes routes;
    std::string address;
};

ServiceServer::ServiceServer(const ServiceSettings& settings, const HttpAddress& address)
    : state_(std::make_unique<State>(settings, address)) {}
ServiceServer::~ServiceServer() = default;

std::string ServiceServer::address() const {
    return state_->address;
}

void ServiceServer::stop(std::chrono::milliseconds patience) {
    state_->routes.end();
    state_->listener.stop(patience);
}

}  // namespace jevrin::inline v1
