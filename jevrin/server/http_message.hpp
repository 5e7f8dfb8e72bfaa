// Requests and responses of HTTP, as plain values: routes are called without a socket, by tests too.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

// A field or a file of a form (multipart/form-data).
struct FormPart {
    std::string name;
    std::string file;  // its name, as the client says it; empty: a field
    std::string content;
};

struct HttpRequest {
    std::string method = "GET";
    std::string path = "/";                           // decoded, without the query
    std::map<std::string, std::string> query = {};    // decoded; of a repeated name the first counts
    std::map<std::string, std::string> headers = {};  // names in lower case
    std::string body = {};
    std::vector<FormPart> form = {};  // instead of a body; those of one name in their order

    // Of the query; empty when there is none.
    std::string parameter(const std::string& name) const {
        const auto found = query.find(name);
        return found == query.end() ? std::string() : found->second;
    }
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
