// What routes of the service read of a request, and how they refuse one.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/server/http_message.hpp"

#include <cstdint>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// A request that is wrong before anything is looked up.
struct RefusedRequest {
    HttpResponse response;
};

// "/v1/runs/7/epochs/3" as {"v1", "runs", "7", "epochs", "3"}.
std::vector<std::string> segments_of(const std::string& path);

// A whole number from 1; RefusedRequest with status 404 when the text is none.
std::int64_t number_in(const std::string& text, const char* what);

// The media type of the body without its parameters, in lower case.
std::string media_type(const HttpRequest& request);

// RefusedRequest with status 415 when the body is not said to be JSON, with 400 when it is none.
Json json_body(const HttpRequest& request, const std::string& place);

// 405, naming the methods that are understood.
HttpResponse not_allowed(const char* methods);

// 503, naming what is not possible now and when to try again.
HttpResponse try_again(const std::string& detail);

// The bytes of base64 text (RFC 4648, section 4); InputError when it is none.
std::string from_base64(const std::string& text);

}  // namespace jevrin::inline v1
