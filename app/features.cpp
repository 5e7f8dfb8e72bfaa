#include "jevrin/study/features.hpp"

#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

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

// The candidate that is named, or the first with frozen layers.
const Candidate& chosen_candidate(const Plan& plan, const std::string& name) {
    std::vector<std::string> names;
    for (const Candidate& candidate : plan.candidates) {
        if (name.empty() ? candidate.regime != Regime::scratch : candidate.name == name) return candidate;
        names.push_back(candidate.name);
    }
    if (name.empty()) throw InputError("no candidate of this plan has frozen layers");
    throw InputError(fmt::format("no candidate is called '{}'{}; there are {}", printable(name),
                                 did_you_mean(name, names), fmt::join(names, ", ")));
}

void write_features(const FeaturesOptions& options) {
    const Plan plan = read_plan(options.plan);
    const bool has_ledger = std::filesystem::exists(options.ledger / "ledger.db");
    FeatureExport written;
    {
        ProgressBars bar;
        const auto progress = [&](const std::string& what, std::int64_t done, std::int64_t total) {
            bar.show(what, done, total);
        };
        const auto materials =
            gather_materials(plan, has_ledger ? std::optional(options.ledger) : std::nullopt, progress);
        written = export_features(*materials, chosen_candidate(materials->plan, options.candidate),
                                  options.with_test ? TestItems::included : TestItems::left_out,
                                  options.directory, progress);
    }
    if (options.json) {
        print_json({{"items", written.items},
                    {"width", written.width},
                    {"boundary", written.boundary},
                    {"directory", options.directory.string()}});
        return;
    }
    print(
        fmt::format("{} of {} numbers each, taken behind '{}', written to {}: features.npy, labels.npy, "
                    "features.csv\n",
                    plural(written.items, "item"), written.width, printable(written.boundary),
                    printable(options.directory.string())));
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
    command.callback([options] { write_features(*options); });
}

}  // namespace jevrin::app
