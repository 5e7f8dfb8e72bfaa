#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct ExportOptions {
    LedgerOptions ledger;
    std::string run;
    std::filesystem::path file;
    std::int64_t epoch = 0;  // 0: the best
    bool replace = false;
};

void export_run(const ExportOptions& options) {
    const OpenStudy open = open_study(options.ledger);
    const RunRecord run = open.ledger.run(open.study.id, options.run);
    if (std::filesystem::exists(options.file) && !options.replace)
        throw InputError(fmt::format("{}: this file exists; choose another name, or give --replace",
                                     printable(options.file.string())));
    const std::filesystem::path model =
        model_of(open.ledger, run, options.epoch > 0 ? std::optional(options.epoch) : std::nullopt);
    const std::int64_t epoch = options.epoch > 0 ? options.epoch : run.best ? run.best->epoch : 0;
    const Classifier classifier = load_classifier(model);  // a damaged model is found here, not by its user
    write_file(options.file, read_file(model));
    const auto bytes = static_cast<std::int64_t>(std::filesystem::file_size(options.file));
    if (options.ledger.json) {
        print_json({{"run", run.name()},
                    {"epoch", epoch},
                    {"file", options.file.string()},
                    {"bytes", bytes},
                    {"classes", classifier.classes},
                    {"temperature", classifier.temperature},
                    {"test_looks", open.study.test_looks}});
        return;
    }
    print(fmt::format("{} (epoch {}) written to {}: {}, {} classes, images of {}x{} by {}\n{}", run.name(),
                      epoch, printable(options.file.string()), spoken_bytes(bytes), classifier.classes.size(),
                      classifier.preparation.fitting.size, classifier.preparation.fitting.size,
                      name_of(classifier.preparation.fitting.fit), test_look_line(open)));
}

}  // namespace

void add_export(Command& command) {
    auto options = std::make_shared<ExportOptions>();
    command.add_option("RUN", options->run, "the run, as CANDIDATE/SEED").required();
    command.add_option("FILE", options->file, "the file to write").required();
    command.add_option("--epoch", options->epoch, "of this epoch, when it was kept (default: the best)")
        .type_name("N")
        .positive();
    command.add_flag("--replace", options->replace, "overwrite the file when it exists");
    add_ledger_options(command, options->ledger);
    command.callback([options] { export_run(*options); });
}

}  // namespace jevrin::app
