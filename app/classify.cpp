#include "output.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/folder_watch.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/model_results.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

constexpr std::int64_t most_warnings = 10;

struct ClassifyOptions {
    std::filesystem::path model;
    std::vector<std::string> images;
    std::filesystem::path follow;
    double idle = 0.0;  // 0: for ever
    ClassifySettings settings;
    std::filesystem::path csv;
    std::filesystem::path ledger = "ledger";
    bool json = false;
};

// Images of a test part are looked at here as well as by 'scores'.
void record_look(const ClassifyOptions& options, const ClassifyResult& result) {
    try {
        if (const std::int64_t images = record_classified(options.ledger, result); images > 0)
            warn(fmt::format("{} of these images {} in the sealed test part; {} records it", images,
                             images == 1 ? "is" : "are", printable(options.ledger.string())));
    } catch (const Error& error) {
        warn(
            fmt::format("whether these images are of a sealed test part was not recorded: {}", error.what()));
    }
}

// The model, and the images that it could not read: the first few are warned about by name.
class Classifying {
  public:
    explicit Classifying(const ClassifyOptions& options) : classifier_(options.model, options.settings) {}

    ClassifyResult classify(std::span<const std::filesystem::path> files, const ReadProgress& progress = {}) {
        return classifier_.classify(
            files,
            [&](const std::string& message) {
                if (refused_++ < most_warnings) warn(message);
            },
            progress);
    }
    std::int64_t refused() const { return refused_; }

  private:
    ImageClassifier classifier_;
    std::int64_t refused_ = 0;
};

// A line for each image as it arrives, until nothing came for so long.
void follow(const ClassifyOptions& options, FolderWatch& watch, Classifying& classifying) {
    stream_warnings();
    for (double waited = 0.0; options.idle == 0.0 || waited < options.idle;) {
        constexpr double patience = 0.25;
        const std::vector<std::filesystem::path> files = watch.next(patience);
        waited = files.empty() ? waited + patience : 0.0;
        const ClassifyResult result = classifying.classify(files);
        record_look(options, result);
        for (const ImageAnswer& answer : result.answers)
            print(options.json ? to_json_line(result, answer) : to_text_line(result, answer));
        if (!options.csv.empty() && !result.answers.empty())
            append_to_file(options.csv, to_table(result).csv_rows());
    }
}

void classify_files(const ClassifyOptions& options) {
    if (options.images.empty() && options.follow.empty())
        throw InputError("there is no image to classify; name files or folders, or use --follow");
    Classifying classifying(options);
    // What arrives while the images that are there are classified is not missed.
    std::optional<FolderWatch> watch;
    if (!options.follow.empty()) watch.emplace(options.follow);
    const std::vector<std::filesystem::path> files = images_called(options.images);
    if (files.empty() && !watch)
        throw InputError("there is no image to classify; name files, or folders that contain images");
    const ClassifyResult result = [&] {
        ProgressBars bar;
        return classifying.classify(files, bar.of("classifying"));
    }();
    record_look(options, result);
    write_table(options.csv, to_table(result));
    if (options.json && watch)
        for (const ImageAnswer& answer : result.answers) print(to_json_line(result, answer));
    else
        present(result, {.json = options.json, .written = {options.csv}});
    if (watch) follow(options, *watch, classifying);
    if (classifying.refused() > 0) {
        warn(plural(classifying.refused(), "image") + " not classified");
        throw ExitStatus{2};
    }
}

}  // namespace

void add_classify(Command& command) {
    auto options = std::make_shared<ClassifyOptions>();
    command.add_option("MODEL", options->model, "a model file written by 'jevrin export'").required();
    command.add_option("IMAGE", options->images,
                       "image files, folders, glob patterns, or a plan (its unlabelled images)");
    command.add_option("--top", options->settings.top, "number of classes to print (0: all)")
        .capture_default_str();
    command
        .add_option("--sure-from", options->settings.sure_from,
                    "probability below which a prediction is marked unsure")
        .within(0.0, 1.0)
        .option_text("PROBABILITY");
    add_table_option(command, options->csv, "write all probabilities as a table");
    Option following =
        command
            .add_option("--follow", options->follow,
                        "watch this folder and classify each new image; with --json one line per image")
            .type_name("DIR");
    command.add_option("--idle", options->idle, "stop --follow after this time without a new image")
        .positive()
        .option_text("SECONDS")
        .needs(following);
    command
        .add_option("--ledger", options->ledger,
                    "the ledger that records when images of its test part are classified, if it exists")
        .type_name("DIR")
        .capture_default_str();
    add_json_option(command, options->json);
    command.callback([options] { classify_files(*options); });
}

}  // namespace jevrin::app
