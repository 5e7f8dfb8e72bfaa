#include "output.hpp"
#include "stop_signals.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/pages/report.hpp"
#include "jevrin/server/page_server.hpp"
#include "jevrin/server/request_guard.hpp"

#include <fmt/format.h>
#include <unistd.h>

namespace jevrin::app {
namespace {

struct PageOptions {
    LedgerOptions ledger;
    std::string address = HttpAddress{}.address;
    std::int64_t port = 0;  // 0: any
    std::string key;
    std::filesystem::path report;
};

void serve(const PageOptions& options) {
    std::string key = options.key;
    if (key.empty() && !is_loopback(options.address)) key = random_key();
    PageServer server({.ledger = options.ledger.directory, .study = options.ledger.study},
                      {.address = options.address, .port = static_cast<int>(options.port)}, key);
    const StopSignals signals;
    print(fmt::format("{}\nopen this address in a browser; Ctrl-C ends the server\n", server.address()));
    StopSignals::wait();
    ::_exit(0);  // what is being computed for a page is not waited for; changes are whole transactions
}

void write_report(const PageOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const ReportSummary summary = [&] {
        ProgressBars bar;
        return jevrin::write_report(open.ledger, open.study, options.report, {},
                                    bar.of("writing the report"));
    }();
    print(fmt::format("{}: {}, {}\n", printable(options.report.string()), spoken_bytes(summary.bytes),
                      plural(summary.pictures, "picture")));
    if (summary.left_out > 0)
        warn(fmt::format("{} of the page's answers and pictures are left out: the file has at most {}",
                         summary.left_out, spoken_bytes(ReportSettings{}.most_bytes)));
    if (summary.images_gone > 0)
        warn(fmt::format(
            "{} left out: the image files are gone or changed",
            summary.images_gone == 1 ? "1 picture is" : fmt::format("{} pictures are", summary.images_gone)));
}

}  // namespace

void add_page(Command& command) {
    auto options = std::make_shared<PageOptions>();
    command
        .add_option(
            "--report", options->report,
            "instead of serving, write the page as one HTML file, to be opened without server or network")
        .type_name("FILE");
    std::vector<Option> of_the_server;
    of_the_server.push_back(
        command.add_option("--port", options->port, "the port (default: any that is free)")
            .within(1, 65535)
            .option_text("1..65535"));
    of_the_server.push_back(
        command
            .add_option("--address", options->address,
                        "the address to listen on; one that other machines reach needs a key, which is drawn "
                        "and printed unless --key states it")
            .type_name("ADDRESS")
            .capture_default_str());
    of_the_server.push_back(
        command.add_option("--key", options->key, "what a browser must show: part of the printed address")
            .type_name("WORD"));
    add_ledger_option(command, options->ledger.directory);
    command.add_option("--study", options->ledger.study, "the study (default: the one trained last)")
        .type_name("NAME");
    command.callback([options, of_the_server] {
        if (options->report.empty()) return serve(*options);
        refuse_options(of_the_server, "does not apply to a report");
        write_report(*options);
    });
}

}  // namespace jevrin::app
