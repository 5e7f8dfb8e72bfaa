// Studies and runs on several ranks of an MPI job: real processes on this machine, beside what the same
// processors do without messages and without a ledger; and what a record costs rank 0, from which a thousand
// ranks are simulated.
#include "embedded.hpp"
#include "figures.hpp"
#include "glaze.hpp"
#include "measure.hpp"
#include "rank_zero.hpp"
#include "scaling_simulation.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/study/study.hpp"

#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <limits>
#include <map>
#include <mutex>
#include <thread>
#include <vector>

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
                               const std::string& network, double held_out = 0.2) const {
        const std::filesystem::path file = directory_ / "plan.toml";
        write_file(file,
                   fmt::format("name = \"benchmark\"\nseeds = {}\n[images]\nfrom = \"glaze\"\nsize = 64\n"
                               "parts = {{ training = {}, validation = {}, test = {} }}\n"
                               "[training]\nbatch = 16\n{}\n"
                               "[[candidate]]\nname = \"c\"\nregime = \"scratch\"\nnetwork = {}\n",
                               seeds, 1.0 - 2.0 * held_out, held_out, held_out, training, network));
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

// Epochs a second of all runs of commands that run side by side and print a line for each epoch, "RUN epoch
// ...": each run's from its first line to its last, so that nothing counts what processes do before and
// after.
double epochs_a_second(const std::vector<std::string>& commands) {
    std::mutex mutex;
    std::map<std::string, std::vector<double>> lines;  // by command and run
    const auto begin = Clock::now();
    std::vector<std::thread> readers;
    for (const std::string& command : commands)
        readers.emplace_back([&, command] {
            FILE* pipe = ::popen((command + " 2> /dev/null").c_str(), "r");
            char line[4096];
            while (pipe != nullptr && std::fgets(line, sizeof line, pipe) != nullptr) {
                const std::string text = line;
                const std::size_t end = text.find(" epoch ");
                const std::lock_guard lock(mutex);
                if (end != std::string::npos)
                    lines[command + text.substr(0, end)].push_back(bench::seconds_since(begin));
            }
            if (pipe != nullptr && ::pclose(pipe) != 0) fmt::print(stderr, "failed: {}\n", command);
        });
    for (std::thread& reader : readers) reader.join();
    double rate = 0.0;
    for (const auto& [run, times] : lines)
        rate += static_cast<double>(times.size() - 1) / (times.back() - times.front());
    return rate;
}

// A command that trains with one thread, and where.
struct Training {
    std::string command;
    std::filesystem::path ledger;
};
Training train(const std::filesystem::path& plan, const std::string& before = "",
               const std::string& options = "") {
    static int number = 0;
    const auto ledger = ground().directory() / fmt::format("ledger-{}", ++number);
    return {fmt::format("{} {} train {} --threads 1 --at-once 1 --ledger {} {}", before, JEVRIN_PROGRAM,
                        plan.string(), ledger.string(), options),
            ledger};
}

// Carries them out side by side; what each ledger records of the steps of the fastest epoch of its only run.
std::vector<double> seconds_of_epoch(const std::vector<Training>& trainings) {
    std::vector<std::thread> side_by_side;
    for (const Training& training : trainings)
        side_by_side.emplace_back([&] {
            if (std::system((training.command + " > /dev/null 2>&1").c_str()) != 0)
                fmt::print(stderr, "failed: {}\n", training.command);
        });
    for (std::thread& one : side_by_side) one.join();
    std::vector<double> seconds;
    for (const Training& training : trainings) {
        const Ledger ledger = Ledger::open(training.ledger);
        double fastest = std::numeric_limits<double>::infinity();
        for (const EpochRecord& epoch : ledger.curve(ledger.runs(ledger.study().id).front().id))
            fastest = std::min(fastest, epoch.compute_seconds);
        seconds.push_back(fastest);
    }
    return seconds;
}

// Four runs on four ranks, over four processes that train and do nothing else, before and after.
void run_throughput(benchmark::State& state) {
    constexpr int epochs = 9;
    const auto alone = [&] {
        std::vector<std::string> commands;
        for (int seed = 1; seed <= 4; ++seed)
            commands.push_back(fmt::format("{} alone {} {} {}", JEVRIN_BENCH_RANKS,
                                           ground().directory().string(), epochs, seed));
        return epochs_a_second(commands);
    };
    std::vector<double> ratios;
    double before = alone();
    for (auto _ : state) {
        const auto plan = ground().plan("[1, 2, 3, 4]", fmt::format("epochs = {}", epochs), demo_network);
        const double ranks = epochs_a_second({train(plan, "mpirun -n 4").command});
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
// nothing but the processors. By what the ledgers record of the steps of the fastest epoch: ranks that share
// a run wait for the slower one in each step, so that any disturbance of one processor counts twice.
void run_shards(benchmark::State& state) {
    std::vector<double> speedups;
    std::vector<double> limits;
    for (auto _ : state) {
        const auto plan =
            ground().plan("[1]", "steps = 12\nvalidate_every = 2\nshards = 2", residual18, 0.05);
        const double before = seconds_of_epoch({train(plan)}).front();
        const double two = seconds_of_epoch({train(plan, "mpirun -n 2", "--ranks-per-run 2")}).front();
        const std::vector<double> apart = seconds_of_epoch({train(plan), train(plan)});
        const double one = (before + seconds_of_epoch({train(plan)}).front()) / 2.0;
        speedups.push_back(one / two);
        limits.push_back(one / apart[0] + one / apart[1]);
        state.SetIterationTime(two);
    }
    state.SetLabel("x");
    state.counters["value"] = bench::median(speedups);
    state.counters["limit"] = bench::median(limits);
    state.counters["of_limit"] = bench::median(speedups) / bench::median(limits);
    state.counters["threads"] = 2;
}

// What rank 0 takes for the record of an epoch of the demo's network, durable, over the time of a file of the
// same bytes; and how busy a thousand ranks with epochs of 5, 10 and 60 seconds would keep it.
void run_records(benchmark::State& state) {
    const Plan plan = read_plan(ground().plan("[1, 2, 3, 4]", "epochs = 12", demo_network));
    const auto directory = ground().directory() / "records";
    make_directory(directory);
    const auto messages = bench::messages_of_study(plan, directory);
    bench::RecordCost cost;
    for (auto _ : state) {
        const auto begin = Clock::now();
        cost = bench::record_cost(plan, directory, messages.at("finish_epoch").last);
        state.SetIterationTime(bench::seconds_since(begin));
    }
    const double news = bench::median(messages.at("batch").seconds);
    const double sign = bench::median(messages.at("alive").seconds);
    state.SetLabel("ms");
    state.counters["value"] = 1e3 * cost.one;
    state.counters["ratio"] = cost.one / cost.file;
    state.counters["further_ms"] = 1e3 * cost.further;
    state.counters["file_ms"] = 1e3 * cost.file;
    state.counters["while_training_ms"] = 1e3 * bench::median(messages.at("finish_epoch").seconds);
    state.counters["bytes"] = static_cast<double>(cost.bytes);
    state.counters["news_ms"] = 1e3 * news;
    state.counters["sign_ms"] = 1e3 * sign;
    for (const double epoch : {5.0, 10.0, 60.0}) {
        const bench::RankZeroLoad load = bench::simulate_ranks(1000, epoch, cost, news, sign);
        state.counters[fmt::format("busy_1000_ranks_{:.0f}s", epoch)] = load.busy;
        state.counters[fmt::format("wait_ms_1000_ranks_{:.0f}s", epoch)] = 1e3 * load.wait;
    }
}

// Studies of many runs on many nodes, with the times of rank 0 as they were measured here, each record by
// itself.
void run_scaling(benchmark::State& state, int nodes, int runs, bool dearest_first, bool moves) {
    static const std::vector<double> service = [] {
        const auto directory = ground().directory() / "measured";
        make_directory(directory);
        const Plan plan = read_plan(ground().plan("[1, 2, 3, 4]", "epochs = 12", demo_network));
        return bench::messages_of_study(plan, directory).at("finish_epoch").seconds;
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
        fmt::print("alone epoch more\n");
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
