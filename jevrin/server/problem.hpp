// Problem documents (RFC 9457): what a request gets that is refused.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/server/http_message.hpp"

#include <string>

namespace jevrin::inline v1 {

// The phrase of a status: "Not Found".
inline const char* title_of(int status) {
    switch (status) {
        case 400:
            return "Bad Request";
        case 401:
            return "Unauthorized";
        case 403:
            return "Forbidden";
        case 404:
            return "Not Found";
        case 405:
            return "Method Not Allowed";
        case 409:
            return "Conflict";
        case 413:
            return "Content Too Large";
        case 415:
            return "Unsupported Media Type";
        case 422:
            return "Unprocessable Content";
        case 429:
            return "Too Many Requests";
        case 503:
            return "Service Unavailable";
        case 507:
            return "Insufficient Storage";
        default:
            return "Internal Server Error";
    }
}

inline HttpResponse problem(int status, const std::string& detail) {
    return {
        .status = status,
        .type = "application/problem+json",
        .body = json_text(
            {{"type", "about:blank"}, {"title", title_of(status)}, {"status", status}, {"detail", detail}})};
}

inline HttpResponse json_response(int status, const Json& json) {
    return {.status = status, .body = json_text(json)};
}

}  // namespace jevrin::inline v1
