// The service over HTTP, as programs on the same machine use it: rates beside what is promised, as a ratio of
// it.
#include "figures.hpp"
#include "large_ledger.hpp"
#include "measure.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/server/service_server.hpp"
#include "jevrin/server/service_store.hpp"

#include <fmt/format.h>
#include <httplib.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <filesystem>
#include <thread>

namespace {

using namespace jevrin;

// A ledger of its own, removed at the end: 50 classes, 650 validation items.
class Ground {
  public:
    Ground() {
        std::filesystem::create_directories(directory_);
        bench::make_large_ledger(directory_, {.candidates = 1, .seeds = 1, .epochs = 2, .classes = 50});
        const Ledger ledger = Ledger::open(directory_);
        split_ = ledger.split_hash(ledger.split_with_fold(ledger.study().id, 0));
        items_ = ledger.count_items(ledger.split_with_fold(ledger.study().id, 0), Part::validation);
        key_ = ServiceStore(directory_).add_key({.name = "bench", .may = {Right::runs}});
    }
    ~Ground() { std::filesystem::remove_all(directory_); }

    const std::filesystem::path& directory() const { return directory_; }
    const std::string& key() const { return key_; }
    std::string run_text(const std::string& candidate, int seed) const {
        return json_text(
            {{"split", split_}, {"candidate", candidate}, {"regime", "scratch"}, {"seed", seed}});
    }
    // Two thirds of the items are right.
    std::string epoch_text(int epoch) const {
        std::vector<std::int64_t> predicted;
        for (std::int64_t i = 0; i < items_; ++i)
            predicted.push_back((i * 50 / items_ + (i % 3 == 0 ? i + epoch : 0)) % 50);
        return json_text({{"training_loss", 1.0 / epoch},
                          {"validation_loss", 1.1 / epoch},
                          {"learning_rate", 0.1},
                          {"seconds", 12.5},
                          {"predicted", predicted}});
    }

  private:
    std::filesystem::path directory_ =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-service-{}", ::getpid());
    std::string split_;
    std::int64_t items_ = 0;
    std::string key_;
};

double percentile(std::vector<double> values, double share) {
    std::sort(values.begin(), values.end());
    return values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1))];
}

// Programs that train at the same time, each with a connection that stays open.
void append_epochs(benchmark::State& state, int programs) {
    constexpr int epochs = 200;
    constexpr double promised = 500.0;
    const Ground ground;
    ServiceServer server({.ledger = ground.directory()}, {});
    int round = 0;
    std::vector<double> rates;
    std::vector<double> milliseconds;
    for (auto _ : state) {
        std::vector<std::vector<double>> waits(static_cast<std::size_t>(programs));
        std::atomic<int> failed{0};
        const std::string candidate = fmt::format("round {}", ++round);
        std::vector<std::string> bodies;
        for (int e = 1; e <= epochs; ++e) bodies.push_back(ground.epoch_text(e));
        const auto begin = std::chrono::steady_clock::now();
        std::vector<std::thread> threads;
        for (int p = 0; p < programs; ++p)
            threads.emplace_back([&, p] {
                httplib::Client client(server.address());
                client.set_keep_alive(true);
                client.set_tcp_nodelay(true);
                client.set_bearer_token_auth(ground.key().c_str());
                const auto created =
                    client.Post("/v1/runs", ground.run_text(candidate, p + 1), "application/json");
                if (!created || created->status != 201) ++failed;
                const std::int64_t run = parse_json(created->body).at("id").get<std::int64_t>();
                for (int e = 1; e <= epochs; ++e) {
                    const auto sent = std::chrono::steady_clock::now();
                    const auto answer =
                        client.Put(fmt::format("/v1/runs/{}/epochs/{}", run, e).c_str(),
                                   bodies[static_cast<std::size_t>(e - 1)], "application/json");
                    if (!answer || answer->status != 201) ++failed;
                    waits[static_cast<std::size_t>(p)].push_back(1e3 * bench::seconds_since(sent));
                }
            });
        for (std::thread& thread : threads) thread.join();
        const double seconds = bench::seconds_since(begin);
        if (failed > 0) state.SkipWithError("a request was refused");
        state.SetIterationTime(seconds);
        rates.push_back(programs * epochs / seconds);
        for (const auto& own : waits) milliseconds.insert(milliseconds.end(), own.begin(), own.end());
    }
    state.counters["value"] = bench::median(rates);
    state.counters["ratio"] = bench::median(rates) / promised;
    state.counters["median_ms"] = percentile(milliseconds, 0.5);
    state.counters["p99_ms"] = percentile(milliseconds, 0.99);
}

}  // namespace

int main(int argc, char** argv) {
    for (const int programs : {1, 4, 8})
        bench::add_figure(fmt::format("service/append_epoch/programs{}", programs), 3,
                          [programs](benchmark::State& state) { append_epochs(state, programs); });
    return bench::run(argc, argv);
}
