// A rank without a ledger as it talks to rank 0.
#pragma once

#include "jevrin/study/rank_message.hpp"

#include <atomic>
#include <condition_variable>
#include <cstdint>
#include <map>
#include <mutex>
#include <optional>
#include <string>
#include <thread>

namespace jevrin::inline v1 {

class RankClient {
  public:
    // patience: seconds without a sign of rank 0 after which it counts as lost.
    RankClient(Ranks& ranks, double patience);
    ~RankClient();
    RankClient(const RankClient&) = delete;
    RankClient& operator=(const RankClient&) = delete;

    // The answer of rank 0. WorkError with its reason when it refuses, or when it is lost. May be called by
    // several threads.
    RankMessage ask(Json head, std::string_view body = {});
    // What needs no answer.
    void tell(const Json& head);
    // Whether rank 0 asked everybody to save and end, or is lost.
    bool stop_requested() const { return stop_; }
    bool is_lost() const;
    // Whether rank 0 said that there is nothing to train; ask() throws Interrupted then.
    bool is_sent_home() const { return home_; }

  private:
    void listen();

    Ranks& ranks_;
    double patience_;
    mutable std::mutex mutex_;
    std::condition_variable asking_;
    std::condition_variable answered_;
    std::map<std::int64_t, std::optional<RankMessage>> open_;  // by the number of the question
    std::int64_t asked_ = 0;
    bool lost_ = false;
    std::string why_lost_;
    std::atomic<bool> stop_{false};
    std::atomic<bool> end_{false};
    std::atomic<bool> home_{false};
    std::thread listener_;
};

}  // namespace jevrin::inline v1
