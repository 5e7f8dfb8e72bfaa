#include "jevrin/study/features.hpp"

#include "materials_view.hpp"
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/written_results.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct FeaturesOptions {
    std::filesystem::path plan;
    std::filesystem::path directory;
    std::filesystem::path ledger = "ledger";
    std::string candidate;
    bool with_test = false;
    bool json = false;
};

FeaturesResult write_features(const FeaturesOptions& options) {
    const auto materials = gather_with_view(read_plan(options.plan), options.ledger);
    if (options.with_test && !record_features_look(*materials, options.ledger))
        warn(fmt::format("the test part is written too, and no ledger in {} records that it was looked at",
                         printable(options.ledger.string())));
    ProgressBars bar;
    return {.directory = options.directory,
            .written = export_features(*materials, options.candidate,
                                       options.with_test ? TestItems::included : TestItems::left_out,
                                       options.directory, bar.named())};
}

}  // namespace

void add_features(Command& command) {
    auto options = std::make_shared<FeaturesOptions>();
    add_plan_option(command, options->plan);
    command.add_option("DIR", options->directory, "directory for features.npy, labels.npy and features.csv")
        .required();
    command
        .add_option("--candidate", options->candidate,
                    "the candidate (default: the first with frozen layers)")
        .type_name("NAME");
    command.add_flag("--with-test", options->with_test, "include the test part; the ledger records it");
    add_caching_ledger_option(command, options->ledger);
    add_json_option(command, options->json);
    command.callback([options] { present(write_features(*options), {.json = options->json}); });
}

}  // namespace jevrin::app
