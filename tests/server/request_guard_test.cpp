// Who may ask the page's server for what.
#include "jevrin/server/request_guard.hpp"

#include <gtest/gtest.h>

namespace jevrin {
namespace {

int status(const RequestGuard& guard, const HttpRequest& request) {
    const auto refusal = guard.refuse(request);
    return refusal ? refusal->status : 200;
}

HttpRequest change(const RequestGuard& guard) {
    return {.method = "POST",
            .path = "/api/mark",
            .headers = {{"host", "127.0.0.1:8080"},
                        {"origin", "http://127.0.0.1:8080"},
                        {"x-jevrin-token", guard.token()}}};
}

TEST(RequestGuard, OnlyItsOwnNamesAreAnswered) {
    const RequestGuard guard("127.0.0.1", 8080, "");
    for (const char* host : {"127.0.0.1:8080", "localhost:8080", "LOCALHOST:8080", "[::1]:8080"})
        EXPECT_EQ(status(guard, {.headers = {{"host", host}}}), 200) << host;
    for (const char* host : {"", "127.0.0.1", "127.0.0.1:8081", "evil.example:8080",
                             "127.0.0.1:8080.evil.example", "localhost.evil.example:8080"})
        EXPECT_EQ(status(guard, {.headers = {{"host", host}}}), 421) << host;
    EXPECT_EQ(status(guard, {}), 421);
    // The standard port need not be named.
    EXPECT_EQ(status(RequestGuard("127.0.0.1", 80, ""), {.headers = {{"host", "localhost"}}}), 200);
}

TEST(RequestGuard, ChangesNeedTheTokenAndTheOwnOrigin) {
    const RequestGuard guard("127.0.0.1", 8080, "");
    EXPECT_EQ(status(guard, change(guard)), 200);
    HttpRequest request = change(guard);
    request.headers["origin"] = "http://evil.example";
    EXPECT_EQ(status(guard, request), 403);
    request.headers.erase("origin");
    EXPECT_EQ(status(guard, request), 403);
    request = change(guard);
    request.headers["x-jevrin-token"] = std::string(guard.token().size(), '0');
    EXPECT_EQ(status(guard, request), 403);
    request.headers.erase("x-jevrin-token");
    EXPECT_EQ(status(guard, request), 403);
    request = change(guard);
    for (const char* method : {"PUT", "DELETE", "PATCH", "OPTIONS", "CONNECT"}) {
        request.method = method;
        EXPECT_EQ(status(guard, request), 405) << method;
    }
    // Another start has another token.
    EXPECT_NE(guard.token(), RequestGuard("127.0.0.1", 8080, "").token());
    EXPECT_EQ(guard.token().size(), 32U);
}

TEST(RequestGuard, AKeyIsShownOnceAndThenRemembered) {
    const RequestGuard guard("192.0.2.7", 8080, "secret");
    HttpRequest request{.headers = {{"host", "192.0.2.7:8080"}}};
    EXPECT_EQ(status(guard, request), 401);
    request.query["key"] = "secre7";
    EXPECT_EQ(status(guard, request), 401);
    EXPECT_FALSE(guard.cookie_for(request));
    request.query["key"] = "secret";
    EXPECT_EQ(status(guard, request), 200);
    const auto cookie = guard.cookie_for(request);
    ASSERT_TRUE(cookie);
    EXPECT_EQ(*cookie, "jevrin_key_8080=secret; HttpOnly; SameSite=Strict; Path=/");
    request.query.clear();
    request.headers["cookie"] = "other=1; jevrin_key_8080=secret; more=2";
    EXPECT_EQ(status(guard, request), 200);
    for (const char* wrong :
         {"jevrin_key_8081=secret", "xjevrin_key_8080=secret", "jevrin_key_8080=", "jevrin_key_8080"}) {
        request.headers["cookie"] = wrong;
        EXPECT_EQ(status(guard, request), 401) << wrong;
    }
    // Loopback names are no names of another address.
    request.headers = {{"host", "localhost:8080"}, {"cookie", "jevrin_key_8080=secret"}};
    EXPECT_EQ(status(guard, request), 421);
    // On all addresses any name will do, with the key.
    const RequestGuard everywhere("0.0.0.0", 8080, "secret");
    EXPECT_EQ(status(everywhere, {.headers = {{"host", "laboratory:8080"}}}), 401);
    EXPECT_EQ(status(everywhere, {.query = {{"key", "secret"}}, .headers = {{"host", "laboratory:8080"}}}),
              200);
}

TEST(RequestGuard, LoopbackAddressesNeedNoKey) {
    for (const char* address : {"127.0.0.1", "127.8.8.8", "::1", "localhost"})
        EXPECT_TRUE(is_loopback(address)) << address;
    for (const char* address : {"0.0.0.0", "192.0.2.1", "::", "12.7.0.1", "localhost.example"})
        EXPECT_FALSE(is_loopback(address)) << address;
}

}  // namespace
}  // namespace jevrin
