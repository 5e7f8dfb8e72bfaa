#include "jevrin/server/request_guard.hpp"

#include "jevrin/base/text.hpp"

#include <fmt/format.h>

#include <random>

namespace jevrin::inline v1 {
namespace {

// Takes as long for every guess of the same length.
bool same_secret(const std::string& a, const std::string& b) {
    if (a.size() != b.size()) return false;
    unsigned difference = 0;
    for (std::size_t i = 0; i < a.size(); ++i)
        difference |= static_cast<unsigned>(a[i]) ^ static_cast<unsigned>(b[i]);
    return difference == 0;
}

HttpResponse refusal(int status, const std::string& why) {
    return {.status = status, .type = "text/plain; charset=utf-8", .body = why + "\n"};
}

// Cookies are shared by all ports of a machine.
std::string cookie_name(int port) {
    return fmt::format("jevrin_key_{}", port);
}

std::string cookie_of(const HttpRequest& request, int port) {
    const std::string name = cookie_name(port) + "=";
    const std::string cookies = request.header("cookie");
    for (std::size_t at = 0; at < cookies.size();) {
        std::size_t end = cookies.find(';', at);
        if (end == std::string::npos) end = cookies.size();
        while (at < end && cookies[at] == ' ') ++at;
        if (cookies.compare(at, name.size(), name) == 0)
            return cookies.substr(at + name.size(), end - at - name.size());
        at = end + 1;
    }
    return "";
}

}  // namespace

std::string random_key(std::size_t bytes) {
    std::random_device source;
    std::string key;
    for (std::size_t i = 0; i < bytes; ++i) key += fmt::format("{:02x}", source() & 0xffU);
    return key;
}

bool is_loopback(const std::string& address) {
    return address == "localhost" || address == "::1" || address.rfind("127.", 0) == 0;
}

RequestGuard::RequestGuard(std::string address, int port, std::string key)
    : address_(std::move(address)), port_(port), key_(std::move(key)), token_(random_key()) {}

bool RequestGuard::is_this_server(const std::string& host) const {
    // An address for all networks has names that nobody here knows; there the key protects.
    if (!key_.empty() && (address_ == "0.0.0.0" || address_ == "::")) return !host.empty();
    const std::string bracketed = address_.find(':') == std::string::npos ? address_ : "[" + address_ + "]";
    const auto names = [&](const std::string& name) {
        return host == fmt::format("{}:{}", name, port_) || (port_ == 80 && host == name);
    };
    if (names(bracketed)) return true;
    return is_loopback(address_) && (names("localhost") || names("127.0.0.1") || names("[::1]"));
}

bool RequestGuard::has_key(const HttpRequest& request) const {
    if (key_.empty()) return true;
    const auto shown = request.query.find("key");
    return (shown != request.query.end() && same_secret(shown->second, key_)) ||
           same_secret(cookie_of(request, port_), key_);
}

std::optional<HttpResponse> RequestGuard::refuse(const HttpRequest& request) const {
    if (!is_this_server(folded_case(request.header("host"))))
        return refusal(421, "this server does not answer under that name");
    if (!has_key(request)) return refusal(401, "open the address with the key that 'page' printed");
    if (request.method == "GET" || request.method == "HEAD") return std::nullopt;
    if (request.method != "POST") {
        HttpResponse response = refusal(405, "GET and POST are understood");
        response.headers.emplace_back("Allow", "GET, HEAD, POST");
        return response;
    }
    if (folded_case(request.header("origin")) != "http://" + folded_case(request.header("host")))
        return refusal(403, "a change must come from this server's own page");
    if (!same_secret(request.header("x-jevrin-token"), token_))
        return refusal(403, "this page is of an earlier start of the server; load it again");
    return std::nullopt;
}

std::optional<std::string> RequestGuard::cookie_for(const HttpRequest& request) const {
    if (key_.empty() || !request.query.contains("key") || !has_key(request)) return std::nullopt;
    return fmt::format("{}={}; HttpOnly; SameSite=Strict; Path=/", cookie_name(port_), key_);
}

}  // namespace jevrin::inline v1
