#include "jevrin/server/key_ring.hpp"

#include "jevrin/server/problem.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t most_seen = 10'000;
constexpr std::chrono::milliseconds between_readings{500};

// Of "Authorization: Bearer KEY"; empty when there is none.
std::string bearer_of(const HttpRequest& request) {
    const std::string header = request.header("authorization");
    constexpr std::string_view scheme = "bearer ";
    if (header.size() <= scheme.size()) return "";
    for (std::size_t i = 0; i < scheme.size(); ++i)
        if (std::tolower(static_cast<unsigned char>(header[i])) != scheme[i]) return "";
    return header.substr(scheme.size());
}

}  // namespace

// A secret is looked up by its hash, which takes as long for every guess.
std::optional<ServiceKey> KeyRing::known(const std::string& secret) {
    const auto now = Clock::now();
    if (changes_ < 0 || now - asked_ >= between_readings) {
        asked_ = now;
        if (const std::int64_t changes = store_.changes(); changes != changes_) {
            changes_ = changes;
            seen_.clear();
        }
    }
    if (const auto found = seen_.find(secret); found != seen_.end()) return found->second;
    std::optional<ServiceKey> key = store_.key_of(secret);
    if (!key) return key;  // guesses are not remembered
    if (seen_.size() >= most_seen) seen_.clear();
    return seen_[secret] = key;
}

bool KeyRing::takes_one(const ServiceKey& key) {
    if (key.per_minute == 0) return true;
    const auto now = Clock::now();
    const auto most = static_cast<double>(key.per_minute);
    const auto [place, is_new] = buckets_.try_emplace(key.name, Bucket{.left = most, .filled = now});
    Bucket& bucket = place->second;
    bucket.left = std::min(
        most, bucket.left + most / 60.0 * std::chrono::duration<double>(now - bucket.filled).count());
    bucket.filled = now;
    if (bucket.left < 1.0) return false;
    bucket.left -= 1.0;
    return true;
}

KeyRing::Pass KeyRing::check(const HttpRequest& request, Right right) {
    const std::string secret = bearer_of(request);
    const std::lock_guard lock(mutex_);
    const std::optional<ServiceKey> key = known(secret);
    if (!key) {
        HttpResponse response = problem(401, "show a key that is known here: Authorization: Bearer KEY");
        response.headers.emplace_back("WWW-Authenticate", "Bearer");
        return {.key = "", .refusal = std::move(response)};
    }
    if (!key->may.contains(right))
        return {.key = key->name,
                .refusal = problem(403, "this key does not allow '" + name_of(right) + "'")};
    if (!takes_one(*key)) {
        HttpResponse response = problem(429, "this key has made as many requests as it may in a minute");
        response.headers.emplace_back("Retry-After",
                                      std::to_string(60 / std::min<std::int64_t>(60, key->per_minute) + 1));
        return {.key = key->name, .refusal = std::move(response)};
    }
    return {.key = key->name, .refusal = std::nullopt};
}

}  // namespace jevrin::inline v1
