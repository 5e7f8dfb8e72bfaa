// merge, contrast: two ledgers.
#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/comparison/ledger_difference.hpp"
#include "jevrin/ledger/ledger_writer.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct MergeOptions {
    std::filesystem::path from;
    std::filesystem::path into = LedgerOptions{}.directory;
    bool json = false;
};

struct ContrastOptions {
    std::filesystem::path first;
    std::filesystem::path second;
    bool json = false;
};

void merge(const MergeOptions& options) {
    const Ledger other = Ledger::open(options.from);
    LedgerWriter ledger = LedgerWriter::open(options.into);
    const MergeSummary summary = ledger.merge(other);
    if (options.json) {
        print_json(Json{{"studies", summary.studies},
                        {"runs", summary.runs},
                        {"known", summary.known},
                        {"differing", summary.differing}});
        return;
    }
    print(fmt::format(
        "{} and {} copied from {} into {}; {} there already\n",
        summary.studies == 1 ? std::string("1 study") : fmt::format("{} studies", summary.studies),
        plural(summary.runs, "run"), printable(options.from.string()), printable(options.into.string()),
        summary.known));
    if (summary.differing > 0)
        warn(fmt::format(
            "{} finished in both with other scores; those of {} were kept ('jevrin contrast' shows "
            "them)",
            plural(summary.differing, "run"), printable(options.into.string())));
}

Json or_null(const std::optional<double>& value) {
    return value ? Json(*value) : Json();
}

std::string score_cell(const std::optional<double>& value) {
    return value ? three_decimals(*value) : "-";
}

void contrast(const ContrastOptions& options) {
    const std::vector<RunPair> pairs =
        compare_ledgers(Ledger::open(options.first), Ledger::open(options.second));
    if (options.json) {
        Json json = Json::array();
        for (const RunPair& pair : pairs)
            json.push_back({{"study", pair.study},
                            {"run", pair.run},
                            {"in_first", pair.in_first},
                            {"in_second", pair.in_second},
                            {"differing", pair.differing},
                            {"first", or_null(pair.first)},
                            {"second", or_null(pair.second)}});
        print_json(json);
        return;
    }
    std::int64_t alike = 0;
    Table table({"study", "run", "first", "second", "what differs"}, {2, 3});
    std::int64_t listed = 0;
    for (const RunPair& pair : pairs) {
        const bool same_score = pair.first == pair.second;
        if (pair.same_settings() && same_score) {
            ++alike;
            continue;
        }
        std::string what = !pair.in_second          ? "only in the first"
                           : !pair.in_first         ? "only in the second"
                           : pair.differing.empty() ? "the score, with the same settings"
                                                    : fmt::format("{}", fmt::join(pair.differing, ", "));
        table.add({short_cell(pair.study), short_cell(pair.run), score_cell(pair.first),
                   score_cell(pair.second), short_cell(what, 80)});
        ++listed;
    }
    print(fmt::format("{} with the same settings and score in both\n", plural(alike, "run")));
    if (listed > 0) print("\n" + table.text());
}

}  // namespace

void add_merge(Command& command) {
    auto options = std::make_shared<MergeOptions>();
    command.add_option("OTHER", options->from, "the ledger to copy from; it stays as it is").required();
    command.add_option("--ledger", options->into, "the ledger to copy into")
        .type_name("DIR")
        .capture_default_str();
    command.add_flag("--json", options->json, "print one JSON document");
    command.callback([options] { merge(*options); });
}

void add_contrast(Command& command) {
    auto options = std::make_shared<ContrastOptions>();
    command.add_option("FIRST", options->first, "a ledger").required();
    command.add_option("SECOND", options->second, "another").required();
    command.add_flag("--json", options->json, "print one JSON document");
    command.callback([options] { contrast(*options); });
}

}  // namespace jevrin::app
