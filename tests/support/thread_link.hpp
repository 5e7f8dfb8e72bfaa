// Ranks that train one run together, as threads of a test.
#pragma once

#include "jevrin/base/error.hpp"
#include "jevrin/training/shard_link.hpp"

#include <condition_variable>
#include <cstring>
#include <deque>
#include <exception>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <thread>
#include <tuple>
#include <vector>

namespace jevrin::test {

class ThreadLinks {
  public:
    explicit ThreadLinks(int size) {
        for (int rank = 0; rank < size; ++rank) links_.push_back(std::make_unique<Link>(*this, rank));
    }
    ShardLink& of(int rank) { return *links_[static_cast<std::size_t>(rank)]; }

    void give_up() {
        for (const auto& link : links_) link->give_up();
    }

    // work(rank) on a thread for each rank; throws what one of them threw.
    void on_each(const std::function<void(int rank)>& work) {
        std::vector<std::thread> threads;
        std::exception_ptr failure;
        for (int rank = 0; rank < static_cast<int>(links_.size()); ++rank)
            threads.emplace_back([&, rank] {
                try {
                    work(rank);
                } catch (...) {
                    const std::lock_guard lock(mutex_);
                    if (!failure) failure = std::current_exception();
                }
            });
        for (std::thread& thread : threads) thread.join();
        if (failure) std::rethrow_exception(failure);
    }

  private:
    class Link : public ShardLink {
      public:
        Link(ThreadLinks& all, int number) : all_(all), number_(number) {}
        int rank() const override { return number_; }
        int size() const override { return static_cast<int>(all_.links_.size()); }
        void send(int to, int channel, std::span<const std::byte> bytes) override {
            const std::lock_guard lock(all_.mutex_);
            all_.waiting_[{number_, to, channel}].emplace_back(bytes.begin(), bytes.end());
            all_.changed_.notify_all();
        }
        void receive(int from, int channel, std::span<std::byte> bytes) override {
            std::unique_lock lock(all_.mutex_);
            auto& waiting = all_.waiting_[{from, number_, channel}];
            all_.changed_.wait(lock, [&] { return !waiting.empty() || given_up_; });
            if (waiting.empty()) throw WorkError("another rank of this run is lost");
            std::memcpy(bytes.data(), waiting.front().data(), bytes.size());
            waiting.pop_front();
        }

        void give_up() override {
            const std::lock_guard lock(all_.mutex_);
            given_up_ = true;
            all_.changed_.notify_all();
        }

      private:
        ThreadLinks& all_;
        int number_;
        bool given_up_ = false;
    };

    std::vector<std::unique_ptr<Link>> links_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::map<std::tuple<int, int, int>, std::deque<std::vector<std::byte>>> waiting_;
};

}  // namespace jevrin::test
