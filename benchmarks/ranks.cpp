// Studies and runs on several ranks of an MPI job: real processes on this machine, beside what the same
// processors do without messages and without a ledger; and what a record costs rank 0, from which a thousand
// ranks are simulated.
#include "embedded.hpp"
#include "figures.hpp"
#include "glaze.hpp"
#include "measure.hpp"
#include "scaling_simulation.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/random.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/rank_message.hpp"
#include "jevrin/study/rank_study.hpp"
#include "jevrin/study/study.hpp"

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

// Epochs a second of commands that run side by side and print a line for each epoch. The first and last
// lines, so many of them, are left out: processes begin and end there.
double epochs_a_second(const std::vector<std::string>& commands, std::size_t left_out) {
    std::mutex mutex;
    std::vector<double> lines;
    bool failed = false;
    const auto begin = Clock::now();
    std::vector<std::thread> readers;
    for (const std::string& command : commands)
        readers.emplace_back([&, command] {
            FILE* pipe = ::popen((command + " 2> /dev/null").c_str(), "r");
            char line[4096];
            while (pipe != nullptr && std::fgets(line, sizeof line, pipe) != nullptr) {
                const std::lock_guard lock(mutex);
                if (std::string_view(line).find(" epoch ") != std::string_view::npos)
                    lines.push_back(bench::seconds_since(begin));
            }
            const int status = pipe == nullptr ? 1 : ::pclose(pipe);
            const std::lock_guard lock(mutex);
            failed = failed || status != 0;
        });
    for (std::thread& reader : readers) reader.join();
    if (failed || lines.size() < 2 * left_out + 2) throw std::runtime_error("failed: " + commands.front());
    const std::size_t last = lines.size() - 1 - left_out;
    return static_cast<double>(last - left_out) / (lines[last] - lines[left_out]);
}

std::string train(const std::filesystem::path& plan, const std::string& options) {
    static int number = 0;
    return fmt::format("{} train {} --threads 1 --at-once 1 --ledger {}/ledger-{} {}", JEVRIN_PROGRAM,
                       plan.string(), ground().directory().string(), ++number, options);
}

// Four runs on four ranks, over four processes that train and do nothing else, before and after.
void run_throughput(benchmark::State& state) {
    constexpr int epochs = 9;
    const auto alone = [&] {
        std::vector<std::string> commands;
        for (int seed = 1; seed <= 4; ++seed)
            commands.push_back(fmt::format("{} alone {} {} {}", JEVRIN_BENCH_RANKS,
                                           ground().directory().string(), epochs, seed));
        return epochs_a_second(commands, 8);
    };
    std::vector<double> ratios;
    double before = alone();
    for (auto _ : state) {
        const auto plan = ground().plan("[1, 2, 3, 4]", fmt::format("epochs = {}", epochs), demo_network);
        const double ranks = epochs_a_second({"mpirun -n 4 " + train(plan, "")}, 8);
        const double after = alone();
        ratios.push_back(ranks / ((before + after) / 2.0));
        before = after;
        state.SetIterationTime(1.0 / ranks);
    }
    state.SetLabel("x");
    state.counters["value"] = state.counters["ratio"] = bench::median(ratios);
    state.counters["least"] = *std::min_element(ratios.begin(), ratios.end());
    state.counters["most"] = *std::max_element(ratios.begin(), ratios.end());
    state.counters["threads"] = 4;
}

// One run of two shards on two ranks, over one rank; beside two such runs at the same time, which share
// nothing but the processors. An epoch is two steps here.
void run_shards(benchmark::State& state) {
    std::vector<double> speedups;
    std::vector<double> limits;
    for (auto _ : state) {
        const auto plan = ground().plan("[1]", "steps = 12\nvalidate_every = 2\nshards = 2", residual18);
        const double before = epochs_a_second({train(plan, "")}, 1);
        const double two = epochs_a_second({"mpirun -n 2 " + train(plan, "--ranks-per-run 2")}, 1);
        const double apart = epochs_a_second({train(plan, ""), train(plan, "")}, 2);
        const double one = (before + epochs_a_second({train(plan, "")}, 1)) / 2.0;
        speedups.push_back(two / one);
        limits.push_back(apart / one);
        state.SetIterationTime(1.0 / two);
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

// Studies of many runs on many nodes, with the times of rank 0 as they were measured here (a fifth of a
// second of records is enough for that).
void run_scaling(benchmark::State& state, int nodes, int runs, bool dearest_first, bool moves) {
    static const std::vector<double> service = [] {
        RecordedRanks job;
        const Plan plan = read_plan(ground().plan("[1, 2, 3, 4]", "epochs = 12", demo_network));
        std::thread helper(
            [&] { help_train(job.rank(1), {.ledger = ground().directory() / "helper", .patience = 60.0}); });
        train_study(plan, ground().directory() / "measured", {}, {.at_once = 1, .ranks = &job.rank(0)});
        helper.join();
        return job.kinds().at("finish_epoch").seconds;
    }();
    bench::SimulatedOutcome outcome;
    for (auto _ : state) {
        const auto begin = Clock::now();
        outcome = bench::simulate_study({.runs = runs,
                                         .nodes = nodes,
                                         .dearest_first = dearest_first,
                                         .moves = moves,
                                         .service = &service});
        state.SetIterationTime(bench::seconds_since(begin));
    }
    state.SetLabel("s");
    state.counters["value"] = outcome.makespan;
    state.counters["ratio"] = outcome.of_bound;
    state.counters["idle"] = outcome.idle;
    state.counters["rank0_busy"] = outcome.busy;
    state.counters["megabytes_a_second"] = outcome.megabytes;
    state.counters["moved"] = outcome.moved;
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
    while (!trainer.finished()) {
        trainer.train_epoch();
        fmt::print("one epoch more\n");
        std::fflush(stdout);
    }
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
    for (const int runs : {10, 100, 1000, 10000})
        for (const int nodes : {1, 10, 100, 1000}) {
            if (nodes > runs) continue;
            const std::string name = fmt::format("scaling/nodes{}/runs{}", nodes, runs);
            bench::add_figure(name, 1,
                              [=](benchmark::State& state) { run_scaling(state, nodes, runs, false, true); });
            bench::add_figure(name + "/dearest_first", 1,
                              [=](benchmark::State& state) { run_scaling(state, nodes, runs, true, true); });
            bench::add_figure(name + "/without_moves", 1, [=](benchmark::State& state) {
                run_scaling(state, nodes, runs, false, false);
            });
        }
    bench::add_figure("shards/residual18_64/r2", 1, run_shards);
    return bench::run(argc, argv);
}
