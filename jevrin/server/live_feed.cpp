#include "jevrin/server/live_feed.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/pages/news.hpp"
#include "jevrin/results/training_result.hpp"

#include <algorithm>

namespace jevrin::inline v1 {
namespace {

using std::chrono::milliseconds;

constexpr milliseconds shortest_wait{200};
constexpr milliseconds longest_wait{750};
// Drawing what is new takes time, too.
constexpr milliseconds wait_after_news{750};
// Of one core, what following may take: a training beside it must not notice.
constexpr int wait_per_work = 50;
// A listener that does not keep up is told to ask anew.
constexpr std::size_t most_events = 200;

std::string event_of(const char* name, const Json& data) {
    return std::string("event: ") + name + "\ndata: " + json_text(data) + "\n\n";
}

}  // namespace

std::optional<std::string> LiveFeed::Listener::next(milliseconds patience) {
    std::unique_lock lock(mutex_);
    told_.wait_for(lock, patience, [this] { return ended_ || !events_.empty(); });
    if (ended_) return std::nullopt;
    if (events_.empty()) return ": nothing new\n\n";
    std::string all;
    for (const std::string& event : events_) all += event;
    events_.clear();
    return all;
}

LiveFeed::LiveFeed(const std::filesystem::path& ledger, const std::string& study)
    : directory_(ledger), study_(study), thread_([this] { follow(); }) {
    begun_.wait();
}

LiveFeed::~LiveFeed() {
    end();
    thread_.join();
}

void LiveFeed::end() {
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
        for (const auto& listener : listeners_) {
            const std::lock_guard of_listener(listener->mutex_);
            listener->ended_ = true;
            listener->told_.notify_all();
        }
    }
    stopped_.notify_all();
}

LiveFeed::Revisions LiveFeed::revisions() const {
    const std::lock_guard lock(mutex_);
    return revisions_;
}

std::shared_ptr<LiveFeed::Listener> LiveFeed::listen() {
    auto listener = std::make_shared<Listener>();
    listener->events_.push_back(event_of("state", {{"revision", revisions().change}}));
    const std::lock_guard lock(mutex_);
    listener->ended_ = stop_;
    // Those that nobody holds any more are gone.
    std::erase_if(listeners_, [](const auto& one) { return one.use_count() == 1; });
    listeners_.insert(listener);
    return listener;
}

void LiveFeed::changed() {
    count(false, false);
}

std::int64_t LiveFeed::count(bool finished, bool begun_anew) {
    const std::lock_guard lock(mutex_);
    if (begun_anew) ++revisions_.generation;
    if (finished || begun_anew) ++revisions_.results;
    return ++revisions_.change;
}

void LiveFeed::tell(const std::string& event) {
    const std::lock_guard lock(mutex_);
    std::erase_if(listeners_, [](const auto& one) { return one.use_count() == 1; });
    for (const auto& listener : listeners_) {
        const std::lock_guard of_listener(listener->mutex_);
        if (listener->events_.size() >= most_events) {
            listener->events_.clear();
            listener->events_.push_back(event_of("state", {{"revision", revisions_.change}}));
        } else {
            listener->events_.push_back(event);
        }
        listener->told_.notify_all();
    }
}

void LiveFeed::follow() {
    const auto stopped = [this](milliseconds wait) {
        std::unique_lock lock(mutex_);
        return stopped_.wait_for(lock, wait, [this] { return stop_; });
    };
    bool first = true;
    const auto begin = [&] {
        if (std::exchange(first, false)) begun_.count_down();
    };
    for (bool lost = false; !stopped(milliseconds(0));) {
        try {
            const Ledger ledger = Ledger::open(directory_);
            const StudyRecord study = ledger.study(study_);
            StudyFollower follower(ledger, study);
            bool same_images = true;
            std::int64_t changes = ledger.changes();
            begin();
            if (std::exchange(lost, false)) tell(event_of("state", {{"revision", revisions().change}}));
            for (milliseconds wait = shortest_wait; same_images && !stopped(wait);) {
                const auto begun = std::chrono::steady_clock::now();
                // Seen before anything is read, so that nothing is missed.
                const std::int64_t now = ledger.changes();
                const bool changed = std::exchange(changes, now) != now;
                const StudyFollower::News news = follower.news();
                if (changed) same_images = ledger.study(study_).image_set == study.image_set;
                if (changed || !news.empty()) {
                    const bool finished = std::any_of(news.changed.begin(), news.changed.end(),
                                                      [](const RunRecord& run) { return run.is_over(); });
                    const std::int64_t revision = count(finished, news.begun_anew || !same_images);
                    tell(news.begun_anew ? event_of("state", {{"revision", revision}})
                                         : event_of("news", news_data(news, follower.progress(), revision)));
                }
                const auto took =
                    std::chrono::duration_cast<milliseconds>(std::chrono::steady_clock::now() - begun);
                wait =
                    std::clamp(took * wait_per_work, changed ? wait_after_news : shortest_wait, longest_wait);
            }
        } catch (const Error& error) {
            tell(event_of("lost", {{"reason", error.what()}}));
            lost = true;
            count(true, true);
            begin();
            if (stopped(milliseconds(2000))) return;
        }
    }
}

}  // namespace jevrin::inline v1
