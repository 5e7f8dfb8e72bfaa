// Listens for HTTP on one address and port. Each connection has a thread of its own; no client can hold the
// others up: a request must arrive within seconds, a response must be taken, and when there are too many
// connections the one that has been silent longest is closed for the next.
//
//     HttpListener listener({.port = 8080});
//     listener.port() ...
//     listener.start([](const HttpRequest& request) { return HttpResponse{...}; });
//     listener.stop();   // or when it is destroyed
#pragma once

#include "jevrin/server/http_message.hpp"

#include <chrono>
#include <cstddef>
#include <memory>
#include <string>

namespace jevrin::inline v1 {

struct HttpLimits {
    std::size_t connections = 128;
    std::size_t event_streams = 32;                   // of them; further ones get 503
    std::size_t body_bytes = std::size_t{32} << 20;   // of a request; larger ones get 413
    std::chrono::milliseconds request_time{10'000};   // for all of a request to arrive
    std::chrono::milliseconds idle_time{15'000};      // between requests of a connection
    std::chrono::milliseconds response_time{60'000};  // for all of a response to be taken
    std::chrono::milliseconds event_time{10'000};     // for an event to be taken
};

struct HttpAddress {
    std::string address = "127.0.0.1";
    int port = 0;  // 0: any that is free
};

class HttpListener {
  public:
    // InputError when the address cannot be had or the port is taken.
    explicit HttpListener(const HttpAddress& address, const HttpLimits& limits = {});
    ~HttpListener();
    HttpListener(const HttpListener&) = delete;
    HttpListener& operator=(const HttpListener&) = delete;

    int port() const;
    // Once. handler is called by several threads at a time; what it throws becomes a response with status
    // 500.
    void start(HttpHandler handler);
    // Closes all connections; returns when no handler runs any more. Requests that are being answered have
    // this long to be answered.
    void stop(std::chrono::milliseconds patience = std::chrono::milliseconds(0));

  private:
    class Server;
    std::unique_ptr<Server> server_;
};

}  // namespace jevrin::inline v1
