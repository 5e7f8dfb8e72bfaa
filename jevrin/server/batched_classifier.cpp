#include "jevrin/server/batched_classifier.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/threads.hpp"
#include "jevrin/images/preparation.hpp"

#include <algorithm>
#include <exception>
#include <latch>
#include <semaphore>
#include <utility>

namespace jevrin::inline v1 {
namespace {

// Images that a worker classifies together: alone on all threads, or beside others.
constexpr std::size_t most_alone = 32;
constexpr std::size_t most_beside_others = 8;
// Each worker has weights of its own: of a large network there is only one.
constexpr std::int64_t most_bytes_of_weights = std::int64_t{1} << 30;
// Bytes of fitted images that requests may have in hand together; one request alone may have more.
constexpr std::size_t most_bytes_in_hand = std::size_t{256} << 20;

// A decoded image may take 300 MB until it is fitted: so many are decoded at a time, whoever asks.
std::counting_semaphore<>& decoders() {
    static std::counting_semaphore<> free(2 * std::max(1, threads()));
    return free;
}

std::vector<std::uint8_t> fitted_in_turn(std::span<const std::byte> bytes, const Fitting& fitting) {
    decoders().acquire();
    struct Release {
        ~Release() { decoders().release(); }
    } const afterwards;
    return fit_image(bytes, fitting);
}

}  // namespace

// A request in hand, of so many images. While it is decoded, what is there already waits for it.
class BatchedClassifier::InHand {
  public:
    InHand(BatchedClassifier& of, std::size_t images) : of_(of), images_(images) {
        const std::lock_guard lock(of_.mutex_);
        const std::size_t bytes = static_cast<std::size_t>(of_.classifier().preparation.fitting.values());
        is_taken_ = of_.in_hand_ == 0 || (of_.in_hand_ + images) * bytes <= most_bytes_in_hand;
        if (!is_taken_) return;
        of_.in_hand_ += images;
        ++of_.decoding_;
    }
    ~InHand() {
        if (!is_taken_) return;
        end_decoding();
        const std::lock_guard lock(of_.mutex_);
        of_.in_hand_ -= images_;
    }
    InHand(const InHand&) = delete;
    InHand& operator=(const InHand&) = delete;

    // False when there are too many.
    bool is_taken() const { return is_taken_; }
    void end_decoding() {
        if (std::exchange(is_decoded_, true)) return;
        {
            const std::lock_guard lock(of_.mutex_);
            --of_.decoding_;
        }
        of_.changed_.notify_one();
    }

  private:
    BatchedClassifier& of_;
    std::size_t images_;
    bool is_taken_ = false;
    bool is_decoded_ = false;
};

// A request that waits for its images.
struct BatchedClassifier::Asking {
    std::vector<ImageOutcome> outcomes;
    std::exception_ptr failure = {};  // of any of them
    std::latch left;

    explicit Asking(std::vector<ImageOutcome> begun, std::size_t images)
        : outcomes(std::move(begun)), left(static_cast<std::ptrdiff_t>(images)) {}
};

// Many small batches on a thread each are faster than one on all: loops of one batch wait for each other, and
// for the threads that decode.
BatchedClassifier::BatchedClassifier(Classifier classifier, const BatchSettings& settings)
    : settings_(settings) {
    const auto most = static_cast<std::int64_t>(threads());
    const bool is_small = most * Inference(classifier.network, 1).bytes() <= most_bytes_of_weights;
    const std::int64_t workers = is_small ? most : 1;
    most_of_a_worker_ = workers == 1 ? most_alone : most_beside_others;
    for (std::int64_t i = 0; i < workers; ++i)
        workers_.push_back({.recogniser = std::make_unique<Recogniser>(classifier, most_of_a_worker_)});
    idle_ = workers_.size();
    for (Worker& worker : workers_)
        worker.thread = std::thread([this, recogniser = worker.recogniser.get()] { work(*recogniser); });
}

BatchedClassifier::~BatchedClassifier() {
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
    }
    changed_.notify_all();
    for (Worker& worker : workers_) worker.thread.join();
}

std::optional<std::vector<ImageOutcome>> BatchedClassifier::classify(std::span<const SentImage> images) {
    InHand in_hand(*this, images.size());
    if (!in_hand.is_taken()) return std::nullopt;
    std::vector<ImageOutcome> outcomes;
    std::vector<Waiting> fitted;
    for (const SentImage& image : images) {
        const std::span<const std::byte> bytes = std::as_bytes(std::span(image.bytes));
        ImageOutcome outcome;
        try {
            fitted.push_back({.fitted = fitted_in_turn(bytes, classifier().preparation.fitting),
                              .asking = {},
                              .image = outcomes.size()});
            outcome.answer = ImageAnswer{.file = image.name,
                                         .content = *ContentHash::from_text(content_hash(bytes)),
                                         .probabilities = {},
                                         .order = {},
                                         .distance = {}};
        } catch (const InputError& error) {
            outcome.problem = error.what();
        }
        outcomes.push_back(std::move(outcome));
    }
    const auto asking = std::make_shared<Asking>(std::move(outcomes), fitted.size());
    {
        const std::lock_guard lock(mutex_);
        for (Waiting& one : fitted) {
            one.asking = asking;
            waiting_.push_back(std::move(one));
        }
    }
    in_hand.end_decoding();
    asking->left.wait();
    if (asking->failure) std::rethrow_exception(asking->failure);
    return std::move(asking->outcomes);
}

// As soon as no request is being decoded, or there is enough for all workers, or an image has waited long
// enough.
void BatchedClassifier::work(Recogniser& recogniser) {
    std::optional<SerialLoops> alone;
    if (workers_.size() > 1) alone.emplace();
    const std::size_t enough = workers_.size() * most_of_a_worker_;
    std::unique_lock lock(mutex_);
    for (;;) {
        changed_.wait(lock, [this] { return stop_ || !waiting_.empty(); });
        if (waiting_.empty()) return;
        changed_.wait_for(lock, settings_.delay,
                          [&] { return stop_ || decoding_ == 0 || waiting_.size() >= enough; });
        // What another worker leaves, shared among those that have nothing else to do.
        const std::size_t share = (waiting_.size() + idle_ - 1) / idle_;
        std::deque<Waiting> batch;
        while (!waiting_.empty() && batch.size() < std::min(share, most_of_a_worker_)) {
            batch.push_back(std::move(waiting_.front()));
            waiting_.pop_front();
        }
        if (batch.empty()) continue;
        if (!waiting_.empty()) changed_.notify_one();
        --idle_;
        lock.unlock();
        answer(batch, recogniser);
        lock.lock();
        ++idle_;
    }
}

void BatchedClassifier::answer(std::deque<Waiting>& batch, Recogniser& recogniser) {
    if (settings_.batch) settings_.batch(batch.size());
    std::vector<std::vector<std::uint8_t>> fitted;
    for (Waiting& one : batch) fitted.push_back(std::move(one.fitted));
    Recognition recognition;
    std::exception_ptr failure;
    try {
        recognition = recogniser.recognise(fitted);
    } catch (...) {
        failure = std::current_exception();
    }
    for (std::size_t row = 0; row < batch.size(); ++row) {
        Asking& asking = *batch[row].asking;
        if (failure) {
            asking.failure = failure;
        } else {
            ImageAnswer& known = *asking.outcomes[batch[row].image].answer;
            ImageAnswer answer = answer_in(recognition, row, classifier(), settings_.sure_from);
            answer.file = std::move(known.file);
            answer.content = known.content;
            known = std::move(answer);
        }
        asking.left.count_down();
    }
}

}  // namespace jevrin::inline v1
