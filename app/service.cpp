// service: a server for programs, and its keys.
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/server/service_results.hpp"
#include "jevrin/server/service_server.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <atomic>
#include <csignal>
#include <mutex>
#include <thread>

namespace jevrin::app {
namespace {

struct StartOptions {
    std::filesystem::path ledger = "ledger";
    std::string address = HttpAddress{}.address;
    std::int64_t port = 0;  // 0: any
    bool quiet = false;
};

struct KeyOptions {
    std::filesystem::path ledger = "ledger";
    ServiceKey key;
    std::vector<std::string> may;
    bool json = false;
};

std::atomic<bool> stop_asked{false};

void start(const StartOptions& options) {
    std::mutex mutex;
    const auto log = [&](const std::string& line) {
        const std::lock_guard lock(mutex);
        print_error(line + "\n");
    };
    std::signal(SIGINT, [](int) { stop_asked = true; });
    std::signal(SIGTERM, [](int) { stop_asked = true; });
    ServiceServer server({.ledger = options.ledger, .log = options.quiet ? nullptr : std::function(log)},
                         {.address = options.address, .port = static_cast<int>(options.port)});
    print(fmt::format("{}\nCtrl-C or SIGTERM ends the server when it has answered\n", server.address()));
    while (!stop_asked) std::this_thread::sleep_for(std::chrono::milliseconds(50));
    server.stop();
}

void require_ledger(const std::filesystem::path& directory) {
    if (!Ledger::exists(directory))
        throw InputError(
            fmt::format("{}: there is no ledger; 'jevrin parts PLAN' or 'jevrin train PLAN' makes one",
                        printable(directory.string())));
}

void make_key(const KeyOptions& options) {
    require_ledger(options.ledger);
    ServiceKey key = options.key;
    for (const std::string& right : options.may) key.may.insert(value_named<Right>(right));
    present(NewKeyResult{.name = key.name, .secret = ServiceStore(options.ledger).add_key(key)},
            {.json = options.json});
}

void remove_key(const KeyOptions& options) {
    require_ledger(options.ledger);
    ServiceStore store(options.ledger);
    if (!store.remove_key(options.key.name))
        throw InputError(fmt::format("there is no key '{}'", printable(options.key.name)));
    present(KeysResult{store.keys()}, {.json = options.json});
}

void list_keys(const KeyOptions& options) {
    require_ledger(options.ledger);
    present(KeysResult{ServiceStore(options.ledger).keys()}, {.json = options.json});
}

std::shared_ptr<KeyOptions> key_options(Command& command, bool named) {
    auto options = std::make_shared<KeyOptions>();
    if (named) command.add_option("NAME", options->key.name, "what the key is called").required();
    add_ledger_option(command, options->ledger);
    add_json_option(command, options->json);
    return options;
}

}  // namespace

void add_service_start(Command& command) {
    auto options = std::make_shared<StartOptions>();
    command.add_option("--port", options->port, "the port (default: any that is free)")
        .within(1, 65535)
        .option_text("1..65535");
    command.add_option("--address", options->address, "the address to listen on; every request needs a key")
        .type_name("ADDRESS")
        .capture_default_str();
    command.add_flag("--quiet", options->quiet,
                     "do not log requests, which are lines of JSON on standard error");
    add_ledger_option(command, options->ledger);
    command.callback([options] { start(*options); });
}

void add_service_add_key(Command& command) {
    auto options = key_options(command, true);
    command.add_option("--may", options->may, "what it allows: runs, metrics").required().type_name("RIGHT");
    command
        .add_option("--per-minute", options->key.per_minute,
                    "requests in a minute, at most (default: any number)")
        .within(1, 1'000'000)
        .option_text("N");
    command.callback([options] { make_key(*options); });
}

void add_service_remove_key(Command& command) {
    auto options = key_options(command, true);
    command.callback([options] { remove_key(*options); });
}

void add_service_keys(Command& command) {
    auto options = key_options(command, false);
    command.callback([options] { list_keys(*options); });
}

}  // namespace jevrin::app
