// The keys of a service in memory: who asks, and whether they may.
#pragma once

#include "jevrin/server/http_message.hpp"
#include "jevrin/server/service_store.hpp"

#include <chrono>
#include <filesystem>
#include <map>
#include <mutex>
#include <optional>
#include <string>

namespace jevrin::inline v1 {

// Safe to call from several threads. Keys that are added or removed in the store count within a second.
class KeyRing {
  public:
    explicit KeyRing(const std::filesystem::path& directory) : store_(directory) {}

    struct Pass {
        std::string key;                      // its name; empty: none was shown, or it is unknown
        std::optional<HttpResponse> refusal;  // none: it may
    };
    // 401 without a known key, 403 for one that does not allow this, 429 when it asks too often.
    Pass check(const HttpRequest& request, Right right);

  private:
    using Clock = std::chrono::steady_clock;
    // Requests that a key may still make; it fills up in a minute.
    struct Bucket {
        double left = 0.0;
        Clock::time_point filled;
    };

    std::optional<ServiceKey> known(const std::string& secret);
    bool takes_one(const ServiceKey& key);

    std::mutex mutex_;
    ServiceStore store_;
    std::map<std::string, std::optional<ServiceKey>> seen_;  // by secret
    std::map<std::string, Bucket> buckets_;                  // by name
    std::int64_t changes_ = -1;
    Clock::time_point asked_;
};

}  // namespace jevrin::inline v1
