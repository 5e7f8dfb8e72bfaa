#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/results/draft_result.hpp"

#include <fmt/format.h>

namespace jevrin::app {
namespace {

struct DraftOptions {
    DraftSettings settings;
    double memory = 0.0;
    bool json = false;
};

// "glaze.toml" of "data/glaze/".
std::filesystem::path default_plan(const std::filesystem::path& images) {
    const std::filesystem::path whole = std::filesystem::absolute(images).lexically_normal();
    const std::filesystem::path name =
        whole.has_filename() ? whole.filename() : whole.parent_path().filename();
    return name.empty() ? std::filesystem::path("plan.toml")
                        : std::filesystem::path(name.stem().string() + ".toml");
}

void draft(DraftOptions options) {
    DraftSettings& settings = options.settings;
    if (settings.file.empty()) settings.file = default_plan(settings.images.from);
    std::error_code error;
    if (std::filesystem::exists(settings.file, error))
        throw InputError(fmt::format("{}: this file exists and is not overwritten; name another with --plan",
                                     printable(settings.file.string())));
    const DraftResult result = [&] {
        ProgressBars bar;
        return DraftResult{draft_plan(settings, bar.named()), settings.file};
    }();
    if (std::filesystem::exists(settings.file, error))
        throw InputError(fmt::format("{}: this file was made in the meantime and is not overwritten",
                                     printable(settings.file.string())));
    write_file(settings.file, result.draft.text);
    for (const std::string& note : result.draft.notes) warn(note);
    present(result, {.json = options.json,
                     .written = {settings.file},
                     .next = fmt::format("\nread it, then: jevrin check {0}, and: jevrin train {0}",
                                         printable(settings.file.string())) +
                             "\n"});
}

}  // namespace

void add_draft(Command& command) {
    auto options = std::make_shared<DraftOptions>();
    command
        .add_option("IMAGES", options->settings.images.from,
                    "a folder, a CSV index, an array or an archive of arrays")
        .required();
    ImageSource& images = options->settings.images;
    const auto add_file = [&](const char* name, std::filesystem::path& file, const char* what) {
        command.add_option(name, file, what).type_name("FILE");
    };
    add_file("--labels", images.labels, "of an array: the file with its labels");
    add_file("--validation-from", images.validation_from, "of arrays: the images of the validation part");
    add_file("--validation-labels", images.validation_labels, "of arrays: their labels");
    add_file("--test-from", images.test_from, "of arrays: the images of the test part");
    add_file("--test-labels", images.test_labels, "of arrays: their labels");
    command
        .add_option("--backbone", options->settings.backbones,
                    "a pretrained model (ONNX); may be given several times")
        .type_name("FILE");
    command.add_option("--hours", options->settings.hours, "time for all runs together; decides the epochs")
        .within(0.001, 10'000.0);
    command.add_option("--plan", options->settings.file, "the plan to write (default: the images' name)")
        .type_name("FILE");
    add_json_option(command, options->json);
    add_memory_option(command, options->memory);
    command.callback([options] {
        limit_memory(options->memory);
        draft(*options);
    });
}

}  // namespace jevrin::app
