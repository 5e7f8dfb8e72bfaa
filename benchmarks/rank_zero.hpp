// What the messages of ranks cost rank 0: measured here, from which a thousand ranks are simulated.
#pragma once

#include "measure.hpp"

#include "jevrin/base/random.hpp"
#include "jevrin/study/ledger_run_keeper.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/planned_runs.hpp"
#include "jevrin/study/rank_message.hpp"
#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/study.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <chrono>
#include <condition_variable>
#include <deque>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <queue>
#include <string>
#include <thread>
#include <utility>
#include <vector>

namespace jevrin::bench {

// Two ranks as threads of this process. What rank 0 takes is the time from a message to its answer, or to the
// next look for messages.
class RecordedRanks {
  public:
    struct Kind {
        std::vector<double> seconds;
        std::string last;  // message
    };
    RecordedRanks() : zero_(*this, 0), one_(*this, 1) {}
    Ranks& rank(int number) { return number == 0 ? zero_ : one_; }
    const std::map<std::string, Kind>& kinds() const { return kinds_; }

  private:
    class Rank : public Ranks {
      public:
        Rank(RecordedRanks& job, int number) : job_(job), number_(number) {}
        int rank() const override { return number_; }
        int size() const override { return 2; }
        int on_this_machine() const override { return 2; }
        void send(int to, std::string bytes) override {
            if (number_ == 0 && unpacked({.from = 0, .bytes = bytes}).head.contains("answer"))
                over("finish_epoch");
            Rank& other = to == 0 ? job_.zero_ : job_.one_;
            const std::lock_guard lock(other.mutex_);
            other.arrived_.push_back({number_, std::move(bytes)});
            other.changed_.notify_all();
        }
        std::optional<Bytes> receive(std::chrono::milliseconds wait) override {
            // Those that have no answer, or a short one, are over when the next is looked for.
            for (const char* what : {"batch", "alive"}) over(what);
            std::unique_lock lock(mutex_);
            if (!changed_.wait_for(lock, wait, [this] { return !arrived_.empty(); })) return std::nullopt;
            Bytes first = std::move(arrived_.front());
            arrived_.pop_front();
            if (number_ == 0)
                begun_[unpacked(first).head.at("do").get<std::string>()] = {std::chrono::steady_clock::now(),
                                                                            first.bytes};
            return first;
        }
        std::unique_ptr<ShardLink> divide(int) override { return nullptr; }
        void abandon() noexcept override {}

      private:
        void over(const std::string& what) {
            const auto found = begun_.find(what);
            if (found == begun_.end()) return;
            job_.kinds_[what].seconds.push_back(seconds_since(found->second.first));
            job_.kinds_[what].last = std::move(found->second.second);
            begun_.erase(found);
        }

        RecordedRanks& job_;
        int number_;
        std::mutex mutex_;
        std::condition_variable changed_;
        std::deque<Bytes> arrived_;
        std::map<std::string, std::pair<std::chrono::steady_clock::time_point, std::string>>
            begun_;  // of rank 0
    };

    std::map<std::string, Kind> kinds_;
    Rank zero_;
    Rank one_;
};

// A study on two ranks, one of them this.
inline std::map<std::string, RecordedRanks::Kind> messages_of_study(const Plan& plan,
                                                                    const std::filesystem::path& directory) {
    RecordedRanks job;
    std::thread helper([&] { help_train(job.rank(1), {.ledger = directory / "helper", .patience = 60.0}); });
    train_study(plan, directory / "ledger", {}, {.at_once = 1, .ranks = &job.rank(0)});
    helper.join();
    return job.kinds();
}

// Seconds of rank 0 for a record, and for each further one that is kept together with it; and what writing
// and syncing a file of the same bytes takes.
struct RecordCost {
    double one = 0.0;
    double further = 0.0;
    double file = 0.0;
    std::size_t bytes = 0;
};

inline double plain_write(const std::filesystem::path& file, std::string_view bytes) {
    const auto begin = std::chrono::steady_clock::now();
    const int descriptor = ::open(file.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    if (::write(descriptor, bytes.data(), bytes.size()) != std::ssize(bytes) || ::fsync(descriptor) != 0)
        throw std::runtime_error("cannot write " + file.string());
    ::close(descriptor);
    return seconds_since(begin);
}

// message: the record of an epoch of a run of this plan, whose ledger is in the directory.
inline RecordCost record_cost(const Plan& plan, const std::filesystem::path& directory,
                              const std::string& message) {
    constexpr std::size_t together = 16;
    constexpr int rounds = 12;
    const RankMessage record = unpacked({.from = 1, .bytes = message});
    LedgerWriter writer = LedgerWriter::open(directory / "ledger");
    const auto materials = gather_materials(plan);
    const auto items = item_ids(*materials, validation_items(*materials, plan_runs(*materials).front()));
    const StudyId study = writer.ledger().study().id;
    const SplitId split = writer.ledger().runs(study).front().split;
    std::vector<PlaceLock> claims;
    std::vector<std::unique_ptr<LedgerRunKeeper>> keepers;
    claims.reserve(together);
    for (std::size_t i = 0; i < together; ++i) {
        const RunId run = writer.put_run(
            study,
            {.candidate = "kept", .seed = static_cast<std::int64_t>(i), .split = split, .settings = "{}"});
        claims.push_back(writer.claim(run).value());
        keepers.push_back(std::make_unique<LedgerRunKeeper>(writer, claims.back(), run, items));
    }
    std::int64_t epoch = 0;
    const auto keep = [&](std::size_t count) {
        const auto begin = std::chrono::steady_clock::now();
        std::vector<LedgerRunKeeper::FinishedEpoch> finished;
        ++epoch;
        for (std::size_t i = 0; i < count; ++i) {
            finished.push_back({*keepers[i], as_bytes(record.body),
                                note_from_text(record.head.at("note").get<std::string>()).value()});
            finished.back().note.epoch.epoch = epoch;
        }
        LedgerRunKeeper::finish_epochs(writer, finished);
        return seconds_since(begin);
    };
    std::vector<double> one;
    std::vector<double> all;
    std::vector<double> file;
    for (int round = 0; round < rounds; ++round) {
        one.push_back(keep(1));
        all.push_back(keep(together));
        file.push_back(plain_write(directory / "plain", record.body));
    }
    return {.one = median(one),
            .further = (median(all) - median(one)) / (together - 1),
            .file = median(file),
            .bytes = message.size()};
}

// So many ranks that each send a record at the end of an epoch of so many seconds (within a fifth, drawn),
// the news of its batches and a sign of life; rank 0 answers in turn, and records that wait together. The
// share of the time in which it is busy, and what a rank waits for the answer to a record.
struct RankZeroLoad {
    double busy = 0.0;
    double wait = 0.0;  // seconds, mean
};
inline RankZeroLoad simulate_ranks(int ranks, double epoch, const RecordCost& cost, double news,
                                   double sign) {
    enum class Kind { of_record, of_news, of_sign };
    struct Event {
        double at;
        Kind kind;
        bool operator>(const Event& other) const { return at > other.at; }
    };
    std::priority_queue<Event, std::vector<Event>, std::greater<>> events;
    RandomStream random({1, Purpose::sample, 0, 0});
    const auto drawn = [&](double from, double to) {
        return from + (to - from) * static_cast<double>(random.below(1U << 20)) / (1U << 20);
    };
    constexpr double seconds_between_news = 0.3;
    constexpr double seconds_between_signs = 1.0;
    constexpr std::size_t most_together = 16;
    for (int rank = 0; rank < ranks; ++rank) {
        events.push({drawn(0.0, epoch), Kind::of_record});
        events.push({drawn(0.0, seconds_between_news), Kind::of_news});
        events.push({drawn(0.0, seconds_between_signs), Kind::of_sign});
    }
    const double until = 20.0 * epoch;
    double now = 0.0;
    double busy = 0.0;
    double waited = 0.0;
    double records = 0.0;
    while (events.top().at < until) {
        now = std::max(now, events.top().at);
        double takes = 0.0;
        std::vector<double> sent;
        while (!events.empty() && events.top().at <= now && sent.size() < most_together) {
            const Event event = events.top();
            events.pop();
            if (event.kind == Kind::of_record) {
                takes += sent.empty() ? cost.one : cost.further;
                sent.push_back(event.at);
            } else {
                const bool is_news = event.kind == Kind::of_news;
                takes += is_news ? news : sign;
                events.push(
                    {event.at + (is_news ? seconds_between_news : seconds_between_signs), event.kind});
            }
        }
        now += takes;
        busy += takes;
        for (const double at : sent) {
            waited += now - at;
            ++records;
            events.push({now + drawn(0.8, 1.2) * epoch, Kind::of_record});
        }
    }
    return {busy / now, waited / records};
}

}  // namespace jevrin::bench
