// ledger add: runs that were trained elsewhere.
#include "output.hpp"

#include "jevrin/base/text.hpp"
#include "jevrin/results/external_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct AddOptions {
    LedgerOptions ledger;
    std::vector<std::filesystem::path> paths;
    RunStatement predictions;  // of predictions alone
    std::string regime;
};

void add(const AddOptions& options, bool states_candidate) {
    if (!Ledger::exists(options.ledger.directory))
        throw InputError(
            fmt::format("{}: there is no ledger; 'jevrin parts PLAN' records the study that runs from "
                        "elsewhere belong to",
                        printable(options.ledger.directory.string())));
    LedgerWriter writer = LedgerWriter::open(options.ledger.directory);
    IntakeResult result;
    if (states_candidate) {
        if (options.paths.size() != 1 || !std::filesystem::is_regular_file(options.paths.front()))
            throw InputError("--candidate goes with one file of predictions, .csv or .npy");
        RunStatement statement = options.predictions;
        statement.study = options.ledger.study;
        statement.regime = value_named<Regime>(options.regime);
        result.runs.push_back(take_predictions(writer, options.paths.front(), statement));
    } else {
        for (const std::filesystem::path& path : options.paths)
            if (std::filesystem::is_regular_file(path))
                throw InputError(
                    fmt::format("{}: predictions alone need --candidate and --regime; a run is a folder "
                                "with a run.json",
                                printable(path.string())));
        const std::vector<std::filesystem::path> folders = find_run_folders(options.paths);
        ProgressBars bar;
        for (std::size_t i = 0; i < folders.size(); ++i) {
            bar.show("reading runs", static_cast<std::int64_t>(i), std::ssize(folders));
            result.runs.push_back(take_run_folder(writer, folders[i]));
        }
    }
    present(result, {.json = options.ledger.json});
}

}  // namespace

void add_ledger_add(Command& command) {
    auto options = std::make_shared<AddOptions>();
    command
        .add_option("PATH", options->paths,
                    "folders of runs, folders of such folders, or one file of predictions (docs/formats.md)")
        .required();
    Option candidate = command.add_option("--candidate", options->predictions.candidate,
                                          "of predictions alone: the candidate that made them");
    candidate.type_name("NAME");
    std::vector<Option> of_predictions;
    of_predictions.push_back(
        command.add_option("--regime", options->regime, "its regime: scratch, frozen or partial")
            .type_name("NAME"));
    of_predictions.push_back(
        command.add_option("--seed", options->predictions.seed, "its seed (default: 1)").type_name("N"));
    of_predictions.push_back(
        command.add_option("--fold", options->predictions.fold, "the fold that it predicts").type_name("K"));
    of_predictions.push_back(
        command.add_option("--program", options->predictions.program, "what trained it").type_name("TEXT"));
    add_ledger_options(command, options->ledger);
    command.callback([options, candidate, of_predictions] {
        const bool states_candidate = candidate.count() > 0;
        if (!states_candidate)
            refuse_options(of_predictions, "goes with --candidate and a file of predictions");
        add(*options, states_candidate);
    });
}

}  // namespace jevrin::app
