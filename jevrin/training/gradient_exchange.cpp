#include "jevrin/training/gradient_exchange.hpp"

#include <algorithm>
#include <utility>

namespace jevrin::inline v1 {
namespace {

// A piece of so many numbers is worth a message.
constexpr std::size_t piece_size = std::size_t{1} << 18;
constexpr int gradient_channel = 1;

}  // namespace

GradientExchange::GradientExchange(ShardLink& link) : link_(link), worker_([this] { work(); }) {}

GradientExchange::~GradientExchange() {
    {
        const std::lock_guard lock(mutex_);
        end_ = true;
        changed_.notify_all();
    }
    worker_.join();
}

void GradientExchange::ready(std::span<float> gradient) {
    gathering_.push_back(gradient);
    gathered_ += gradient.size();
    if (gathered_ >= piece_size) hand_over();
}

void GradientExchange::hand_over() {
    if (gathering_.empty()) return;
    gathered_ = 0;
    const std::lock_guard lock(mutex_);
    waiting_.push_back(std::exchange(gathering_, {}));
    changed_.notify_all();
}

void GradientExchange::finish() {
    hand_over();
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [this] { return failure_ || (waiting_.empty() && !busy_); });
    if (failure_) std::rethrow_exception(failure_);
}

void GradientExchange::work() {
    std::unique_lock lock(mutex_);
    for (;;) {
        changed_.wait(lock, [this] { return end_ || (!waiting_.empty() && !failure_); });
        if (end_) return;
        const Piece piece = std::move(waiting_.front());
        waiting_.pop_front();
        busy_ = true;
        lock.unlock();
        std::exception_ptr failure;
        try {
            exchange(piece);
        } catch (...) {
            failure = std::current_exception();
        }
        lock.lock();
        busy_ = false;
        if (failure) failure_ = failure;
        changed_.notify_all();
    }
}

void GradientExchange::exchange(const Piece& piece) {
    if (piece.size() == 1)
        return join_ranks(link_, gradient_channel, piece.front(), space_, add_values<float>);
    sum_.clear();
    for (const std::span<float> gradient : piece) sum_.insert(sum_.end(), gradient.begin(), gradient.end());
    join_ranks(link_, gradient_channel, std::span<float>(sum_), space_, add_values<float>);
    auto from = sum_.begin();
    for (const std::span<float> gradient : piece) {
        const auto end = from + std::ssize(gradient);
        std::copy(from, end, gradient.begin());
        from = end;
    }
}

}  // namespace jevrin::inline v1
