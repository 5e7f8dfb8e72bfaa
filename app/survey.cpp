#include "output.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/plan/recipe.hpp"
#include "jevrin/results/survey_result.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace jevrin::app {
namespace {

struct SurveyOptions {
    std::filesystem::path images;
    std::filesystem::path sheet;
    std::filesystem::path after;
    std::filesystem::path problems;
    std::string candidate;
    std::uint64_t seed = 1;
    bool json = false;
};

// The candidate whose training images --after shows: the one named, or the first that augments.
const Candidate& shown_candidate(const Plan& plan, const std::string& name) {
    if (!name.empty()) return candidate_called(plan, name);
    const auto augmented =
        std::find_if(plan.candidates.begin(), plan.candidates.end(),
                     [](const Candidate& c) { return c.training.augmentation.changes_anything(); });
    return augmented == plan.candidates.end() ? plan.candidates.front() : *augmented;
}

void draw(const ImageSet& set, const SurveyOptions& options) {
    constexpr std::size_t per_class = 10;
    const std::string name = printable(options.images.filename().string());
    if (options.after.empty()) {
        draw_sheet(sample_rows(set, per_class, options.seed),
                   fmt::format("{}: a random sample of {}", name, plural(std::ssize(set.items), "image")),
                   options.sheet);
        return;
    }
    const Plan plan = read_plan(options.after);
    const Candidate& candidate = shown_candidate(plan, options.candidate);
    draw_sheet(sample_rows_before_and_after(set, per_class / 2, options.seed, plan.images.fitting,
                                            candidate.training.augmentation),
               fmt::format("{}: each image, and its augmented version for '{}'", name, candidate.name),
               options.sheet);
}

ImageSource source_of(const std::filesystem::path& images) {
    if (images.extension() == ".toml") return read_images_of(images).source;
    return {.from = images};
}

void survey(const SurveyOptions& options) {
    if (!options.after.empty() && options.sheet.empty()) throw InputError("--after needs --sheet FILE");
    const SurveyResult result = [&] {
        ProgressBars bar;
        return report_survey(source_of(options.images), bar.named());
    }();
    if (!options.problems.empty()) write_problems(result.set.problems, options.problems);
    if (!options.sheet.empty()) draw(result.set, options);
    present(result, {.json = options.json,
                     .form = form_for_terminal({}, "--json for all"),
                     .written = {options.problems, options.sheet}});
}

}  // namespace

void add_survey(Command& command) {
    auto options = std::make_shared<SurveyOptions>();
    command
        .add_option("IMAGES", options->images,
                    "a folder with one folder of images per class (or per part), a CSV index, or a plan")
        .required();
    add_figure_option(command, "--sheet", options->sheet, "draw a labelled random sample");
    command
        .add_option("--after", options->after,
                    "beside each image its augmented version, as training with this plan sees it")
        .type_name("PLAN");
    command
        .add_option("--candidate", options->candidate,
                    "a candidate of that plan (default: the first with augmentation)")
        .type_name("NAME");
    command.add_option("--seed", options->seed, "seed of the random sample").capture_default_str();
    command.add_option("--problems", options->problems, "write the list of unreadable files (CSV)")
        .type_name("FILE");
    add_json_option(command, options->json);
    command.callback([options] { survey(*options); });
}

}  // namespace jevrin::app
