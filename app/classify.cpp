#include "commands.hpp"
#include "output.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/folder_watch.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/base/text.hpp"
#include "jevrin/images/image_set.hpp"
#include "jevrin/plan/recipe.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>
#include <glob.h>

#include <algorithm>
#include <fstream>
#include <numeric>
#include <optional>

namespace jevrin::app {
namespace {

constexpr std::int64_t most_warnings = 10;

struct ClassifyOptions {
    std::filesystem::path model;
    std::vector<std::string> images;
    std::filesystem::path follow;
    double idle = 0.0;  // 0: for ever
    std::size_t top = 3;
    double sure_from = 0.0;
    std::filesystem::path csv;
    bool json = false;
};

// What a pattern that no shell has resolved stands for.
std::vector<std::filesystem::path> files_of_pattern(const std::string& pattern) {
    glob_t found{};
    std::vector<std::filesystem::path> files;
    if (::glob(pattern.c_str(), 0, nullptr, &found) == 0)
        for (std::size_t i = 0; i < found.gl_pathc; ++i) files.emplace_back(found.gl_pathv[i]);
    ::globfree(&found);
    if (files.empty()) throw InputError(fmt::format("{}: no file has a name like this", printable(pattern)));
    return files;
}

// Files as they are, folders as the images below them, a plan as its unlabelled images.
std::vector<std::filesystem::path> files_of(const std::vector<std::string>& named) {
    std::vector<std::filesystem::path> files;
    const auto add = [&](const std::filesystem::path& path) {
        for (const auto& file : image_files(path)) files.push_back(file);
    };
    for (const std::string& name : named) {
        const std::filesystem::path path = name;
        if (path.extension() == ".toml") {
            const ImageSource source = read_images_of(path).source;
            if (source.unlabelled.empty())
                throw InputError(
                    fmt::format("{}: its [images] name no 'unlabelled' folder", printable(name)));
            add(source.unlabelled);
        } else if (name.find_first_of("*?[") != std::string::npos && !std::filesystem::exists(path)) {
            for (const auto& file : files_of_pattern(name)) add(file);
        } else {
            add(path);
        }
    }
    return files;
}

// What is said of one image.
struct Answer {
    std::string file;
    std::vector<float> probabilities;  // by class
    std::vector<std::size_t> order;    // classes, the likeliest first
    std::optional<double> distance;    // over the limit: above 1 it resembles nothing in training
    bool sure = true;

    bool unknown() const { return distance && *distance > 1.0; }
    float confidence() const { return probabilities[order.front()]; }
    // What is to be heeded about it.
    std::string remark() const {
        if (unknown())
            return fmt::format("resembles nothing in training ({:.1f} times the limit)", *distance);
        return sure ? "" : "unsure";
    }
};

class Answering {
  public:
    explicit Answering(const ClassifyOptions& options)
        : options_(options), recogniser_(load_classifier(options.model)) {
        const std::size_t classes = recogniser_.classifier().classes.size();
        top_ = options.top == 0 ? classes : std::min(options.top, classes);
    }

    const std::vector<std::string>& classes() const { return recogniser_.classifier().classes; }
    std::int64_t refused() const { return refused_; }

    // Of the files that can be read; others are warned about, the first few by name.
    std::vector<Answer> answer(std::span<const std::filesystem::path> files) {
        std::vector<std::vector<std::uint8_t>> fitted;
        std::vector<Answer> answers;
        for (const auto& file : files) try {
                fitted.push_back(load_fitted(file, recogniser_.classifier().preparation.fitting));
                answers.push_back({.file = file.string(), .probabilities = {}, .order = {}, .distance = {}});
            } catch (const InputError& error) {
                if (refused_++ < most_warnings) warn(error.what());
            }
        if (answers.empty()) return answers;
        const Recognition recognition = recogniser_.recognise(fitted);
        const std::size_t count = classes().size();
        for (std::size_t i = 0; i < answers.size(); ++i) {
            Answer& own = answers[i];
            const auto row = recognition.probabilities.begin() + static_cast<std::ptrdiff_t>(i * count);
            own.probabilities.assign(row, row + static_cast<std::ptrdiff_t>(count));
            own.order.resize(count);
            std::iota(own.order.begin(), own.order.end(), std::size_t{0});
            std::stable_sort(own.order.begin(), own.order.end(), [&](std::size_t a, std::size_t b) {
                return own.probabilities[a] > own.probabilities[b];
            });
            own.sure = static_cast<double>(own.confidence()) >= options_.sure_from;
            if (!recognition.distances.empty())
                own.distance = recognition.distances[i] / recogniser_.classifier().familiarity->limit;
        }
        return answers;
    }

    Json json(const Answer& answer) const {
        Json entry = {{"image", answer.file}, {"top", Json::array()}};
        for (std::size_t k = 0; k < top_; ++k)
            entry["top"].push_back({{"class", classes()[answer.order[k]]},
                                    {"probability", answer.probabilities[answer.order[k]]}});
        entry["unknown"] = answer.distance ? Json(answer.unknown()) : Json();
        entry["distance"] = answer.distance ? Json(*answer.distance) : Json();
        entry["sure"] = answer.sure;
        return entry;
    }

    std::vector<std::string> csv_heads() const {
        std::vector<std::string> cells = {"image", "class", "probability", "sure", "unknown", "distance"};
        cells.insert(cells.end(), classes().begin(), classes().end());
        return cells;
    }

    std::vector<std::string> csv_cells(const Answer& answer) const {
        std::vector<std::string> cells = {answer.file,
                                          classes()[answer.order.front()],
                                          fmt::format("{}", answer.confidence()),
                                          answer.sure ? "1" : "0",
                                          answer.distance ? (answer.unknown() ? "1" : "0") : "",
                                          answer.distance ? fmt::format("{}", *answer.distance) : ""};
        for (const float p : answer.probabilities) cells.push_back(fmt::format("{}", p));
        return cells;
    }

    std::string others(const Answer& answer) const {
        std::string text;
        for (std::size_t k = 1; k < top_; ++k)
            text += fmt::format("{}{} {:.3f}", k == 1 ? "" : ", ", short_cell(classes()[answer.order[k]], 32),
                                answer.probabilities[answer.order[k]]);
        return text;
    }

    std::size_t top() const { return top_; }

  private:
    const ClassifyOptions& options_;
    Recogniser recogniser_;
    std::size_t top_ = 1;
    std::int64_t refused_ = 0;
};

std::vector<Answer> answer_all(Answering& answering, const std::vector<std::filesystem::path>& files) {
    // Some at a time, so that a large folder takes no more memory than a small one.
    constexpr std::size_t some = 256;
    ProgressBars bar;
    std::vector<Answer> answers;
    for (std::size_t begin = 0; begin < files.size(); begin += some) {
        bar.show("classifying", static_cast<std::int64_t>(begin), std::ssize(files));
        for (Answer& answer :
             answering.answer(std::span(files).subspan(begin, std::min(some, files.size() - begin))))
            answers.push_back(std::move(answer));
    }
    return answers;
}

void print_answers(const Answering& answering, const std::vector<Answer>& answers) {
    std::vector<std::string> heads = {"image", "class", "probability"};
    if (answering.top() > 1) heads.emplace_back("then");
    const bool remarks =
        std::any_of(answers.begin(), answers.end(), [](const Answer& a) { return !a.remark().empty(); });
    if (remarks) heads.emplace_back("");
    Table table(heads, {2});
    for (const Answer& answer : answers) {
        std::vector<std::string> cells = {printable(answer.file),
                                          short_cell(answering.classes()[answer.order.front()], 32),
                                          fmt::format("{:.3f}", answer.confidence())};
        if (answering.top() > 1) cells.push_back(answering.others(answer));
        if (remarks) cells.push_back(answer.remark());
        table.add(std::move(cells));
    }
    if (!answers.empty()) print(table.text());
}

void add_rows(const std::filesystem::path& file, const std::string& rows) {
    std::ofstream out(file, std::ios::binary | std::ios::app);
    out << rows << std::flush;
    if (!out)
        throw WorkError(fmt::format("{}: cannot write; check the disk, and who may write here",
                                    printable(file.string())));
}

// A line for each picture as it arrives, until nothing came for so long.
void follow(const ClassifyOptions& options, FolderWatch& watch, Answering& answering) {
    for (double waited = 0.0; options.idle == 0.0 || waited < options.idle;) {
        constexpr double patience = 0.25;
        const std::vector<std::filesystem::path> files = watch.next(patience);
        waited = files.empty() ? waited + patience : 0.0;
        for (const Answer& answer : answering.answer(files)) {
            if (options.json)
                print(json_text(answering.json(answer)) + "\n");
            else
                print(fmt::format("{}  {}  {:.3f}{}\n", printable(answer.file),
                                  short_cell(answering.classes()[answer.order.front()], 32),
                                  answer.confidence(),
                                  answer.remark().empty() ? "" : "  " + answer.remark()));
            if (!options.csv.empty()) add_rows(options.csv, csv_row(answering.csv_cells(answer)));
        }
    }
}

void classify_files(const ClassifyOptions& options) {
    if (options.images.empty() && options.follow.empty())
        throw InputError("there is no image to classify; name files or folders, or a folder to --follow");
    Answering answering(options);
    // What arrives while the images that are there are classified is not missed.
    std::optional<FolderWatch> watch;
    if (!options.follow.empty()) watch.emplace(options.follow);
    const std::vector<std::filesystem::path> files = files_of(options.images);
    if (files.empty() && !watch)
        throw InputError("there is no image to classify; name files, or folders that hold some");
    const std::vector<Answer> answers = answer_all(answering, files);
    if (!options.csv.empty()) {
        std::string text = csv_row(answering.csv_heads());
        for (const Answer& answer : answers) text += csv_row(answering.csv_cells(answer));
        write_file(options.csv, text);
    }
    if (options.json && !watch) {
        Json json = Json::array();
        for (const Answer& answer : answers) json.push_back(answering.json(answer));
        print_json(json);
    } else if (options.json) {
        for (const Answer& answer : answers) print(json_text(answering.json(answer)) + "\n");
    } else {
        print_answers(answering, answers);
    }
    if (watch) follow(options, *watch, answering);
    if (answering.refused() > 0) {
        warn(fmt::format("{} not classified", plural(answering.refused(), "image")));
        throw ExitStatus{2};
    }
}

}  // namespace

void add_classify(Command& command) {
    auto options = std::make_shared<ClassifyOptions>();
    command.add_option("MODEL", options->model, "a model file written by 'jevrin export'").required();
    command.add_option("IMAGE", options->images,
                       "PNG, JPEG or WebP files, folders, patterns, or a plan (its unlabelled images)");
    command.add_option("--top", options->top, "how many classes to show (0: all)").capture_default_str();
    command.add_option("--sure-from", options->sure_from, "call less likely answers unsure")
        .within(0.0, 1.0)
        .option_text("PROBABILITY");
    add_table_option(command, options->csv, "write all probabilities as a table");
    Option following =
        command
            .add_option("--follow", options->follow,
                        "classify each image that arrives in this folder; --json prints a line for each")
            .type_name("DIR");
    command.add_option("--idle", options->idle, "stop following when nothing came for so long")
        .positive()
        .option_text("SECONDS")
        .needs(following);
    command.add_flag("--json", options->json, "print one JSON document");
    command.callback([options] { classify_files(*options); });
}

}  // namespace jevrin::app
