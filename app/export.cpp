#include "prediction_options.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/model_results.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ExportOptions {
    LedgerOptions ledger;
    std::string run;
    std::filesystem::path file;
    std::int64_t epoch = 0;  // 0: the best
    bool with_preparation = false;
    bool replace = false;
};

void export_run(const ExportOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    if (std::filesystem::exists(options.file) && !is_stream(options.file) && !options.replace)
        throw InputError(fmt::format("{}: this file exists; choose another name, or give --replace",
                                     printable(options.file.string())));
    present(
        export_model(open.ledger, open.study, options.run, options.file,
                     {.epoch = stated_epoch(options.epoch), .with_preparation = options.with_preparation}),
        {.json = options.ledger.json,
         .written =
             is_stream(options.file) ? std::vector{options.file} : std::vector<std::filesystem::path>{}});
}

}  // namespace

void add_export(Command& command) {
    auto options = std::make_shared<ExportOptions>();
    add_run_option(command, options->run);
    command.add_option("FILE", options->file, "the file to write").required();
    add_epoch_option(command, options->epoch, "an epoch whose model was kept (default: the best)");
    command.add_flag("--with-preparation", options->with_preparation,
                     "resizing, scaling and probabilities as nodes of the file, for other readers: bytes of "
                     "decoded images in, probabilities out");
    command.add_flag("--replace", options->replace, "overwrite an existing file");
    add_ledger_options(command, options->ledger);
    command.callback([options] { export_run(*options); });
}

}  // namespace jevrin::app
