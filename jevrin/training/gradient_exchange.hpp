// Adds the gradients of several ranks while the backward pass goes on: what is ready travels from a thread of
// its own, in pieces of some size, in the order in which it became ready, which is the same on every rank.
#pragma once

#include "jevrin/training/shard_link.hpp"

#include <condition_variable>
#include <cstddef>
#include <deque>
#include <exception>
#include <mutex>
#include <span>
#include <thread>
#include <vector>

namespace jevrin::inline v1 {

class GradientExchange {
  public:
    explicit GradientExchange(ShardLink& link);
    ~GradientExchange();
    GradientExchange(const GradientExchange&) = delete;
    GradientExchange& operator=(const GradientExchange&) = delete;

    // This gradient is complete on this rank, and becomes the sum over all until finish() returns.
    void ready(std::span<float> gradient);
    // Waits until all that is ready is added. WorkError when another rank is lost.
    void finish();

  private:
    using Piece = std::vector<std::span<float>>;
    void work();
    void exchange(const Piece& piece);
    void hand_over();

    ShardLink& link_;
    Piece gathering_;
    std::size_t gathered_ = 0;  // numbers
    std::vector<float> sum_;    // of a piece
    std::vector<float> space_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<Piece> waiting_;
    bool busy_ = false;
    bool end_ = false;
    std::exception_ptr failure_;
    std::thread worker_;
};

}  // namespace jevrin::inline v1
