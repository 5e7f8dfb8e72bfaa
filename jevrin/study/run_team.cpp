#include "jevrin/study/run_team.hpp"

#include "jevrin/base/error.hpp"

#include <chrono>
#include <thread>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {
namespace {

constexpr std::chrono::milliseconds between_questions{20};  // whether to stop
constexpr std::chrono::milliseconds between_turns{2};       // of what is done meanwhile

}  // namespace

void RunTeam::carry_out(const std::function<void(std::size_t)>& work) {
    if (is_one()) return work(0);
    active_ = members_;
    std::vector<std::thread> threads;
    for (std::size_t member = 0; member < members_; ++member)
        threads.emplace_back([this, member, &work] { run_member(member, work); });
    const auto join = [&] {
        for (std::thread& thread : threads) thread.join();
    };
    try {
        listen();
    } catch (...) {
        // What was told threw: nobody listens any more.
        {
            const std::lock_guard lock(mutex_);
            stop_ = true;
        }
        join();
        throw;
    }
    join();
    if (failure_) std::rethrow_exception(std::exchange(failure_, nullptr));
    if (interrupted_) throw Interrupted("stopped; what was finished is kept");
}

void RunTeam::run_member(std::size_t member, const std::function<void(std::size_t)>& work) {
    std::exception_ptr failure;
    bool interrupted = false;
    try {
        const SerialLoops loops(&loops_);
        work(member);
    } catch (const Interrupted&) {
        interrupted = true;
    } catch (...) {
        failure = std::current_exception();
    }
    const std::lock_guard lock(mutex_);
    --active_;
    stop_ = stop_ || failure != nullptr;
    if (failure && !failure_) failure_ = failure;
    interrupted_ = interrupted_ || interrupted;
    told_.notify_all();
    changed_.notify_all();
}

void RunTeam::listen() {
    std::unique_lock lock(mutex_);
    for (;;) {
        told_.wait_for(lock, meanwhile_ ? between_turns : between_questions,
                       [this] { return !news_.empty() || (active_ == 0 && !meanwhile_); });
        while (!news_.empty()) {
            const std::function<void()> what = std::move(news_.front());
            news_.pop_front();
            lock.unlock();
            what();
            lock.lock();
        }
        const bool all_ended = active_ == 0;
        if (meanwhile_) {
            lock.unlock();
            const bool is_more = meanwhile_();
            lock.lock();
            if (all_ended && !is_more && news_.empty()) return;
        } else if (all_ended) {
            return;
        }
        if (stop_ || !stop_asked_) continue;
        lock.unlock();
        const bool stop = stop_asked_();
        lock.lock();
        stop_ = stop_ || stop;
    }
}

void RunTeam::tell(std::function<void()> what) {
    if (is_one()) return what();
    const std::lock_guard lock(mutex_);
    news_.push_back(std::move(what));
    told_.notify_all();
}

bool RunTeam::stop_requested() const {
    if (is_one()) return stop_asked_ && stop_asked_();
    const std::lock_guard lock(mutex_);
    return stop_;
}

void RunTeam::pass() {
    if (is_one()) return;
    std::unique_lock lock(mutex_);
    if (alone_ == 0) return;
    const WaitingLoops waiting;
    ++resting_;
    changed_.notify_all();
    changed_.wait(lock, [this] { return alone_ == 0; });
    --resting_;
}

void RunTeam::rest(const std::function<void()>& wait) {
    if (is_one()) return wait();
    const auto count = [this](bool begins) {
        std::unique_lock lock(mutex_);
        if (!begins) changed_.wait(lock, [this] { return alone_ == 0; });
        resting_ += begins ? 1 : -1;
        changed_.notify_all();
    };
    const WaitingLoops waiting;
    count(true);
    try {
        wait();
    } catch (...) {
        count(false);
        throw;
    }
    count(false);
}

void RunTeam::alone(const std::function<void()>& work) {
    if (is_one()) return work();
    std::unique_lock lock(mutex_);
    const WaitingLoops waiting;
    ++alone_;
    ++resting_;
    changed_.notify_all();
    changed_.wait(lock, [this] { return !measuring_ && resting_ == active_; });
    measuring_ = true;
    lock.unlock();
    std::exception_ptr failure;
    // A thread of its own has all threads for its loops.
    std::thread([&] {
        try {
            work();
        } catch (...) {
            failure = std::current_exception();
        }
    }).join();
    lock.lock();
    measuring_ = false;
    --alone_;
    --resting_;
    changed_.notify_all();
    lock.unlock();
    if (failure) std::rethrow_exception(failure);
}

}  // namespace jevrin::inline v1
