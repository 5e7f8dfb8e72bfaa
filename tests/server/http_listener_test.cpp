// The listener between a handler and clients that are slow, many, broken or hostile.
#include "jevrin/server/http_listener.hpp"

#include "jevrin/base/error.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/socket.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <thread>

namespace jevrin {
namespace {

using ::testing::HasSubstr;
using ::testing::StartsWith;
using Clock = std::chrono::steady_clock;
using std::chrono::milliseconds;

// One connection to a port of this machine.
class Client {
  public:
    explicit Client(int port) : socket_(::socket(AF_INET, SOCK_STREAM, 0)) {
        sockaddr_in address{};
        address.sin_family = AF_INET;
        address.sin_port = htons(static_cast<std::uint16_t>(port));
        address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        connected_ = ::connect(socket_, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0;
        const timeval patience{10, 0};
        ::setsockopt(socket_, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
    }
    ~Client() { ::close(socket_); }
    Client(const Client&) = delete;
    Client& operator=(const Client&) = delete;

    bool send(const std::string& text) {
        return connected_ && ::send(socket_, text.data(), text.size(), MSG_NOSIGNAL) == std::ssize(text);
    }
    // Until this text has come, or all when the connection was closed.
    std::string receive(const std::string& until = "\x01") {
        std::string text;
        char buffer[65536];
        while (text.find(until) == std::string::npos) {
            const ssize_t got = ::recv(socket_, buffer, sizeof buffer, 0);
            if (got <= 0) break;
            text.append(buffer, static_cast<std::size_t>(got));
        }
        return text;
    }

  private:
    int socket_;
    bool connected_ = false;
};

std::string get(const std::string& path, const std::string& more = "Connection: close\r\n") {
    return "GET " + path + " HTTP/1.1\r\nHost: x\r\n" + more + "\r\n";
}

HttpResponse echo(const HttpRequest& request) {
    std::string text = request.method + " " + request.path;
    for (const auto& [name, value] : request.query) text += " " + name + "=" + value;
    return {.type = "text/plain", .body = text + " " + request.body + "#"};
}

TEST(HttpListener, PassesRequestsAndKeepsConnections) {
    HttpListener listener({});
    ASSERT_GT(listener.port(), 0);
    listener.start(echo);
    Client client(listener.port());
    ASSERT_TRUE(client.send(get("/a%20b?x=1%262&x=3&y=%C3%A9", "")));
    EXPECT_THAT(client.receive("#"), HasSubstr("GET /a b x=1&2 y=é #"));
    // The same connection again, with a body, in two parts.
    ASSERT_TRUE(client.send("POST /p HTTP/1.1\r\nHost: x\r\nContent-Length: 4\r\n\r\nab"));
    std::this_thread::sleep_for(milliseconds(30));
    ASSERT_TRUE(client.send("cd"));
    EXPECT_THAT(client.receive("#"), HasSubstr("POST /p abcd#"));
    for (const char* method : {"PUT", "DELETE", "PATCH", "OPTIONS"}) {
        Client other(listener.port());
        ASSERT_TRUE(other.send(std::string(method) + " /m HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n"));
        EXPECT_THAT(other.receive("#"), HasSubstr(std::string(method) + " /m #"));
    }
}

TEST(HttpListener, AnswersAreNotCompressedAndRangesAreNotServed) {
    HttpListener listener({});
    listener.start([](const HttpRequest&) {
        return HttpResponse{.type = "application/json", .body = std::string(5000, ' ')};
    });
    Client client(listener.port());
    ASSERT_TRUE(
        client.send(get("/", "Accept-Encoding: gzip, br\r\nRange: bytes=0-9\r\nConnection: close\r\n")));
    const std::string answer = client.receive();
    EXPECT_THAT(answer, StartsWith("HTTP/1.1 200"));
    EXPECT_THAT(answer, HasSubstr("Content-Length: 5000"));
}

TEST(HttpListener, BrokenAndHugeRequestsGetAnErrorOrAreClosed) {
    HttpListener listener(
        {}, {.body_bytes = 1000, .request_time = milliseconds(500), .idle_time = milliseconds(200)});
    std::atomic<int> handled{0};
    listener.start([&](const HttpRequest& request) {
        ++handled;
        return echo(request);
    });
    const auto answer = [&](const std::string& request) {
        Client client(listener.port());
        client.send(request);
        return client.receive().substr(0, 12);
    };
    EXPECT_EQ(answer("POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 1001\r\n\r\n" + std::string(1001, 'x')),
              "HTTP/1.1 413");
    EXPECT_EQ(answer("nonsense\r\n\r\n"), "HTTP/1.1 400");
    EXPECT_EQ(answer(get("/" + std::string(20'000, 'a'))), "HTTP/1.1 414");
    EXPECT_THAT(answer(get("/", "X: " + std::string(20'000, 'a') + "\r\n")),
                ::testing::AnyOf("", StartsWith("HTTP/1.1 4")));
    EXPECT_THAT(answer(std::string(3000, '\0')), ::testing::AnyOf("", StartsWith("HTTP/1.1 4")));
    EXPECT_THAT(answer("POST / HTTP/1.1\r\nHost: x\r\nContent-Length: -5\r\n\r\n"),
                ::testing::AnyOf("", StartsWith("HTTP/1.1 ")));
    EXPECT_LE(handled, 1);
    EXPECT_EQ(answer(get("/fine")), "HTTP/1.1 200");
}

TEST(HttpListener, ARequestWhoseEndIsNotClearHidesNoOther) {
    HttpListener listener({});
    listener.start(echo);
    const std::string hidden = "GET /hidden HTTP/1.1\r\nHost: x\r\n\r\n";
    for (const std::string& lengths :
         {std::string("Content-Length: 4\r\nTransfer-Encoding: chunked\r\n"),
          std::string("Transfer-Encoding: chunked\r\nContent-Length: 60\r\n"),
          std::string("Content-Length: 3\r\nContent-Length: 0\r\n"),
          std::string("Transfer-Encoding: chunked\r\nTransfer-Encoding: identity\r\n")}) {
        Client client(listener.port());
        client.send("POST /seen HTTP/1.1\r\nHost: x\r\n" + lengths + "\r\n0\r\n\r\n" + hidden);
        const std::string answers = client.receive();
        EXPECT_THAT(answers, StartsWith("HTTP/1.1 400")) << lengths;
        EXPECT_THAT(answers, testing::Not(HasSubstr("/hidden"))) << lengths;
    }
    // Without a length there is no body, and no waiting for one.
    Client client(listener.port());
    client.send("POST /empty HTTP/1.1\r\nHost: x\r\n\r\n" + get("/next"));
    EXPECT_THAT(client.receive(), testing::AllOf(HasSubstr("POST /empty"), HasSubstr("GET /next")));
}

TEST(HttpListener, ARequestThatDoesNotArriveInTimeIsClosed) {
    HttpListener listener({}, {.request_time = milliseconds(300), .idle_time = milliseconds(200)});
    listener.start(echo);
    Client slow(listener.port());
    const auto begun = Clock::now();
    std::thread drip([&] {
        for (const char letter : std::string("GET / HTTP/1.1\r\nHost: x\r\nX: aaaaaaaaaaaaaaaaaaaaaaaaaaaa"))
            if (slow.send(std::string(1, letter))) std::this_thread::sleep_for(milliseconds(50));
    });
    EXPECT_THAT(slow.receive(), ::testing::AnyOf("", StartsWith("HTTP/1.1 4")));
    EXPECT_LT(Clock::now() - begun, milliseconds(1500));
    drip.join();
}

TEST(HttpListener, SlowClientsMakeRoomForOthers) {
    HttpListener listener({}, {.connections = 8});
    listener.start(echo);
    std::vector<std::unique_ptr<Client>> slow;
    for (int i = 0; i < 30; ++i) {
        slow.push_back(std::make_unique<Client>(listener.port()));
        slow.back()->send("GET / HTTP/1.1\r\nHost: x\r\n");
    }
    const auto begun = Clock::now();
    Client client(listener.port());
    ASSERT_TRUE(client.send(get("/me")));
    EXPECT_THAT(client.receive(), HasSubstr("GET /me"));
    EXPECT_LT(Clock::now() - begun, milliseconds(3000));
}

TEST(HttpListener, TheOneThatHasWaitedLongestMakesRoomAndNobodyElse) {
    HttpListener listener({}, {.connections = 4});
    listener.start(echo);
    const auto answers = [](Client& client, const std::string& path) {
        return client.send(get(path, "")) && client.receive("#").find("GET " + path) != std::string::npos;
    };
    for (int i = 0; i < 20; ++i) {  // long gone
        Client gone(listener.port());
        ASSERT_TRUE(answers(gone, "/gone"));
    }
    std::vector<std::unique_ptr<Client>> clients;
    for (int i = 0; i < 7; ++i) {
        clients.push_back(std::make_unique<Client>(listener.port()));
        ASSERT_TRUE(answers(*clients.back(), "/first")) << i;
    }
    for (std::size_t i = 3; i < 7; ++i) EXPECT_TRUE(answers(*clients[i], "/again")) << i;
    for (std::size_t i = 0; i < 3; ++i) EXPECT_EQ(clients[i]->receive(), "") << i;
}

TEST(HttpListener, AClientThatDoesNotReadIsGivenUp) {
    HttpListener listener({}, {.response_time = milliseconds(300), .event_time = milliseconds(300)});
    std::atomic<int> chunks{0};
    listener.start([&](const HttpRequest&) {
        HttpResponse response{.type = "text/event-stream"};
        response.events = [&]() -> std::optional<std::string> {
            ++chunks;
            return std::string(1 << 20, 'x');
        };
        return response;
    });
    Client client(listener.port());
    ASSERT_TRUE(client.send(get("/")));
    std::this_thread::sleep_for(milliseconds(1500));
    const int after = chunks;
    EXPECT_GT(after, 0);
    std::this_thread::sleep_for(milliseconds(300));
    EXPECT_EQ(chunks, after);
}

TEST(HttpListener, EventsComeAsTheyHappenAndTheirStreamsAreLimited) {
    HttpListener listener({}, {.event_streams = 1});
    std::atomic<int> next{0};
    listener.start([&](const HttpRequest&) {
        HttpResponse response{.type = "text/event-stream"};
        response.events = [&]() -> std::optional<std::string> {
            std::this_thread::sleep_for(milliseconds(20));
            return fmt::format("data: {}\n\n", next++);
        };
        return response;
    });
    {
        Client client(listener.port());
        ASSERT_TRUE(client.send(get("/")));
        EXPECT_THAT(client.receive("data: 3"), HasSubstr("text/event-stream"));
        Client second(listener.port());
        ASSERT_TRUE(second.send(get("/")));
        EXPECT_THAT(second.receive(), StartsWith("HTTP/1.1 503"));
    }
    // The first has gone: there is room again.
    std::string answer;
    for (int tries = 0; tries < 50 && answer.find("200") == std::string::npos; ++tries) {
        std::this_thread::sleep_for(milliseconds(20));
        Client third(listener.port());
        third.send(get("/"));
        answer = third.receive("\r\n\r\n");
    }
    EXPECT_THAT(answer, StartsWith("HTTP/1.1 200"));
}

TEST(HttpListener, WhatAHandlerThrowsIsStatus500) {
    HttpListener listener({});
    listener.start([](const HttpRequest&) -> HttpResponse { throw WorkError("the disk is full"); });
    Client client(listener.port());
    ASSERT_TRUE(client.send(get("/")));
    const std::string answer = client.receive("full");
    EXPECT_THAT(answer, StartsWith("HTTP/1.1 500"));
    EXPECT_THAT(answer, HasSubstr("the disk is full"));
}

TEST(HttpListener, StopsWhileClientsAreConnected) {
    auto listener = std::make_unique<HttpListener>(HttpAddress{});
    const int port = listener->port();
    listener->start([&](const HttpRequest&) {
        HttpResponse response{.type = "text/event-stream"};
        response.events = [&]() -> std::optional<std::string> {
            std::this_thread::sleep_for(milliseconds(10));
            return ": \n";
        };
        return response;
    });
    Client idle(port);
    Client streaming(port);
    ASSERT_TRUE(streaming.send(get("/")));
    streaming.receive(": \n");
    const auto begun = Clock::now();
    listener->stop();
    EXPECT_LT(Clock::now() - begun, milliseconds(1000));
    listener.reset();
    Client late(port);
    EXPECT_FALSE(late.send(get("/")) && !late.receive().empty());
}

TEST(HttpListener, APortThatIsTakenIsAnError) {
    HttpListener first({});
    first.start(echo);
    EXPECT_THROW(HttpListener({.port = first.port()}), InputError);
    EXPECT_THROW(HttpListener({.address = "192.0.2.1"}), InputError);
}

}  // namespace
}  // namespace jevrin
