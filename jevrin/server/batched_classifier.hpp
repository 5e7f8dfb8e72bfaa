// A classifier in service: images of many requests are classified together.
//
//     BatchedClassifier classifier(load_classifier(file), {.delay = std::chrono::milliseconds(5)});
//     classifier.classify({&image, 1})->front().answer ...   // from several threads
#pragma once

#include "jevrin/results/model_results.hpp"

#include <chrono>
#include <condition_variable>
#include <cstddef>
#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <thread>
#include <vector>

namespace jevrin::inline v1 {

struct BatchSettings {
    // How long an image waits at most for others that are being decoded.
    std::chrono::microseconds delay{0};
    double sure_from = 0.0;  // less likely answers are unsure
    // Told of the number of images that were classified together. May be empty.
    std::function<void(std::size_t images)> batch = {};
};

// An image as a request has it.
struct SentImage {
    std::string name;        // as the client says it
    std::string_view bytes;  // of an image file
};

// What becomes of one: an answer, or why there is none.
struct ImageOutcome {
    std::optional<ImageAnswer> answer;
    std::string problem;
};

class BatchedClassifier {
  public:
    // InputError when memory does not suffice.
    BatchedClassifier(Classifier classifier, const BatchSettings& settings);
    ~BatchedClassifier();
    BatchedClassifier(const BatchedClassifier&) = delete;
    BatchedClassifier& operator=(const BatchedClassifier&) = delete;

    const Classifier& classifier() const { return workers_.front().recogniser->classifier(); }

    // In the order of the images; decoded by the thread that asks. None when there are too many already. An
    // answer does not depend on what it is classified together with.
    std::optional<std::vector<ImageOutcome>> classify(std::span<const SentImage> images);

  private:
    class InHand;
    struct Asking;
    struct Waiting {
        std::vector<std::uint8_t> fitted;
        std::shared_ptr<Asking> asking;
        std::size_t image = 0;
    };
    // Classifies on one thread while others do the same.
    struct Worker {
        std::unique_ptr<Recogniser> recogniser;
        std::thread thread = {};
    };
    void work(Recogniser& recogniser);
    void answer(std::deque<Waiting>& batch, Recogniser& recogniser);

    BatchSettings settings_;
    std::size_t most_of_a_worker_ = 1;  // images at a time
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<Waiting> waiting_;
    std::size_t decoding_ = 0;  // requests
    std::size_t in_hand_ = 0;   // images of requests that are not answered
    std::size_t idle_ = 0;      // workers
    bool stop_ = false;
    std::vector<Worker> workers_;
};

}  // namespace jevrin::inline v1
