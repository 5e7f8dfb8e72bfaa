// Requests and responses of HTTP, as plain values: routes are called without a socket, by tests too.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

struct HttpRequest {
    std::string method = "GET";
    std::string path = "/";                           // decoded, without the query
    std::map<std::string, std::string> query = {};    // decoded; of a repeated name the first counts
    std::map<std::string, std::string> headers = {};  // names in lower case
    std::string body = {};

    // Empty when there is none.
    std::string header(const std::string& lower_case_name) const {
        const auto found = headers.find(lower_case_name);
        return found == headers.end() ? std::string() : found->second;
    }
};

struct HttpResponse {
    int status = 200;
    std::string type = "application/json";
    std::string body = {};
    std::vector<std::pair<std::string, std::string>> headers = {};
    // Instead of a body: what comes next, waited for at most some seconds; nothing ends the response.
    std::function<std::optional<std::string>()> events = {};
};

using HttpHandler = std::function<HttpResponse(const HttpRequest&)>;

}  // namespace jevrin::inline v1
