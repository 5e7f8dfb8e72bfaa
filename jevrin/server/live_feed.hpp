// Follows a study while others train into its ledger, and tells whoever listens.
#pragma once

#include "jevrin/ledger/ledger.hpp"

#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <deque>
#include <filesystem>
#include <latch>
#include <memory>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <thread>

namespace jevrin::inline v1 {

// Each event is a server-sent event (WHATWG HTML, "Server-sent events") with JSON: "news" has what
// news_data() says, "state" comes first and after what could not be told piece by piece: ask anew.
class LiveFeed {
  public:
    LiveFeed(const std::filesystem::path& ledger, const std::string& study);
    ~LiveFeed();
    LiveFeed(const LiveFeed&) = delete;
    LiveFeed& operator=(const LiveFeed&) = delete;

    // Each is another number after something has happened.
    struct Revisions {
        std::int64_t change = 1;      // anything has changed in the ledger
        std::int64_t results = 1;     // a run has finished or failed
        std::int64_t generation = 1;  // runs were deleted or began anew, or the image set changed: until then
                                      // what is known of a finished run holds
    };
    Revisions revisions() const;
    // This process has changed something; listeners are told by and by, as of any change.
    void changed();

    class Listener {
      public:
        // The next events, waited for at most so long: a comment when there are none. Nothing when the feed
        // has ended.
        std::optional<std::string> next(std::chrono::milliseconds patience);

      private:
        friend class LiveFeed;
        std::mutex mutex_;
        std::condition_variable told_;
        std::deque<std::string> events_;
        bool ended_ = false;
    };
    std::shared_ptr<Listener> listen();

    // Nothing is told any more, and nobody waits.
    void end();

  private:
    void follow();
    // Counts what happened; the number of the change.
    std::int64_t count(bool finished, bool begun_anew);
    void tell(const std::string& event);

    const std::filesystem::path directory_;
    const std::string study_;
    mutable std::mutex mutex_;
    std::condition_variable stopped_;
    bool stop_ = false;
    Revisions revisions_;
    std::set<std::shared_ptr<Listener>> listeners_;
    std::latch begun_{1};  // whatever changes from now on is told
    std::thread thread_;
};

}  // namespace jevrin::inline v1
