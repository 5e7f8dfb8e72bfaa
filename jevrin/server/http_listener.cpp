#include "jevrin/server/http_listener.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/server/problem.hpp"

#include <fmt/format.h>
#include <httplib.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <list>
#include <mutex>
#include <thread>

namespace jevrin::inline v1 {
namespace {

using Clock = std::chrono::steady_clock;

constexpr std::size_t requests_of_a_connection = 1000;

// Waits until a socket is ready, at most until then; false when it is not.
bool wait_for(socket_t socket, short events, Clock::time_point until) {
    const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(until - Clock::now()).count();
    if (left <= 0) return false;
    pollfd waiting{socket, events, 0};
    int ready = 0;
    do ready = ::poll(&waiting, 1, static_cast<int>(left));
    while (ready < 0 && errno == EINTR);
    return ready > 0 && (waiting.revents & (events | POLLHUP)) != 0;
}

// A connection that is open, as the table of connections knows it.
struct Connection {
    socket_t socket = INVALID_SOCKET;
    Clock::time_point waiting_since;  // for a request, or for its rest
    bool at_work = false;             // has one whole, and answers
    bool closing = false;             // made room for another
};

// Bytes of a connection. All of a request must arrive, and all of a response be taken, by a time.
class TimedStream : public httplib::Stream {
  public:
    explicit TimedStream(socket_t socket) : socket_(socket) {}

    // Waits for the first byte of a request.
    bool wait_for_request(Clock::time_point until) {
        return begin_ < end_ || wait_for(socket_, POLLIN, until);
    }
    void read_until(Clock::time_point until) { read_until_ = until; }
    void write_until(Clock::time_point until) { write_until_ = until; }
    // From now on each write has this time of its own.
    void write_within(std::chrono::milliseconds time) { each_write_ = time; }

    bool is_readable() const override { return begin_ < end_ || wait_for(socket_, POLLIN, read_until_); }
    bool is_writable() const override { return wait_for(socket_, POLLOUT, Clock::now() + each_write_); }
    ssize_t read(char* to, size_t size) override {
        if (begin_ == end_) {
            if (!wait_for(socket_, POLLIN, read_until_)) return -1;
            const ssize_t got = ::recv(socket_, buffer_.data(), buffer_.size(), 0);
            if (got <= 0) return got;
            begin_ = 0;
            end_ = static_cast<std::size_t>(got);
        }
        const std::size_t taken = std::min(size, end_ - begin_);
        std::copy_n(buffer_.data() + begin_, taken, to);
        begin_ += taken;
        return static_cast<ssize_t>(taken);
    }
    ssize_t write(const char* from, size_t size) override {
        if (!wait_for(socket_, POLLOUT, std::min(write_until_, Clock::now() + each_write_))) return -1;
        return ::send(socket_, from, size, MSG_NOSIGNAL | MSG_DONTWAIT);
    }
    void get_remote_ip_and_port(std::string&, int&) const override {}
    void get_local_ip_and_port(std::string&, int&) const override {}
    socket_t socket() const override { return socket_; }

  private:
    socket_t socket_;
    std::array<char, 16384> buffer_{};
    std::size_t begin_ = 0;
    std::size_t end_ = 0;
    Clock::time_point read_until_ = Clock::time_point::max();
    Clock::time_point write_until_ = Clock::time_point::max();
    std::chrono::milliseconds each_write_{10'000};
};

HttpRequest request_of(const httplib::Request& from) {
    HttpRequest request{.method = from.method, .path = from.path, .body = from.body};
    for (const auto& [name, value] : from.params) request.query.emplace(name, value);
    for (const auto& [name, part] : from.files)
        request.form.push_back({.name = name, .file = part.filename, .content = part.content});
    for (const auto& [name, value] : from.headers) request.headers.emplace(folded_case(name), value);
    return request;
}

}  // namespace

// The library parses and writes HTTP; connections, their threads and their times are ours.
class HttpListener::Server : public httplib::Server {
  public:
    Server(const HttpAddress& address, const HttpLimits& limits) : limits_(limits) {
        new_task_queue = [this] { return new Threads(*this); };
        set_payload_max_length(limits.body_bytes);
        set_keep_alive_max_count(requests_of_a_connection);
        set_keep_alive_timeout(std::chrono::duration_cast<std::chrono::seconds>(limits.idle_time).count());
        set_tcp_nodelay(true);
        // Not shared with another process that listens on the same port.
        set_socket_options([](socket_t socket) {
            const int yes = 1;
            ::setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
        });
        // Every request is the handler's.
        const auto answer = [this](const httplib::Request& from, httplib::Response& to) {
            respond(from, to);
        };
        using Adding = httplib::Server& (httplib::Server::*)(const std::string&, Handler);
        for (const Adding add :
             {static_cast<Adding>(&httplib::Server::Get), static_cast<Adding>(&httplib::Server::Post),
              static_cast<Adding>(&httplib::Server::Put), static_cast<Adding>(&httplib::Server::Patch),
              static_cast<Adding>(&httplib::Server::Delete), static_cast<Adding>(&httplib::Server::Options)})
            (this->*add)(".*", answer);
        // What the library refuses itself.
        set_error_handler([](const httplib::Request&, httplib::Response& to) {
            if (!to.body.empty()) return;
            const HttpResponse response =
                problem(to.status, "this request is no HTTP that is understood here");
            to.set_content(response.body, response.type);
        });
        port_ = address.port == 0 ? bind_to_any_port(address.address) : address.port;
        if (port_ < 0 || (address.port != 0 && !bind_to_port(address.address, address.port)))
            throw InputError(fmt::format(
                "cannot listen on {}, port {}: the port is taken, or the address is none of this machine",
                printable(address.address), address.port));
    }

    void start(HttpHandler handler) {
        handler_ = std::move(handler);
        accepting_ = std::thread([this] { listen_after_bind(); });
        while (!is_running()) std::this_thread::yield();
    }

    ~Server() override { end(); }

    void end(std::chrono::milliseconds patience = std::chrono::milliseconds(0)) {
        patience_ = patience;
        stopping_ = true;
        if (is_running()) httplib::Server::stop();
        if (accepting_.joinable()) accepting_.join();
    }

    int port() const { return port_; }

  private:
    // A thread for each connection.
    class Threads : public httplib::TaskQueue {
      public:
        explicit Threads(Server& server) : server_(server) {}
        void enqueue(std::function<void()> work) override {
            server_.make_room();
            std::thread([this, work = std::move(work)] {
                work();
                server_.leave_room();
            }).detach();
        }
        void shutdown() override { server_.close_all(); }

      private:
        Server& server_;
    };

    // Before one more connection: while there are too many, the one that has waited longest for its request
    // is closed.
    void make_room() {
        std::unique_lock lock(mutex_);
        while (!stopping_ && open_ >= limits_.connections) {
            Connection* longest = nullptr;
            for (Connection& connection : connections_)
                if (!connection.at_work && !connection.closing &&
                    (longest == nullptr || connection.waiting_since < longest->waiting_since))
                    longest = &connection;
            if (longest != nullptr) {
                longest->closing = true;
                ::shutdown(longest->socket, SHUT_RDWR);
            }
            changed_.wait_for(lock, std::chrono::milliseconds(100));
        }
        ++open_;
    }

    void leave_room() {
        const std::lock_guard lock(mutex_);
        --open_;
        changed_.notify_all();
    }

    // Returns when no thread is left.
    void close_all() {
        std::unique_lock lock(mutex_);
        const auto until = Clock::now() + patience_.load();
        do {
            for (const Connection& connection : connections_)
                if (!connection.at_work) ::shutdown(connection.socket, SHUT_RDWR);
        } while (!changed_.wait_for(lock, std::chrono::milliseconds(20), [this] { return open_ == 0; }) &&
                 Clock::now() < until);
        for (const Connection& connection : connections_) ::shutdown(connection.socket, SHUT_RDWR);
        changed_.wait(lock, [this] { return open_ == 0; });
    }

    bool process_and_close_socket(socket_t socket) override {
        std::list<Connection>::iterator connection;
        {
            const std::lock_guard lock(mutex_);
            connections_.push_back({.socket = socket, .waiting_since = Clock::now()});
            connection = std::prev(connections_.end());
            if (stopping_) ::shutdown(socket, SHUT_RDWR);
        }
        serve(socket, *connection);
        const std::lock_guard lock(mutex_);
        connections_.erase(connection);
        ::shutdown(socket, SHUT_RDWR);
        ::close(socket);
        return true;
    }

    void set_at_work(Connection& connection, bool at_work) {
        const std::lock_guard lock(mutex_);
        connection.at_work = at_work;
        connection.waiting_since = Clock::now();
    }

    void serve(socket_t socket, Connection& connection) {
        TimedStream stream(socket);
        for (std::size_t left = requests_of_a_connection; left > 0 && !stopping_; --left) {
            set_at_work(connection, false);
            if (!stream.wait_for_request(Clock::now() + limits_.idle_time)) return;
            stream.read_until(Clock::now() + limits_.request_time);
            stream.write_until(Clock::now() + limits_.request_time + limits_.response_time);
            stream.write_within(limits_.response_time);
            current_ = {this, &connection, &stream};
            bool closed = false;
            // Answers are not compressed: they go to this machine. A body without a length is empty (RFC
            // 9112, 6.3); the library would wait for the end of the connection.
            const bool done = process_request(stream, left == 1, closed, [](httplib::Request& request) {
                request.headers.erase("Accept-Encoding");
                request.ranges.clear();
                if (!request.has_header("Content-Length") && !request.has_header("Transfer-Encoding"))
                    request.headers.emplace("Content-Length", "0");
            });
            if (!done || closed || current_.close) return;
        }
    }

    // Whether it is not clear where the request ends: what follows on its connection may be anything (RFC
    // 9112, 6.1).
    static bool is_ambiguous(const httplib::Request& request) {
        return request.get_header_value_count("Content-Length") > 1 ||
               request.get_header_value_count("Transfer-Encoding") > 1 ||
               (request.has_header("Content-Length") && request.has_header("Transfer-Encoding"));
    }

    void respond(const httplib::Request& from, httplib::Response& to) {
        set_at_work(*current_.connection, true);
        HttpResponse response;
        try {
            current_.close = is_ambiguous(from);
            response = current_.close
                           ? problem(400, "it is not clear where this request ends: state one length")
                           : handler_(request_of(from));
        } catch (const std::exception& error) {
            response = {.status = 500, .type = "text/plain; charset=utf-8", .body = error.what()};
        }
        if (response.events && ++event_streams_ > limits_.event_streams) {
            --event_streams_;
            response = {
                .status = 503, .type = "text/plain; charset=utf-8", .body = "too many event streams\n"};
        }
        to.status = response.status;
        for (const auto& [name, value] : response.headers) to.set_header(name, value);
        if (!response.events) return to.set_content(std::move(response.body), response.type);
        current_.stream->write_until(Clock::time_point::max());
        current_.stream->write_within(limits_.event_time);
        to.set_chunked_content_provider(
            response.type,
            [this, next = std::move(response.events)](std::size_t, httplib::DataSink& sink) {
                const std::optional<std::string> events = stopping_ ? std::nullopt : next();
                if (!events) {
                    sink.done();
                    return true;
                }
                return sink.write(events->data(), events->size());
            },
            [this](bool) { --event_streams_; });
    }

    // What the thread of a connection works on.
    struct Current {
        Server* server = nullptr;
        Connection* connection = nullptr;
        TimedStream* stream = nullptr;
        bool close = false;  // after the response
    };
    static thread_local Current current_;

    HttpHandler handler_;
    HttpLimits limits_;
    int port_ = 0;
    std::atomic<bool> stopping_{false};
    std::atomic<std::chrono::milliseconds> patience_{};  // of those at work, when it stops
    std::atomic<std::size_t> event_streams_{0};
    std::mutex mutex_;
    std::condition_variable changed_;
    std::size_t open_ = 0;  // connections, of which some may not be in the list yet
    std::list<Connection> connections_;
    std::thread accepting_;
};

thread_local HttpListener::Server::Current HttpListener::Server::current_;

HttpListener::HttpListener(const HttpAddress& address, const HttpLimits& limits)
    : server_(std::make_unique<Server>(address, limits)) {}
HttpListener::~HttpListener() = default;

int HttpListener::port() const {
    return server_->port();
}

void HttpListener::start(HttpHandler handler) {
    server_->start(std::move(handler));
}

void HttpListener::stop(std::chrono::milliseconds patience) {
    server_->end(patience);
}

}  // namespace jevrin::inline v1
