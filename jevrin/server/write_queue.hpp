// Writes of many requests into one ledger: those that wait at the same time become one transaction, so that
// each is durable when it is answered and none waits for a disk of its own.
#pragma once

#include "jevrin/external/run_intake.hpp"
#include "jevrin/server/http_message.hpp"

#include <condition_variable>
#include <deque>
#include <filesystem>
#include <functional>
#include <future>
#include <memory>
#include <mutex>
#include <thread>

namespace jevrin::inline v1 {

class WriteQueue {
  public:
    using Work = std::function<HttpResponse(RunIntake&)>;

    // InputError when there is no ledger.
    explicit WriteQueue(const std::filesystem::path& ledger);
    // What is queued is written first.
    ~WriteQueue();
    WriteQueue(const WriteQueue&) = delete;
    WriteQueue& operator=(const WriteQueue&) = delete;

    // Carries out work(intake), which takes part in a transaction, and returns its response when that is
    // durable. What it throws is a problem document and leaves nothing behind: 409 for a ConflictError, 422
    // for another InputError, 503 when the ledger cannot be written, or too many wait.
    HttpResponse carry_out(Work work);

  private:
    struct Job {
        Work work;
        HttpResponse response;
        std::promise<HttpResponse> promise;
    };
    void write();
    void write_together(std::deque<Job>& jobs);

    std::filesystem::path directory_;
    std::unique_ptr<LedgerWriter> writer_;
    std::unique_ptr<RunIntake> intake_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<Job> jobs_;
    bool stop_ = false;
    std::thread thread_;
};

}  // namespace jevrin::inline v1
