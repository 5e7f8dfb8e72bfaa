#include "materials_view.hpp"
#include "output.hpp"

#include "jevrin/results/written_results.hpp"

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
    ProgressBars bar;
    return {.directory = options.directory,
            .written = export_features(*materials, options.candidate,
                                       options.with_test ? TestItems::included : TestItems::left_out,
                                       options.directory, bar.named())};
}

}  // namespace

void add_features(Command& command) {
    auto options = std::make_shared<FeaturesOptions>();
    command.add_option("PLAN", options->plan, "the plan, a TOML file").required();
    command.add_option("DIR", options->directory, "where features.npy, labels.npy and features.csv go")
        .required();
    command
        .add_option("--candidate", options->candidate, "whose frozen layers (default: the first with some)")
        .type_name("NAME");
    command.add_flag("--with-test", options->with_test, "the test part too, which training never sees");
    command.add_option("--ledger", options->ledger, "use what this ledger knows, when it is there")
        .type_name("DIR")
        .capture_default_str();
    command.add_flag("--json", options->json, "print one JSON document");
    command.callback([options] { present(write_features(*options), {.json = options->json}); });
}

}  // namespace jevrin::app
