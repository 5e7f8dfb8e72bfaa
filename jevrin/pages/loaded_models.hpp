// Models of runs, kept ready for images that come one after another.
#pragma once

#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/results/model_results.hpp"

#include <list>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

namespace jevrin::inline v1 {

// May be called from several threads.
class LoadedModels {
  public:
    // What each of these finished runs says of an image file's bytes: "answers" with run, probabilities by
    // class, distance and unknown. Images of a sealed test part are counted as looked at: "test_image" says
    // so. InputError when the bytes are no image, a run is not finished, or there are more than twelve.
    Json classify(const Ledger& ledger, const StudyRecord& study, const std::vector<std::string>& runs,
                  std::span<const std::byte> image);

  private:
    struct Model {
        RunId run;
        std::string hash;
        std::mutex mutex;
        ImageClassifier classifier;
    };
    std::shared_ptr<Model> model_of_run(const Ledger& ledger, const RunRecord& run);

    std::mutex mutex_;
    std::list<std::shared_ptr<Model>> models_;  // the last used first
};

}  // namespace jevrin::inline v1
