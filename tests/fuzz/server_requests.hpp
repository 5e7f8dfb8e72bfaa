// Requests to the page's server, as text: to its routes, and as bytes on a connection.
#pragma once

#include "jevrin/base/error.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/graph/architecture.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/server/page_server.hpp"
#include "jevrin/server/request_guard.hpp"
#include "jevrin/server/service_server.hpp"
#include "jevrin/server/service_store.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <sstream>
#include <stdexcept>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::fuzz {

// A ledger of one study, made up: two classes, one finished run, one item in the test part.
class SmallLedger {
  public:
    SmallLedger() {
        ImageSet set;
        set.root = directory_ / "images";
        set.classes = {"a", "b"};
        set.fingerprint = "fuzz";
        Parts parts;
        for (std::size_t i = 0; i < 7; ++i) {
            const std::string path = i == 6 ? sealed : fmt::format("{}.png", i);
            set.items.push_back({.path = path, .label = i % 2, .id = fmt::format("{}#{:032x}", path, i)});
            (i < 3 ? parts.training : i < 6 ? parts.validation : parts.test).push_back(i);
        }
        LedgerWriter ledger = LedgerWriter::open(directory_);
        const StudyId study = ledger.put_study("fuzz", Metric::accuracy, set, parts);
        const RunId run =
            ledger.put_run(study, {.candidate = "c", .seed = 1, .settings = "{}", .planned_epochs = 1});
        ConfusionMatrix matrix(2);
        std::vector<PredictionRecord> predictions;
        for (const std::size_t i : parts.validation) {
            matrix.add(i % 2, 0);
            predictions.push_back({set.items[i].id, i % 2, 0, {0.75F, 0.25F}});
        }
        ledger.record_epoch(run, {{.epoch = 1}, matrix}, true, {}, {}, {});
        ledger.finish_run(run, predictions);
    }
    ~SmallLedger() { std::filesystem::remove_all(directory_); }

    static inline const std::string sealed = "sealed-test-item.png";
    const std::filesystem::path& directory() const { return directory_; }

  private:
    const std::filesystem::path directory_ =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-fuzz-ledger-{}", ::getpid());
};

// What may be said, whatever was asked; a refusal in words is one here, too.
inline void check_response(const HttpResponse& response) {
    if (response.body.find(SmallLedger::sealed) != std::string::npos && response.status == 200)
        throw std::logic_error("a sealed item left the server");
    if (response.status == 500) throw std::logic_error("status 500: " + response.body);
    if (response.status != 200) throw InputError(fmt::format("{} {}", response.status, response.body));
    if (response.type == "application/json" && !parse_json(response.body).is_object() &&
        !parse_json(response.body).is_array())
        throw std::logic_error("no JSON: " + response.body);
}

// METHOD PATH, then a parameter on each line, an empty line, and the body.
inline HttpRequest request_of(const std::string& text) {
    HttpRequest request;
    const std::size_t head = text.find("\n\n");
    std::istringstream lines(text.substr(0, head));
    lines >> request.method >> request.path;
    std::string line;
    std::getline(lines, line);
    while (std::getline(lines, line))
        request.query[line.substr(0, line.find('='))] =
            line.substr(std::min(line.size(), line.find('=') + 1));
    if (head != std::string::npos) request.body = text.substr(head + 2);
    return request;
}

inline void ask_routes(const std::string& text) {
    static const SmallLedger ledger;
    static PageRoutes routes({.ledger = ledger.directory()}, "token");
    const HttpRequest request = request_of(text);
    if (request.path == "/api/events") return;
    check_response(routes.respond(request));
}

// The same of the service.
inline void check_service(const HttpResponse& response, const SmallLedger& ledger) {
    if (response.status == 500 || response.status == 503)
        throw std::logic_error(fmt::format("status {}: {}", response.status, response.body));
    if (response.body.find(ledger.directory().string()) != std::string::npos)
        throw std::logic_error("a path left the server: " + response.body);
    // A conflict with what came before is no fault of the input.
    if (response.status >= 400 && response.status != 409)
        throw InputError(fmt::format("{} {}", response.status, response.body));
}

// Requests to the service: what is refused leaves the ledger as it was.
inline void ask_service(const std::string& text) {
    static const SmallLedger ledger;
    static const std::string key =
        ServiceStore(ledger.directory()).add_key({.name = "fuzz", .may = {Right::runs, Right::metrics}});
    static ServiceRoutes routes({.ledger = ledger.directory()});
    HttpRequest request = request_of(text);
    request.headers["authorization"] = "Bearer " + key;
    request.headers["content-type"] = request.query.contains("csv")   ? "text/csv"
                                      : request.query.contains("npy") ? "application/x-npy"
                                                                      : "application/json";
    const HttpResponse response = routes.respond(request);
    check_service(response, ledger);
}

// Images and corrections of images to a classifier in service. A body is JSON, an image, or with "form" parts
// that are separated by lines "--", each after a line "NAME FILE".
inline void ask_classifier(const std::string& text) {
    static const SmallLedger ledger;
    static const std::string key = [] {
        Classifier classifier{.network = plain_backbone({.widths = {2}, .convolutions = 1}, {8, 8, 3}),
                              .classes = {"a", "b"},
                              .preparation = {.fitting = {.size = 8}}};
        append_head(classifier.network, {}, 2);
        initialise(classifier.network, 0, 1);
        const std::filesystem::path file = ledger.directory() / "model.onnx";
        save_classifier(file, classifier);
        ServiceStore store(ledger.directory());
        store.publish("m", file, "fuzz");
        return store.add_key({.name = "fuzz", .may = {Right::classify}});
    }();
    static ServiceRoutes routes({.ledger = ledger.directory()});
    HttpRequest request = request_of(text);
    request.headers["authorization"] = "Bearer " + key;
    request.headers["content-type"] = request.query.contains("image") ? "image/png" : "application/json";
    if (request.query.contains("form")) {
        request.headers["content-type"] = "multipart/form-data";
        const std::string body = std::exchange(request.body, "");
        for (std::size_t begin = 0; begin < body.size();) {
            const std::size_t end = std::min(body.find("\n--\n", begin), body.size());
            const std::string part = body.substr(begin, end - begin);
            const std::string head = part.substr(0, part.find('\n'));
            request.form.push_back({.name = head.substr(0, head.find(' ')),
                                    .file = head.substr(std::min(head.size(), head.find(' '))),
                                    .content = part.substr(std::min(part.size(), head.size() + 1))});
            begin = end + 4;
        }
    }
    const HttpResponse response = routes.respond(request);
    check_service(response, ledger);
    parse_json(response.body);
}

// What the statements of a run begin with: its split.
inline std::string split_of_small_ledger() {
    const SmallLedger made;
    const Ledger ledger = Ledger::open(made.directory());
    return ledger.split_hash(ledger.split_with_fold(ledger.study().id, 0));
}

// Bytes on a connection: whatever they are, the next request is answered.
inline void ask_listener(const std::string& text) {
    static const SmallLedger ledger;
    static PageRoutes routes({.ledger = ledger.directory()}, "token");
    static HttpListener listener({}, {.body_bytes = 10'000,
                                      .request_time = std::chrono::milliseconds(100),
                                      .idle_time = std::chrono::milliseconds(20)});
    static const RequestGuard guard("127.0.0.1", 80, "");
    static const bool started = [] {
        listener.start([](const HttpRequest& request) {
            if (auto refusal = guard.refuse(request)) return std::move(*refusal);
            return request.path == "/api/events" ? HttpResponse{} : routes.respond(request);
        });
        return true;
    }();
    const auto answer_to = [](const std::string& bytes) {
        const int socket = ::socket(AF_INET, SOCK_STREAM, 0);
        sockaddr_in address{};
        address.sin_family = AF_INET;
        address.sin_port = htons(static_cast<std::uint16_t>(listener.port()));
        address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        if (::connect(socket, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0)
            throw std::logic_error("the listener does not listen any more");
        std::string answer;
        if (::send(socket, bytes.data(), bytes.size(), MSG_NOSIGNAL) >= 0) ::shutdown(socket, SHUT_WR);
        char buffer[65536];
        for (ssize_t got = 0; (got = ::recv(socket, buffer, sizeof buffer, 0)) > 0;)
            answer.append(buffer, static_cast<std::size_t>(got));
        ::close(socket);
        return answer;
    };
    const std::string answer = answer_to(text);
    if (!answer.empty() && !answer.starts_with("HTTP/1.1 ")) throw std::logic_error("no HTTP: " + answer);
    if (answer.starts_with("HTTP/1.1 200") && answer.find(SmallLedger::sealed) != std::string::npos)
        throw std::logic_error("a sealed item left the server");
    static int asked = 0;
    if (started && ++asked % 50 == 0 &&
        !answer_to("GET /api/study HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
             .starts_with("HTTP/1.1 200"))
        throw std::logic_error("the next request was not answered");
    if (!answer.starts_with("HTTP/1.1 200")) throw InputError(answer.substr(0, 40));
}

}  // namespace jevrin::fuzz
