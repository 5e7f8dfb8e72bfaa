// The service over HTTP, as programs on the same machine use it: the rate of epochs as a ratio of what is
// promised, that of classified images as a ratio of what the same process reaches without HTTP.
#include "figures.hpp"
#include "measure.hpp"
#include "service_ground.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/server/service_server.hpp"
#include "jevrin/training/classifier.hpp"

#include <fmt/format.h>
#include <httplib.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <thread>

namespace {

using namespace jevrin;

double percentile(std::vector<double> values, double share) {
    std::sort(values.begin(), values.end());
    return values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1))];
}

// Programs that train at the same time, each with a connection that stays open.
void append_epochs(benchmark::State& state, int programs) {
    constexpr int epochs = 200;
    constexpr double promised = 500.0;
    const bench::ServiceGround ground;
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
    state.SetLabel("epochs/s");
    state.counters["value"] = bench::median(rates);
    state.counters["ratio"] = bench::median(rates) / promised;
    state.counters["median_ms"] = percentile(milliseconds, 0.5);
    state.counters["p99_ms"] = percentile(milliseconds, 0.99);
}

// Images a second without a server: decoded one after another, classified 32 at a time.
double direct_rate(Recogniser& recogniser, const std::vector<std::string>& images) {
    const auto begin = std::chrono::steady_clock::now();
    double classified = 0;
    do {
        for (std::size_t i = 0; i < images.size(); i += 32) {
            std::vector<std::vector<std::uint8_t>> fitted;
            for (std::size_t k = i; k < std::min(i + 32, images.size()); ++k)
                fitted.push_back(fit_image(std::as_bytes(std::span(images[k])),
                                           recogniser.classifier().preparation.fitting));
            benchmark::DoNotOptimize(recogniser.recognise(fitted).probabilities.front());
        }
        classified += static_cast<double>(images.size());
    } while (bench::seconds_since(begin) < 0.5);
    return classified / bench::seconds_since(begin);
}

// Eight clients, each with a connection that stays open, send an image (or a form of several) as soon as the
// last is answered.
void classify(benchmark::State& state, std::size_t images_of_a_request) {
    constexpr int clients = 8;
    constexpr std::size_t requests = 200;
    const bench::ServiceGround ground;
    const std::vector<std::string> tiles = bench::tile_files(256);
    ServiceServer server({.ledger = ground.directory()}, {});
    Recogniser recogniser(load_classifier(ground.model()));
    std::vector<double> shares;
    std::vector<double> rates;
    std::vector<double> milliseconds;
    double before = direct_rate(recogniser, tiles);
    for (auto _ : state) {
        std::vector<std::vector<double>> waits(clients);
        std::atomic<int> failed{0};
        const auto begin = std::chrono::steady_clock::now();
        std::vector<std::thread> threads;
        for (std::size_t c = 0; c < clients; ++c)
            threads.emplace_back([&, c] {
                httplib::Client client(server.address());
                client.set_keep_alive(true);
                client.set_tcp_nodelay(true);
                client.set_bearer_token_auth(ground.key().c_str());
                const auto image = [&](std::size_t i) -> const std::string& {
                    return tiles[(c * requests + i) % tiles.size()];
                };
                for (std::size_t i = 0; i < requests; ++i) {
                    const auto sent = std::chrono::steady_clock::now();
                    httplib::MultipartFormDataItems form;
                    for (std::size_t k = 0; images_of_a_request > 1 && k < images_of_a_request; ++k)
                        form.push_back({"image", image(i + k), "tile.png", "image/png"});
                    const char* path = "/v1/classifiers/surfaces/classify";
                    const auto answer =
                        form.empty() ? client.Post(path, image(i), "image/png") : client.Post(path, form);
                    if (!answer || answer->status != 200) ++failed;
                    waits[c].push_back(1e3 * bench::seconds_since(sent));
                }
            });
        for (std::thread& thread : threads) thread.join();
        const double seconds = bench::seconds_since(begin);
        if (failed > 0) state.SkipWithError("a request was refused");
        state.SetIterationTime(seconds);
        const double after = direct_rate(recogniser, tiles);
        rates.push_back(static_cast<double>(clients * requests * images_of_a_request) / seconds);
        shares.push_back(2 * rates.back() / (before + after));
        before = after;
        for (const auto& own : waits) milliseconds.insert(milliseconds.end(), own.begin(), own.end());
    }
    state.SetLabel("images/s");
    state.counters["value"] = bench::median(rates);
    state.counters["ratio"] = bench::median(shares);
    state.counters["median_ms"] = percentile(milliseconds, 0.5);
    state.counters["p99_ms"] = percentile(milliseconds, 0.99);
}

}  // namespace

int main(int argc, char** argv) {
    for (const int programs : {1, 4, 8})
        bench::add_figure(fmt::format("service/append_epoch/programs{}", programs), 3,
                          [programs](benchmark::State& state) { append_epochs(state, programs); });
    for (const std::size_t images : {1, 4, 16})
        bench::add_figure(fmt::format("service/classify/images{}", images), 5,
                          [images](benchmark::State& state) { classify(state, images); });
    return bench::run(argc, argv);
}
