// Serves the page of one study: its files, its views, its pictures, what is new, and the few things that a
// page may change.
//
//     PageServer server({.ledger = "ledger"}, {.port = 8080});
//     server.address()   // "http://127.0.0.1:8080/"
//
// docs/formats.md lists the routes.
#pragma once

#include "jevrin/server/http_listener.hpp"

#include <filesystem>
#include <memory>
#include <string>

namespace jevrin::inline v1 {

struct PageSource {
    std::filesystem::path ledger;
    std::string study = {};  // empty: the one trained last
};

// The routes without a socket. Safe to call from several threads.
class PageRoutes {
  public:
    // Whether the request may ask at all is the caller's to say (RequestGuard). InputError when there is no
    // such ledger or study.
    PageRoutes(const PageSource& source, std::string token);
    ~PageRoutes();
    PageRoutes(const PageRoutes&) = delete;
    PageRoutes& operator=(const PageRoutes&) = delete;

    // Never throws: what goes wrong is a response with a status and, as JSON, "error".
    HttpResponse respond(const HttpRequest& request);
    // Computes what a page asks first, so that it need not wait.
    void prepare();
    // Ends the responses that tell what is new.
    void end_events();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

class PageServer {
  public:
    // An address that other machines reach needs a key, at least eight letters and digits; none is needed on
    // this machine's own. InputError when it is missing or short, the port is taken, or there is no such
    // study.
    PageServer(const PageSource& source, const HttpAddress& address, const std::string& key = "");
    ~PageServer();
    PageServer(const PageServer&) = delete;
    PageServer& operator=(const PageServer&) = delete;

    // To be opened in a browser, with the key where there is one.
    std::string address() const;
    void stop();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace jevrin::inline v1
