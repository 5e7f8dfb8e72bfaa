// Holds the service against the document that describes it.
#pragma once

#include "support/support.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/server/api_documents.hpp"
#include "jevrin/server/http_message.hpp"

#include <cctype>
#include <string>

namespace jevrin::test {

// "/v1/runs/7/epochs/3" as the document calls it; empty when it does not.
inline std::string documented_path(const std::string& path) {
    const Json document = parse_json(openapi_document());
    for (const auto& [known, operations] : document.at("paths").items()) {
        std::string pattern;
        for (std::size_t i = 0; i < known.size(); ++i) {
            if (known[i] == '{') {
                i = known.find('}', i);
                pattern += "[^/]+";
            } else {
                pattern += known[i] == '.' ? std::string("\\.") : std::string(1, known[i]);
            }
        }
        if (testing::internal::RE::FullMatch(path, testing::internal::RE(pattern))) return known;
    }
    return "";
}

// The statuses of every route are those that the document has.
inline void expect_documented(const std::string& method, const std::string& path,
                              const HttpResponse& response) {
    if (response.status == 405 || (response.status == 404 && documented_path(path).empty())) return;
    const Json document = parse_json(openapi_document());
    std::string lower = method;
    for (char& letter : lower) letter = static_cast<char>(std::tolower(letter));
    const Json& operation = document.at("paths").at(documented_path(path)).at(lower);
    EXPECT_TRUE(operation.at("responses").contains(std::to_string(response.status)))
        << method << " " << path << " gave " << response.status << ": " << response.body;
    if (response.status >= 400) {
        EXPECT_EQ(response.type, "application/problem+json");
        EXPECT_EQ(parse_json(response.body).at("status"), response.status);
    }
}

}  // namespace jevrin::test
