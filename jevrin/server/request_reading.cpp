#include "jevrin/server/request_reading.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/server/problem.hpp"

#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <charconv>

namespace jevrin::inline v1 {

std::vector<std::string> segments_of(const std::string& path) {
    std::vector<std::string> segments;
    for (std::size_t begin = 1; begin <= path.size();) {
        const std::size_t end = std::min(path.find('/', begin), path.size());
        segments.push_back(path.substr(begin, end - begin));
        begin = end + 1;
    }
    return segments;
}

std::int64_t number_in(const std::string& text, const char* what) {
    std::int64_t number = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    if (error != std::errc() || end != text.data() + text.size() || number < 1)
        throw RefusedRequest{problem(404, fmt::format("'{}' is no {}", printable(text), what))};
    return number;
}

std::string media_type(const HttpRequest& request) {
    const std::string type = request.header("content-type");
    std::string bare = folded_case(type.substr(0, type.find(';')));
    while (!bare.empty() && bare.back() == ' ') bare.pop_back();
    return bare;
}

Json json_body(const HttpRequest& request, const std::string& place) {
    if (media_type(request) != "application/json")
        throw RefusedRequest{problem(415, "the body is JSON: send it with Content-Type: application/json")};
    try {
        return read_json(request.body, place);
    } catch (const InputError& error) {
        throw RefusedRequest{problem(400, error.what())};
    }
}

HttpResponse not_allowed(const char* methods) {
    HttpResponse response = problem(405, fmt::format("{} is understood here", methods));
    response.headers.emplace_back("Allow", methods);
    return response;
}

HttpResponse try_again(const std::string& detail) {
    HttpResponse response = problem(503, detail + "; try again");
    response.headers.emplace_back("Retry-After", "1");
    return response;
}

std::string from_base64(const std::string& text) {
    constexpr std::string_view letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    const std::size_t end = std::min(text.find('='), text.size());
    const std::size_t padding = text.size() - end;
    if (text.size() % 4 != 0 || padding > 2 || text.find_first_not_of(letters) < end ||
        text.find_first_not_of('=', end) != std::string::npos)
        throw InputError("this is no base64");
    std::string bytes(text.size() / 4 * 3, '\0');
    EVP_DecodeBlock(reinterpret_cast<unsigned char*>(bytes.data()),
                    reinterpret_cast<const unsigned char*>(text.data()), static_cast<int>(text.size()));
    bytes.resize(bytes.size() - padding);
    return bytes;
}

}  // namespace jevrin::inline v1
