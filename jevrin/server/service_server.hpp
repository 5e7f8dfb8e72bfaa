// Serves programs: takes in runs that are trained elsewhere, and classifies images with published models.
// Every request needs a key (ServiceStore), but for health and the description of the interface.
//
//     ServiceServer server({.ledger = "ledger"}, {.port = 8443});
//     server.address()   // "http://127.0.0.1:8443"
//
// server/api/openapi.json (OpenAPI 3.1) describes the routes; the server delivers it as /openapi.json.
#pragma once

#include "jevrin/server/http_listener.hpp"

#include <chrono>
#include <filesystem>
#include <functional>
#include <memory>
#include <string>

namespace jevrin::inline v1 {

struct ServiceSettings {
    std::filesystem::path ledger;
    // Told of each request as one line of JSON: time, method, route, status, seconds, bytes, key, failure (of
    // status 500); and of each version of a model that was made ready, withdrawn or failed: time, model,
    // version, state, failure. May be empty; called by several threads.
    std::function<void(const std::string& line)> log = {};
    // How long an image waits at most for those of other requests, to be classified with them.
    std::chrono::microseconds batch_delay{5'000};
};

// The routes without a socket. Safe to call from several threads.
class ServiceRoutes {
  public:
    // InputError when there is no ledger.
    explicit ServiceRoutes(const ServiceSettings& settings);
    ~ServiceRoutes();
    ServiceRoutes(const ServiceRoutes&) = delete;
    ServiceRoutes& operator=(const ServiceRoutes&) = delete;

    // Never throws: what goes wrong is a problem document (RFC 9457).
    HttpResponse respond(const HttpRequest& request);
    // From now on /health/ready says that no more requests should come.
    void end();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

class ServiceServer {
  public:
    // InputError when the port is taken or there is no ledger.
    ServiceServer(const ServiceSettings& settings, const HttpAddress& address);
    ~ServiceServer();
    ServiceServer(const ServiceServer&) = delete;
    ServiceServer& operator=(const ServiceServer&) = delete;

    std::string address() const;
    // Takes no more requests; those that are being answered have this long.
    void stop(std::chrono::milliseconds patience = std::chrono::seconds(10));

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace jevrin::inline v1
