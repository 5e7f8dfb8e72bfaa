// Models in use: export, and predictions for new images.
#pragma once

#include "jevrin/results/form.hpp"
#include "jevrin/results/result_table.hpp"
#include "jevrin/training/classifier.hpp"

#include <filesystem>
#include <functional>
#include <span>

namespace jevrin::inline v1 {

struct ExportResult {
    StudyContext context;
    RunRecord run;
    std::int64_t epoch = 0;  // whose model it is
    std::filesystem::path file;
    std::int64_t bytes = 0;
    std::vector<std::string> classes;
    double temperature = 1.0;
    Fitting fitting;
    bool with_preparation = false;
};
struct ExportSettings {
    std::optional<std::int64_t> epoch = {};  // the best one, unless given
    bool with_preparation = false;           // as nodes of the graph (save_prepared_classifier())
};
// Writes the model of a run; a file of that name is replaced. InputError when the run is not finished, the
// epoch was not kept, or the model is damaged.
ExportResult export_model(const Ledger& ledger, const StudyRecord& study, const std::string& run,
                          const std::filesystem::path& file, const ExportSettings& settings = {});
std::string to_json(const ExportResult& result);
std::string to_text(const ExportResult& result, const TextForm& form = {});

struct ClassifySettings {
    std::size_t top = 3;     // classes that are told; 0: all
    double sure_from = 0.0;  // less likely answers are unsure
};

// The prediction for one image.
struct ImageAnswer {
    std::string file;
    ContentHash content;               // of the file
    std::vector<float> probabilities;  // by class
    std::vector<std::size_t> order;    // classes, the likeliest first
    std::optional<double> distance;    // over the limit: above 1 it resembles nothing in training
    bool sure = true;

    bool unknown() const { return distance && *distance > 1.0; }
    float confidence() const { return probabilities[order.front()]; }
    // "unsure", or that it resembles nothing in training; empty: neither.
    std::string remark() const;
};

// The answer in this row; its file and content are the caller's.
ImageAnswer answer_in(const Recognition& recognition, std::size_t row, const Classifier& classifier,
                      double sure_from);

// How many classes are told of so many; top as ClassifySettings::top.
std::size_t shown_classes(std::size_t top, std::size_t classes);

struct ClassifyResult {
    std::vector<std::string> classes;
    std::size_t top = 3;  // at most the number of classes
    std::vector<ImageAnswer> answers;
    std::int64_t refused = 0;  // images that cannot be read
};

// A model made ready for images that come one after another.
class ImageClassifier {
  public:
    // InputError when the file is no classifier.
    ImageClassifier(const std::filesystem::path& model, const ClassifySettings& settings);

    // Images that cannot be read are counted, and refused is told of each. Some are read at a time, so that a
    // large folder takes no more memory than a small one.
    ClassifyResult classify(std::span<const std::filesystem::path> files,
                            const std::function<void(const std::string& message)>& refused = {},
                            const ReadProgress& progress = {});

    // One image that is no file: the bytes of one. InputError when they are no image.
    ImageAnswer classify(std::span<const std::byte> bytes, const std::string& name);

    const Classifier& classifier() const { return recogniser_.classifier(); }

  private:
    ClassifySettings settings_;
    Recogniser recogniser_;
};

// Records in the ledger of this directory, if there is one, that images of a test part were classified.
// Returns how many of them there were. WorkError when there are some and the ledger cannot be written.
std::int64_t record_classified(const std::filesystem::path& ledger, const ClassifyResult& result);

// The images that words mean: files, folders with all images below them, patterns ("new/*.png"), or a plan
// with its unlabelled images. InputError for one that means nothing.
std::vector<std::filesystem::path> images_called(const std::vector<std::string>& words);

std::string to_json(const ClassifyResult& result);
// One answer on one line.
std::string to_json_line(const ClassifyResult& result, const ImageAnswer& answer);
// All probabilities.
ResultTable to_table(const ClassifyResult& result);
std::string to_text(const ClassifyResult& result, const TextForm& form = {});
// One answer as a line.
std::string to_text_line(const ClassifyResult& result, const ImageAnswer& answer);

}  // namespace jevrin::inline v1
