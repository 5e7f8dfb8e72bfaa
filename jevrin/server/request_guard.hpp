// Who may ask what: requests that a page of another site makes a browser send get nothing, and change
// nothing.
#pragma once

#include "jevrin/server/http_message.hpp"

#include <optional>
#include <string>

namespace jevrin::inline v1 {

// The rules of one server.
class RequestGuard {
  public:
    // address: what it listens on. key: what a browser must show once, in the query of the first address;
    // empty on this machine's own address, where none is needed.
    RequestGuard(std::string address, int port, std::string key);

    // The response to a request that is refused; nothing when it may pass. The Host header must name this
    // server (otherwise a name of another site could lead here: DNS rebinding). A request that may change
    // something needs the token and an Origin that is this server.
    std::optional<HttpResponse> refuse(const HttpRequest& request) const;
    // To be remembered by a browser that showed the key.
    std::optional<std::string> cookie_for(const HttpRequest& request) const;

    // Random; stands in the page that this server delivers, and nowhere else.
    const std::string& token() const { return token_; }

  private:
    bool is_this_server(const std::string& host) const;
    bool has_key(const HttpRequest& request) const;

    std::string address_;
    int port_;
    std::string key_;
    std::string token_;
};

// Of so many random bytes, in hexadecimal.
std::string random_key(std::size_t bytes = 16);

// Addresses that only this machine reaches.
bool is_loopback(const std::string& address);

}  // namespace jevrin::inline v1
