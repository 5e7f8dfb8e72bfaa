// Answers of the page's routes, kept while they hold.
#pragma once

#include <algorithm>
#include <chrono>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <functional>
#include <future>
#include <list>
#include <mutex>
#include <string>
#include <utility>

namespace jevrin::inline v1 {

// Answers that cost something, as long as they hold; who asks for what somebody else computes waits for it.
// Those that were not asked for longest go first.
class AnswerCache {
  public:
    std::string get(const std::string& question, std::int64_t revision,
                    const std::function<std::string()>& compute) {
        std::promise<std::string> promise;
        std::shared_future<std::string> answer;
        bool is_mine = false;
        {
            const std::lock_guard lock(mutex_);
            const auto known = std::find_if(answers_.begin(), answers_.end(), [&](const Answer& one) {
                return one.question == question && one.revision == revision;
            });
            if (known != answers_.end()) {
                answers_.splice(answers_.begin(), answers_, known);
            } else {
                is_mine = true;
                answers_.push_front({question, revision, promise.get_future().share()});
            }
            answer = answers_.front().text;
        }
        if (!is_mine) return answer.get();
        try {
            std::string text = compute();
            keep(text.size());
            promise.set_value(std::move(text));
        } catch (...) {
            forget(question, revision);
            promise.set_exception(std::current_exception());
        }
        return answer.get();
    }

  private:
    static constexpr std::size_t most_bytes = std::size_t{64} << 20;
    struct Answer {
        std::string question;
        std::int64_t revision = 0;
        std::shared_future<std::string> text;
    };

    static bool is_there(const Answer& answer) {
        return answer.text.wait_for(std::chrono::seconds(0)) == std::future_status::ready;
    }
    void keep(std::size_t bytes) {
        const std::lock_guard lock(mutex_);
        bytes_ += bytes;
        while (bytes_ > most_bytes && answers_.size() > 1 && is_there(answers_.back())) {
            bytes_ -= std::min(bytes_, answers_.back().text.get().size());
            answers_.pop_back();
        }
    }
    void forget(const std::string& question, std::int64_t revision) {
        const std::lock_guard lock(mutex_);
        std::erase_if(answers_, [&](const Answer& one) {
            return one.question == question && one.revision == revision;
        });
    }

    std::mutex mutex_;
    std::list<Answer> answers_;
    std::size_t bytes_ = 0;
};

}  // namespace jevrin::inline v1
