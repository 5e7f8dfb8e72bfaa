#include "jevrin/server/write_queue.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/server/problem.hpp"
#include "jevrin/server/request_reading.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_waiting = 1'000;
constexpr std::size_t most_together = 64;

// A full disk, a ledger that was moved or is locked: another attempt may succeed. Where it lies is nobody's
// business.
HttpResponse not_written() {
    return try_again("the ledger cannot be written now");
}

}  // namespace

WriteQueue::WriteQueue(const std::filesystem::path& ledger)
    : directory_(ledger),
      writer_(std::make_unique<LedgerWriter>(LedgerWriter::open(ledger))),
      intake_(std::make_unique<RunIntake>(*writer_)),
      thread_([this] { write(); }) {}

WriteQueue::~WriteQueue() {
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
    }
    changed_.notify_all();
    thread_.join();
}

HttpResponse WriteQueue::carry_out(Work work) {
    std::future<HttpResponse> response;
    {
        const std::lock_guard lock(mutex_);
        if (jobs_.size() >= most_waiting) return try_again("too many writes wait");
        jobs_.push_back({.work = std::move(work), .response = {}, .promise = {}});
        response = jobs_.back().promise.get_future();
    }
    changed_.notify_one();
    return response.get();
}

void WriteQueue::write() {
    std::unique_lock lock(mutex_);
    for (;;) {
        changed_.wait(lock, [this] { return stop_ || !jobs_.empty(); });
        if (jobs_.empty()) return;
        std::deque<Job> now;
        while (!jobs_.empty() && now.size() < most_together) {
            now.push_back(std::move(jobs_.front()));
            jobs_.pop_front();
        }
        lock.unlock();
        write_together(now);
        for (Job& job : now) job.promise.set_value(std::move(job.response));
        lock.lock();
    }
}

void WriteQueue::write_together(std::deque<Job>& jobs) {
    try {
        writer_->together([&] {
            for (Job& job : jobs) try {
                    writer_->together([&] { job.response = job.work(*intake_); });
                } catch (const NoRow&) {
                    job.response = problem(404, "there is no run with this number");
                } catch (const ConflictError& error) {
                    job.response = problem(409, error.what());
                } catch (const InputError& error) {
                    job.response = problem(422, error.what());
                }
        });
    } catch (const std::exception&) {
        // Nothing was written, of any of them; what the intake remembers may not be there.
        intake_ = std::make_unique<RunIntake>(*writer_);
        for (Job& job : jobs) job.response = not_written();
    }
}

}  // namespace jevrin::inline v1
