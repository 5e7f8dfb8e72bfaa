// Studies and runs on several ranks of an MPI job: real processes on this machine, beside what the same
// processors do without messages and without a ledger; and what a record costs rank 0, from which a thousand
// ranks are simulated.
#include "embedded.hpp"
#include "figures.hpp"
#include "glaze.hpp"
#include "measure.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/rank_message.hpp"
#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/study.hpp"

#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <filesystem>
#include <functional>
#include <map>
#include <mutex>
#include <queue>
#include <thread>

namespace {

using namespace jevrin;
using Clock = std::chrono::steady_clock;

// The demo's tiles in a directory of their own.
class Ground {
  public:
    Ground()
        : directory_(std::filesystem::temp_directory_path() / fmt::format("jevrin-ranks-{}", ::getpid())) {
        make_directory(directory_);
        demo::write_tiles(directory_ / "glaze", demo::plan_tiles(demo::default_seed), demo::default_seed, {});
        ::setenv("OMPI_ALLOW_RUN_AS_ROOT", "1", 1);
        ::setenv("OMPI_ALLOW_RUN_AS_ROOT_CONFIRM", "1", 1);
        ::setenv("OMPI_MCA_rmaps_base_oversubscribe", "1", 1);
    }
    ~Ground() {
        std::error_code ignored;
        std::filesystem::remove_all(directory_, ignored);
    }
    Ground(const Ground&) = delete;
    Ground& operator=(const Ground&) = delete;

    const std::filesystem::path& directory() const { return directory_; }
    std::filesystem::path plan(const std::string& seeds, const std::string& training,
                               const std::string& network) const {
        const std::filesystem::path file = directory_ / "plan.toml";
        write_file(file,
                   fmt::format("name = \"benchmark\"\nseeds = {}\n[images]\nfrom = \"glaze\"\nsize = 64\n"
                               "parts = {{ training = 0.6, validation = 0.2, test = 0.2 }}\n"
                               "[training]\nbatch = 16\n{}\n"
                               "[[candidate]]\nname = \"c\"\nregime = \"scratch\"\nnetwork = {}\n",
                               seeds, training, network));
        return file;
    }

  private:
    std::filesystem::path directory_;
};

const Ground& ground() {
    static const Ground made;
    return made;
}

const char* const demo_network =
    "{ family = \"residual\", widths = [16, 32, 64], blocks = 1, stem_stride = 2 }";
const char* const residual18 =
    "{ family = \"residual\", widths = [64, 128, 256, 512], blocks = 2, stem_stride = 1 }";

// Seconds until all of these commands have ended, side by side.
double seconds_of(const std::vector<std::string>& commands) {
    const auto begin = Clock::now();
    std::vector<pid_t> processes;
    for (const std::string& command : commands) {
        processes.push_back(::fork());
        if (processes.back() != 0) continue;
        ::execl("/bin/sh", "sh", "-c", ("exec " + command + " > /dev/null 2>&1").c_str(), nullptr);
        ::_exit(127);
    }
    bool failed = false;
    for (const pid_t process : processes) {
        int status = 0;
        ::waitpid(process, &status, 0);
        failed = failed || status != 0;
    }
    if (failed) throw std::runtime_error("a process failed: " + commands.front());
    return bench::seconds_since(begin);
}

// Seconds that the part behind the first `few` of `many` took: start and end of the processes cancel out.
double seconds_between(int few, int many, const std::function<std::vector<std::string>(int)>& commands) {
    const double shorter = seconds_of(commands(few));
    return (seconds_of(commands(many)) - shorter) / (many - few);
}

std::string train(const std::filesystem::path& plan, const std::string& options) {
    static int number = 0;
    return fmt::format("{} train {} --threads 1 --at-once 1 --ledger {}/ledger-{} {}", JEVRIN_PROGRAM,
                       plan.string(), ground().directory().string(), ++number, options);
}

// Four runs on four ranks, over four processes that train and do nothing else.
void run_throughput(benchmark::State& state) {
    std::vector<double> ratios;
    for (auto _ : state) {
        const double alone = seconds_between(3, 15, [](int epochs) {
            std::vector<std::string> commands;
            for (int seed = 1; seed <= 4; ++seed)
                commands.push_back(fmt::format("{} alone {} {} {}", JEVRIN_BENCH_RANKS,
                                               ground().directory().string(), epochs, seed));
            return commands;
        });
        const double ranks = seconds_between(3, 15, [](int epochs) {
            const auto plan = ground().plan("[1, 2, 3, 4]", fmt::format("epochs = {}", epochs), demo_network);
            return std::vector<std::string>{"mpirun -n 4 " + train(plan, "")};
        });
        ratios.push_back(alone / ranks);
        state.SetIterationTime(ranks);
    }
    state.SetLabel("x");
    state.counters["value"] = state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = 4;
}

// One run of two shards on two ranks, over one rank; beside two such runs at the same time, which share
// nothing but the processors.
void run_shards(benchmark::State& state) {
    std::vector<double> speedups;
    std::vector<double> limits;
    for (auto _ : state) {
        const auto plan = [](int steps) {
            return ground().plan("[1]", fmt::format("steps = {0}\nvalidate_every = {0}\nshards = 2", steps),
                                 residual18);
        };
        const double one = seconds_between(
            4, 24, [&](int steps) { return std::vector<std::string>{train(plan(steps), "")}; });
        const double two = seconds_between(4, 24, [&](int steps) {
            return std::vector<std::string>{"mpirun -n 2 " + train(plan(steps), "--ranks-per-run 2")};
        });
        const double apart = seconds_between(4, 24, [&](int steps) {
            return std::vector<std::string>{train(plan(steps), ""), train(plan(steps), "")};
        });
        speedups.push_back(one / two);
        limits.push_back(2.0 * one / apart);
        state.SetIterationTime(two);
    }
    state.SetLabel("x");
    state.counters["value"] = bench::median(speedups);
    state.counters["limit"] = bench::median(limits);
    state.counters["of_limit"] = bench::median(speedups) / bench::median(limits);
    state.counters["threads"] = 2;
}

// Two ranks as threads of this process. What rank 0 takes to answer is the time between two looks for
// messages.
class RecordedRanks {
  public:
    struct Kind {
        std::vector<double> seconds;
        std::size_t bytes = 0;
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
            Rank& other = to == 0 ? job_.zero_ : job_.one_;
            const std::lock_guard lock(other.mutex_);
            other.arrived_.push_back({number_, std::move(bytes)});
            other.changed_.notify_all();
        }
        std::optional<Bytes> receive(std::chrono::milliseconds wait) override {
            if (number_ == 0 && !in_work_.empty()) {
                Kind& kind = job_.kinds_[std::exchange(in_work_, "")];
                kind.seconds.push_back(bench::seconds_since(begun_));
                kind.bytes = std::max(kind.bytes, bytes_);
            }
            std::unique_lock lock(mutex_);
            if (!changed_.wait_for(lock, wait, [this] { return !arrived_.empty(); })) return std::nullopt;
            Bytes first = std::move(arrived_.front());
            arrived_.pop_front();
            if (number_ == 0) {
                in_work_ = unpacked(first).head.at("do").get<std::string>();
                bytes_ = first.bytes.size();
                begun_ = Clock::now();
            }
            return first;
        }
        std::unique_ptr<ShardLink> divide(int) override { return nullptr; }
        void abandon() noexcept override {}

      private:
        RecordedRanks& job_;
        int number_;
        std::mutex mutex_;
        std::condition_variable changed_;
        std::deque<Bytes> arrived_;
        std::string in_work_;  // of rank 0
        std::size_t bytes_ = 0;
        Clock::time_point begun_;
    };

    std::map<std::string, Kind> kinds_;
    Rank zero_;
    Rank one_;
};

// So many ranks that each send a record at the end of an epoch of so many seconds (within a fifth, drawn),
// the news of its batches and a sign of life; rank 0 answers one after the other, each in a time that was
// measured. The share of the time in which it is busy, and what a rank waits for the answer to a record.
struct Simulated {
    double busy = 0.0;
    double wait = 0.0;  // seconds, mean
};
Simulated simulate(int ranks, double epoch, const std::map<std::string, RecordedRanks::Kind>& kinds) {
    struct Event {
        double at;
        int rank;
        const char* kind;
        bool operator>(const Event& other) const { return at > other.at; }
    };
    std::priority_queue<Event, std::vector<Event>, std::greater<>> events;
    RandomStream random({1, Purpose::sample, 0, 0});
    const auto drawn = [&](double from, double to) {
        return from + (to - from) * static_cast<double>(random.below(1U << 20)) / (1U << 20);
    };
    constexpr double seconds_between_news = 0.3;
    constexpr double seconds_between_signs = 1.0;
    for (int rank = 0; rank < ranks; ++rank) {
        events.push({drawn(0.0, epoch), rank, "finish_epoch"});
        events.push({drawn(0.0, seconds_between_news), rank, "batch"});
        events.push({drawn(0.0, seconds_between_signs), rank, "alive"});
    }
    const double until = 20.0 * epoch;
    double free_at = 0.0;
    double busy = 0.0;
    double waited = 0.0;
    double records = 0.0;
    while (!events.empty() && events.top().at < until) {
        const Event event = events.top();
        events.pop();
        const std::vector<double>& times = kinds.at(event.kind).seconds;
        const double takes = times[random.below(static_cast<std::uint32_t>(times.size()))];
        const double begin = std::max(free_at, event.at);
        free_at = begin + takes;
        busy += takes;
        const std::string kind = event.kind;
        if (kind == "finish_epoch") {
            waited += free_at - event.at;
            ++records;
            events.push({free_at + drawn(0.8, 1.2) * epoch, event.rank, event.kind});
        } else {
            events.push({event.at + (kind == "batch" ? seconds_between_news : seconds_between_signs),
                         event.rank, event.kind});
        }
    }
    return {busy / std::max(until, free_at), waited / records};
}

// What rank 0 takes for the record of an epoch of the demo's network, durable; and how busy a thousand ranks
// with epochs of ten seconds would keep it.
void run_records(benchmark::State& state) {
    RecordedRanks job;
    const Plan plan = read_plan(ground().plan("[1, 2, 3, 4]", "epochs = 12", demo_network));
    const auto ledger = ground().directory() / "records";
    for (auto _ : state) {
        std::filesystem::remove_all(ledger);
        const auto begin = Clock::now();
        std::thread helper(
            [&] { help_train(job.rank(1), {.ledger = ground().directory() / "helper", .patience = 60.0}); });
        train_study(plan, ledger, {}, {.at_once = 1, .ranks = &job.rank(0)});
        helper.join();
        state.SetIterationTime(bench::seconds_since(begin));
    }
    const RecordedRanks::Kind& record = job.kinds().at("finish_epoch");
    state.SetLabel("ms");
    state.counters["value"] = 1e3 * bench::median(record.seconds);
    state.counters["bytes"] = static_cast<double>(record.bytes);
    state.counters["batch_ms"] = 1e3 * bench::median(job.kinds().at("batch").seconds);
    state.counters["alive_ms"] = 1e3 * bench::median(job.kinds().at("alive").seconds);
    for (const double epoch : {5.0, 10.0, 60.0}) {
        const Simulated simulated = simulate(1000, epoch, job.kinds());
        state.counters[fmt::format("busy_1000_ranks_{:.0f}s", epoch)] = simulated.busy;
        state.counters[fmt::format("wait_ms_1000_ranks_{:.0f}s", epoch)] = 1e3 * simulated.wait;
        if (epoch == 10.0) state.counters["ratio"] = simulated.busy;
    }
}

// A process of run_throughput(): a run without a ledger.
int train_alone(const std::filesystem::path& directory, std::int64_t epochs, std::uint64_t seed) {
    set_threads(1);
    const Plan plan = read_plan(directory / "alone.toml");
    const auto materials = gather_materials(plan);
    const Candidate& candidate = plan.candidates.front();
    CandidateNetwork built = build_network(plan, candidate, {}, materials->data.classes, seed);
    TrainingSettings settings = candidate.training;
    settings.epochs = epochs;
    RunTrainer trainer(materials->data, std::move(built.network), std::move(built.phases),
                       materials->scaling_for(candidate), settings, seed);
    while (!trainer.finished()) trainer.train_epoch();
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    if (argc == 5 && std::string(argv[1]) == "alone")
        return train_alone(argv[2], std::atoi(argv[3]), std::strtoull(argv[4], nullptr, 10));
    std::filesystem::copy_file(ground().plan("[1]", "epochs = 1", demo_network),
                               ground().directory() / "alone.toml");
    bench::add_figure("ranks/throughput/r4", 3, run_throughput);
    bench::add_figure("ranks/epoch_record", 1, run_records);
    bench::add_figure("shards/residual18_64/r2", 3, run_shards);
    return bench::run(argc, argv);
}
