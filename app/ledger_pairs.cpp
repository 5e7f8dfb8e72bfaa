// ledger merge, ledger compare: two ledgers.
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/ledgers_result.hpp"

namespace jevrin::app {
namespace {

struct MergeOptions {
    std::filesystem::path from;
    std::filesystem::path into = LedgerOptions{}.directory;
    bool json = false;
};

struct CompareOptions {
    std::filesystem::path first;
    std::filesystem::path second;
    bool json = false;
};

void merge(const MergeOptions& options) {
    const MergeResult result = merge_ledgers(options.from, options.into);
    present(result, {.json = options.json});
    if (result.summary.differing > 0 && !options.json)
        warn(plural(result.summary.differing, "run") + " finished in both with other scores; those of " +
             printable(options.into.string()) + " were kept ('jevrin ledger compare' shows them)");
}

void compare(const CompareOptions& options) {
    present(report_contrast(options.first, options.second), {.json = options.json});
}

}  // namespace

void add_ledger_merge(Command& command) {
    auto options = std::make_shared<MergeOptions>();
    command.add_option("OTHER", options->from, "the ledger to copy from; it is not changed").required();
    command.add_option("--ledger", options->into, "the ledger to copy into")
        .type_name("DIR")
        .capture_default_str();
    add_json_option(command, options->json);
    command.callback([options] { merge(*options); });
}

void add_ledger_compare(Command& command) {
    auto options = std::make_shared<CompareOptions>();
    command.add_option("FIRST", options->first, "a ledger").required();
    command.add_option("SECOND", options->second, "another").required();
    add_json_option(command, options->json);
    command.callback([options] { compare(*options); });
}

}  // namespace jevrin::app
