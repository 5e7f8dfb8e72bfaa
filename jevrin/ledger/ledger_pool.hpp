// Open ledgers for several threads: each serves one at a time, and opening one anew checks all of it again.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <filesystem>
#include <mutex>
#include <optional>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {

class LedgerPool {
  public:
    explicit LedgerPool(std::filesystem::path directory) : directory_(std::move(directory)) {}

    // What work(ledger) returns, with a ledger that nobody else uses meanwhile.
    template <typename Work>
    auto with(Work work) -> decltype(work(std::declval<const Ledger&>())) {
        Ledger ledger = take();
        auto result = work(std::as_const(ledger));  // one that failed is not used again
        const std::lock_guard lock(mutex_);
        if (free_.size() < most_free) free_.push_back(std::move(ledger));
        return result;
    }

  private:
    static constexpr std::size_t most_free = 4;

    Ledger take() {
        {
            const std::lock_guard lock(mutex_);
            if (!free_.empty()) {
                Ledger ledger = std::move(free_.back());
                free_.pop_back();
                return ledger;
            }
        }
        return Ledger::open(directory_);
    }

    std::filesystem::path directory_;
    std::mutex mutex_;
    std::vector<Ledger> free_;
};

}  // namespace jevrin::inline v1
