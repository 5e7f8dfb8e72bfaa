// The ranks of a job as threads of a test, without MPI.
#pragma once

#include "support/thread_link.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/study/rank_message.hpp"
#include "jevrin/study/ranks.hpp"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <deque>
#include <iterator>
#include <map>
#include <memory>
#include <mutex>
#include <set>
#include <utility>
#include <vector>

namespace jevrin::test {

class ThreadJob {
  public:
    explicit ThreadJob(int size) {
        for (int rank = 0; rank < size; ++rank) ranks_.push_back(std::make_unique<Rank>(*this, rank));
    }
    Ranks& rank(int number) { return *ranks_[static_cast<std::size_t>(number)]; }
    bool was_abandoned() const { return abandoned_; }
    std::size_t messages() const { return messages_; }
    std::size_t bytes() const { return bytes_; }
    // From now on epochs arrive at rank 0 so many at a time, or alone when no other came for a while.
    void deliver_epochs_together(std::size_t count) { delivered_together_ = count; }
    // The most epochs that rank 0 had taken before it answered the first of them.
    std::size_t most_epochs_together() const { return most_epochs_together_; }

  private:
    using Clock = std::chrono::steady_clock;
    static constexpr std::chrono::milliseconds longest_way{300};

    static bool is_epoch(const Ranks::Bytes& bytes) {
        try {
            return unpacked(bytes).head.at("do") == "finish_epoch";
        } catch (const Error&) {
            return false;  // no message: some tests send such
        }
    }
    class Borrowed : public ShardLink {
      public:
        explicit Borrowed(ShardLink& link) : link_(link) {}
        int rank() const override { return link_.rank(); }
        int size() const override { return link_.size(); }
        void send(int to, int channel, std::span<const std::byte> bytes) override {
            link_.send(to, channel, bytes);
        }
        void receive(int from, int channel, std::span<std::byte> bytes) override {
            link_.receive(from, channel, bytes);
        }
        void give_up() override { link_.give_up(); }

      private:
        ShardLink& link_;
    };
    class Rank : public Ranks {
      public:
        Rank(ThreadJob& job, int number) : job_(job), number_(number) {}
        int rank() const override { return number_; }
        int size() const override { return static_cast<int>(job_.ranks_.size()); }
        int on_this_machine() const override { return size(); }
        void send(int to, std::string bytes) override {
            ++job_.messages_;
            job_.bytes_ += bytes.size();
            if (number_ == 0) {
                const RankMessage sent = unpacked({0, bytes});
                if (const Json* answer = sent.head.find("answer"))
                    taken_epochs_.erase({to, answer->get<std::int64_t>()});
            }
            Rank& other = *job_.ranks_[static_cast<std::size_t>(to)];
            Bytes message{number_, std::move(bytes)};
            const bool waits = to == 0 && job_.delivered_together_ > 1 && is_epoch(message);
            const std::lock_guard lock(other.mutex_);
            (waits ? other.on_their_way_ : other.arrived_).push_back(std::move(message));
            if (waits) other.last_sent_ = Clock::now();
            other.changed_.notify_all();
        }
        std::optional<Bytes> receive(std::chrono::milliseconds wait) override {
            if (job_.abandoned_) throw WorkError("the job was ended");
            std::unique_lock lock(mutex_);
            for (const auto until = Clock::now() + wait; arrived_.empty();) {
                if (on_their_way_.size() >= job_.delivered_together_ ||
                    Clock::now() - last_sent_ > longest_way) {
                    std::ranges::move(on_their_way_, std::back_inserter(arrived_));
                    on_their_way_.clear();
                }
                if (!arrived_.empty()) break;
                if (Clock::now() >= until) return std::nullopt;
                changed_.wait_until(lock, std::min(until, Clock::now() + longest_way));
            }
            Bytes first = std::move(arrived_.front());
            arrived_.pop_front();
            if (number_ == 0) note_epoch(first);
            return first;
        }
        std::unique_ptr<ShardLink> divide(int ranks_of_run) override {
            const std::lock_guard lock(job_.mutex_);
            auto& team = job_.teams_[number_ / ranks_of_run];
            if (!team) team = std::make_unique<ThreadLinks>(ranks_of_run);
            return std::make_unique<Borrowed>(team->of(number_ % ranks_of_run));
        }
        // Whoever waits for somebody is ended, as a killed process would be.
        void abandon() noexcept override {
            job_.abandoned_ = true;
            const std::lock_guard lock(job_.mutex_);
            for (const auto& [number, team] : job_.teams_) team->give_up();
        }

      private:
        void note_epoch(const Bytes& bytes) {
            if (!is_epoch(bytes)) return;
            taken_epochs_.emplace(bytes.from, unpacked(bytes).head.at("question").get<std::int64_t>());
            job_.most_epochs_together_ = std::max(job_.most_epochs_together_, taken_epochs_.size());
        }

        friend ThreadJob;
        ThreadJob& job_;
        int number_;
        std::set<std::pair<int, std::int64_t>> taken_epochs_;  // by rank 0, not answered yet: rank, question
        std::mutex mutex_;
        std::condition_variable changed_;
        std::deque<Bytes> arrived_;
        std::deque<Bytes> on_their_way_;
        Clock::time_point last_sent_;  // of those on their way
    };

    std::vector<std::unique_ptr<Rank>> ranks_;
    std::mutex mutex_;
    std::map<int, std::unique_ptr<ThreadLinks>> teams_;
    std::atomic<bool> abandoned_{false};
    std::atomic<std::size_t> messages_{0};
    std::atomic<std::size_t> bytes_{0};
    std::atomic<std::size_t> delivered_together_{1};
    std::size_t most_epochs_together_ = 0;  // of rank 0's thread
};

}  // namespace jevrin::test
