#include "jevrin/study/rank_client.hpp"

#include "jevrin/base/error.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <utility>

namespace jevrin::inline v1 {
namespace {

constexpr std::chrono::milliseconds listening{20};  // between looks at a network where no answer is awaited
constexpr double seconds_between_signs = 1.0;

}  // namespace

RankClient::RankClient(Ranks& ranks, double patience) : ranks_(ranks), patience_(patience) {
    listener_ = std::thread([this] { listen(); });
}

RankClient::~RankClient() {
    {
        const std::lock_guard lock(mutex_);
        end_ = true;
        asking_.notify_all();
    }
    listener_.join();
}

bool RankClient::is_lost() const {
    const std::lock_guard lock(mutex_);
    return lost_;
}

// Hears answers, and lets rank 0 know that this rank lives.
void RankClient::listen() {
    using Clock = std::chrono::steady_clock;
    double silent = 0.0;
    double since_sign = 0.0;
    bool greeted = false;  // before its first answer rank 0 reads images, for as long as that takes
    Clock::time_point before = Clock::now();
    std::string why;
    try {
        while (!end_) {
            const bool awaits = [&] {
                std::unique_lock lock(mutex_);
                return asking_.wait_for(lock, listening, [this] { return !open_.empty() || end_; });
            }();
            const auto bytes = ranks_.receive(awaits ? listening : std::chrono::milliseconds(0));
            const Clock::time_point now = Clock::now();
            // A job that was held and let go has not waited.
            const double passed = std::min(1.0, std::chrono::duration<double>(now - before).count());
            before = now;
            silent += passed;
            since_sign += passed;
            if (greeted && since_sign >= seconds_between_signs) {
                ranks_.send(0, packed({{"do", "alive"}}));
                since_sign = 0.0;
            }
            if (bytes) {
                silent = 0.0;
                greeted = true;
                RankMessage message = unpacked(*bytes);
                if (message.head.contains("stop")) stop_ = true;
                if (message.head.contains("go")) {
                    const std::lock_guard lock(mutex_);
                    home_ = true;
                    answered_.notify_all();
                    return;
                }
                const Json* number = message.head.find("answer");
                if (number == nullptr) continue;
                const std::lock_guard lock(mutex_);
                open_[number->get<std::int64_t>()] = std::move(message);
                answered_.notify_all();
            } else if (greeted && silent > patience_) {
                why = fmt::format("rank 0 has not been heard of for {:.0f} seconds", patience_);
                break;
            }
        }
    } catch (const Error& error) {
        why = error.what();
    }
    if (why.empty()) return;
    const std::lock_guard lock(mutex_);
    lost_ = true;
    why_lost_ = why;
    stop_ = true;
    answered_.notify_all();
}

RankMessage RankClient::ask(Json head, std::string_view body) {
    std::int64_t number = 0;
    {
        const std::lock_guard lock(mutex_);
        number = ++asked_;
        open_[number] = std::nullopt;
        asking_.notify_all();
    }
    head["question"] = number;
    ranks_.send(0, packed(head, body));
    std::unique_lock lock(mutex_);
    answered_.wait(lock, [&] { return lost_ || home_ || open_[number].has_value(); });
    std::optional<RankMessage> answer = std::move(open_[number]);
    open_.erase(number);
    if (!answer && home_) throw Interrupted("rank 0 has nothing to train");
    if (!answer) throw WorkError(why_lost_ + "; what rank 0 recorded is kept, and the same job continues it");
    if (const Json* refused = answer->head.find("refused")) throw WorkError(refused->get<std::string>());
    return std::move(*answer);
}

void RankClient::tell(const Json& head) {
    ranks_.send(0, packed(head));
}

}  // namespace jevrin::inline v1
