#include "jevrin/server/page_server.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/ledger/ledger_pool.hpp"
#include "jevrin/pages/assets.hpp"
#include "jevrin/pages/loaded_models.hpp"
#include "jevrin/pages/page_actions.hpp"
#include "jevrin/pages/picture.hpp"
#include "jevrin/pages/view.hpp"
#include "jevrin/server/answer_cache.hpp"
#include "jevrin/server/live_feed.hpp"
#include "jevrin/server/request_guard.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <chrono>
#include <limits>
#include <thread>

namespace jevrin::inline v1 {
namespace {

constexpr const char* page_policy =
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; connect-src "
    "'self'; "
    "media-src 'self' blob:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

HttpResponse error_response(int status, const std::string& message) {
    return {.status = status, .body = json_text({{"error", message}})};
}

// The number that an answer of this lifetime holds for. Numbers of different lifetimes are never compared:
// the question says of which it is.
std::int64_t revision_of(Lifetime lifetime, const LiveFeed::Revisions& revisions) {
    switch (lifetime) {
        case Lifetime::change:
            return revisions.change;
        case Lifetime::results:
            return revisions.results;
        case Lifetime::run:
        case Lifetime::images:
            return revisions.generation;
    }
    return revisions.change;
}

constexpr std::size_t shortest_key = 8;
bool is_key_letter(char letter) {
    return std::isalnum(static_cast<unsigned char>(letter)) != 0;
}

// As it stands in an address: what listens everywhere is reached by this machine's name.
std::string host_of(const std::string& address) {
    if (address == "0.0.0.0" || address == "::") {
        std::array<char, 256> name{};
        return ::gethostname(name.data(), name.size() - 1) == 0 ? name.data() : "localhost";
    }
    return address.find(':') == std::string::npos ? address : "[" + address + "]";
}

}  // namespace

struct PageRoutes::State {
    PageSource source;
    std::string token;
    LedgerPool ledgers;
    LiveFeed feed;
    AnswerCache answers;
    LoadedModels models;

    HttpResponse view(const std::string& name, const HttpRequest& request) {
        ViewQuery query{.view = name, .parameters = request.query};
        query.parameters.erase("key");
        std::string question = name;
        for (const auto& [parameter, value] : query.parameters)
            question += fmt::format("\n{} {} {}", parameter, value.size(), value);
        const LiveFeed::Revisions revisions = feed.revisions();
        HttpResponse response;
        // A page that has this hears of everything after it.
        response.headers.emplace_back("X-Jevrin-Revision", std::to_string(revisions.change));
        response.body = answers.get(question, revision_of(view_called(name).lifetime, revisions), [&] {
            return ledgers.with([&](const Ledger& ledger) {
                return json_text(view_data(ledger, ledger.study(source.study), query));
            });
        });
        return response;
    }

    HttpResponse picture(const HttpRequest& request) {
        const ViewQuery query{.view = "picture", .parameters = request.query};
        const std::int64_t side = std::max<std::int64_t>(1, query.number("side", 512, 2048));
        const std::vector<std::byte> png = ledgers.with([&](const Ledger& ledger) {
            if (request.query.contains("received"))
                return encode_png(received_image(
                    ledger, query.number("received", 0, std::numeric_limits<std::int64_t>::max()), side));
            return encode_png(shown_image(ledger, ledger.study(source.study), query.required("item"), side));
        });
        HttpResponse response{.type = "image/png"};
        response.body.assign(reinterpret_cast<const char*>(png.data()), png.size());
        response.headers.emplace_back("Cache-Control", "private, max-age=3600");
        return response;
    }

    // Not of the ledger's database: what changes them is not among its changes.
    HttpResponse received() {
        return {.body =
                    json_text(ledgers.with([](const Ledger& ledger) { return received_images(ledger); }))};
    }

    HttpResponse corrections() {
        HttpResponse response{.type = "text/csv; charset=utf-8"};
        response.body = ledgers.with(
            [&](const Ledger& ledger) { return corrections_csv(ledger, ledger.study(source.study)); });
        response.headers.emplace_back("Content-Disposition", "attachment; filename=\"corrections.csv\"");
        return response;
    }

    HttpResponse post(const HttpRequest& request) {
        if (!request.path.starts_with("/api/")) return error_response(404, "there is nothing to change here");
        const std::string action = request.path.substr(5);
        const ViewQuery query{.view = action, .parameters = request.query};
        HttpResponse response;
        response.body = ledgers.with([&](const Ledger& ledger) {
            const StudyRecord study = ledger.study(source.study);
            if (action == "classify")
                return json_text(models.classify(ledger, study, query.list("runs"),
                                                 std::as_bytes(std::span(request.body))));
            return json_text(page_action(ledger, study, action, parse_json(request.body)));
        });
        if (action != "classify") feed.changed();
        return response;
    }

    HttpResponse events() {
        HttpResponse response{.type = "text/event-stream"};
        response.events = [listener = feed.listen()] { return listener->next(std::chrono::seconds(10)); };
        return response;
    }

    HttpResponse get(const HttpRequest& request) {
        if (request.path == "/")
            return {.type = "text/html; charset=utf-8",
                    .body = page_html(token),
                    .headers = {{"Content-Security-Policy", page_policy}}};
        if (const std::optional<Asset> asset = asset_at(request.path))
            return {.type = asset->type, .body = std::string(asset->content)};
        if (request.path == "/api/events") return events();
        if (request.path == "/api/picture") return picture(request);
        if (request.path == "/api/received") return received();
        if (request.path == "/api/corrections") return corrections();
        if (request.path.starts_with("/api/")) return view(request.path.substr(5), request);
        return error_response(404, "there is nothing at this address");
    }
};

PageRoutes::PageRoutes(const PageSource& source, std::string token) {
    const Ledger ledger = Ledger::open(source.ledger);
    const std::string study = ledger.study(source.study).name;
    state_.reset(new State{.source = {source.ledger, study},
                           .token = std::move(token),
                           .ledgers = LedgerPool(source.ledger),
                           .feed = LiveFeed(source.ledger, study),
                           .answers = {},
                           .models = {}});
}
PageRoutes::~PageRoutes() = default;

void PageRoutes::prepare() {
    for (const char* view : {"study", "choice"}) respond({.path = std::string("/api/") + view});
}

void PageRoutes::end_events() {
    state_->feed.end();
}

HttpResponse PageRoutes::respond(const HttpRequest& request) {
    HttpResponse response;
    try {
        if (request.method == "GET" || request.method == "HEAD")
            response = state_->get(request);
        else
            response = state_->post(request);
    } catch (const NoView& error) {
        response = error_response(404, error.what());
    } catch (const InputError& error) {
        response = error_response(400, error.what());
    } catch (const std::exception& error) {
        response = error_response(500, error.what());
    }
    const bool cached = std::any_of(response.headers.begin(), response.headers.end(),
                                    [](const auto& header) { return header.first == "Cache-Control"; });
    if (!cached) response.headers.emplace_back("Cache-Control", "no-store");
    if (request.path != "/")
        response.headers.emplace_back("Content-Security-Policy",
                                      "default-src 'none'; frame-ancestors 'none'");
    response.headers.emplace_back("X-Content-Type-Options", "nosniff");
    response.headers.emplace_back("Referrer-Policy", "no-referrer");
    response.headers.emplace_back("Cross-Origin-Resource-Policy", "same-origin");
    return response;
}

struct PageServer::State {
    State(const PageSource& source, const HttpAddress& where, const std::string& key)
        : listener(where), guard(where.address, listener.port(), key), routes(source, guard.token()) {
        address = fmt::format("http://{}:{}/{}", host_of(where.address), listener.port(),
                              key.empty() ? "" : "?key=" + key);
        preparing = std::thread([this] { routes.prepare(); });
        listener.start([this](const HttpRequest& request) {
            if (std::optional<HttpResponse> refusal = guard.refuse(request)) return std::move(*refusal);
            HttpResponse response = routes.respond(request);
            if (const auto cookie = guard.cookie_for(request))
                response.headers.emplace_back("Set-Cookie", *cookie);
            return response;
        });
    }
    ~State() {
        stop();  // before what its handler uses
        preparing.join();
    }

    void stop() {
        routes.end_events();
        listener.stop();
    }

    HttpListener listener;
    RequestGuard guard;
    PageRoutes routes;
    std::string address;
    std::thread preparing;
};

PageServer::PageServer(const PageSource& source, const HttpAddress& address, const std::string& key) {
    if (key.empty() && !is_loopback(address.address))
        throw InputError(fmt::format("{} is an address that other machines reach: a key is needed",
                                     printable(address.address)));
    if (!key.empty() && !std::all_of(key.begin(), key.end(), is_key_letter))
        throw InputError("a key consists of letters and digits, as it is part of an address");
    if (!key.empty() && key.size() < shortest_key)
        throw InputError(
            fmt::format("a key has at least {} letters and digits, or it is guessed", shortest_key));
    state_ = std::make_unique<State>(source, address, key);
}
PageServer::~PageServer() = default;

std::string PageServer::address() const {
    return state_->address;
}

void PageServer::stop() {
    state_->stop();
}

}  // namespace jevrin::inline v1
