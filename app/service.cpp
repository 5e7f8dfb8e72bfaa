// service: a server for programs, and its keys.
#include "prediction_options.hpp"
#include "stop_signals.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/server/service_results.hpp"
#include "jevrin/server/service_server.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

#include <chrono>
#include <cmath>
#include <mutex>

namespace jevrin::app {
namespace {

struct StartOptions {
    std::filesystem::path ledger = "ledger";
    std::string address = HttpAddress{}.address;
    std::int64_t port = 0;                                                                   // 0: any
    double batch_delay = 1e-3 * static_cast<double>(ServiceSettings{}.batch_delay.count());  // milliseconds
    bool quiet = false;
};

struct ModelOptions {
    LedgerOptions ledger;
    std::string name;
    std::filesystem::path file;
    std::string run;
    std::int64_t epoch = 0;  // 0: the best
    double sure_from = 0.0;
    std::int64_t version = 0;
};

struct KeyOptions {
    std::filesystem::path ledger = "ledger";
    ServiceKey key;
    std::vector<std::string> may;
    bool json = false;
};

void start(const StartOptions& options) {
    std::mutex mutex;
    const auto log = [&](const std::string& line) {
        const std::lock_guard lock(mutex);
        print_error(line + "\n");
    };
    const StopSignals signals;
    ServiceServer server({.ledger = options.ledger,
                          .log = options.quiet ? nullptr : std::function(log),
                          .batch_delay = std::chrono::microseconds(std::llround(1e3 * options.batch_delay))},
                         {.address = options.address, .port = static_cast<int>(options.port)});
    print(fmt::format("{}\nCtrl-C or SIGTERM ends the server when it has answered\n", server.address()));
    StopSignals::wait();
    server.stop();
}

void require_ledger(const std::filesystem::path& directory) {
    if (!Ledger::exists(directory))
        throw InputError(fmt::format(
            "{}: there is no ledger; 'jevrin train', 'jevrin parts' and 'jevrin service publish' make one",
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

// A machine that only serves has no ledger before.
void publish_file(const ModelOptions& options) {
    if (!Ledger::exists(options.ledger.directory)) {
        load_classifier(options.file);
        LedgerWriter::open(options.ledger.directory);
    }
    present(ModelsResult{{ServiceStore(options.ledger.directory)
                              .publish(options.name, options.file,
                                       std::filesystem::absolute(options.file).string(), options.sure_from)}},
            {.json = options.ledger.json});
}

void publish(const ModelOptions& options) {
    if (options.file.empty() == options.run.empty())
        throw InputError("name either a model file, or a run with --run");
    if (options.run.empty()) return publish_file(options);
    const OpenStudy open = open_study(options.ledger);
    present(ModelsResult{{publish_run(open.ledger, open.study, options.run, options.name, options.sure_from,
                                      stated_epoch(options.epoch))}},
            {.json = options.ledger.json});
}

void withdraw(const ModelOptions& options) {
    require_ledger(options.ledger.directory);
    ServiceStore store(options.ledger.directory);
    store.withdraw(options.name, options.version);
    present(ModelsResult{store.models()}, {.json = options.ledger.json});
}

void list_models(const ModelOptions& options) {
    require_ledger(options.ledger.directory);
    present(ModelsResult{ServiceStore(options.ledger.directory).models()}, {.json = options.ledger.json});
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
    command
        .add_option("--batch-delay", options->batch_delay,
                    "how long an image waits at most for those of other requests, to be classified with them")
        .within(0.0, 1000.0)
        .option_text(fmt::format("MILLISECONDS ({})", options->batch_delay));
    command.add_flag("--quiet", options->quiet,
                     "do not log requests, which are lines of JSON on standard error");
    add_ledger_option(command, options->ledger);
    command.callback([options] { start(*options); });
}

void add_service_publish(Command& command) {
    auto options = std::make_shared<ModelOptions>();
    command.add_option("NAME", options->name, "what requests call the model").required();
    command.add_option("MODEL", options->file, "a model file written by 'jevrin export'");
    command.add_option("--run", options->run, "the model of this finished run instead").type_name("RUN");
    add_epoch_option(command, options->epoch, "an epoch whose model was kept (default: the best)");
    command
        .add_option("--sure-from", options->sure_from,
                    "probability below which a prediction is marked unsure")
        .within(0.0, 1.0)
        .option_text("PROBABILITY");
    add_ledger_options(command, options->ledger);
    command.callback([options] { publish(*options); });
}

void add_service_withdraw(Command& command) {
    auto options = std::make_shared<ModelOptions>();
    command.add_option("NAME", options->name, "what requests call the model").required();
    command.add_option("VERSION", options->version, "the version that is taken back").required();
    add_ledger_option(command, options->ledger.directory);
    add_json_option(command, options->ledger.json);
    command.callback([options] { withdraw(*options); });
}

void add_service_models(Command& command) {
    auto options = std::make_shared<ModelOptions>();
    add_ledger_option(command, options->ledger.directory);
    add_json_option(command, options->ledger.json);
    command.callback([options] { list_models(*options); });
}

void add_service_add_key(Command& command) {
    auto options = key_options(command, true);
    command.add_option("--may", options->may, "what it allows: runs, classify, metrics")
        .required()
        .type_name("RIGHT");
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
