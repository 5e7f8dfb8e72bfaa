// A service under load that is killed again and again: programs report epochs, clients have images
// classified, one request of a hundred is malformed. What was acknowledged must be there once, no answer may
// be wrong, and memory may not grow. The server is the tool itself, in a process of its own.
#include "figures.hpp"
#include "measure.hpp"
#include "service_ground.hpp"

#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/results/model_results.hpp"

#include <fmt/format.h>
#include <httplib.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <csignal>
#include <fstream>
#include <thread>

namespace {

using namespace jevrin;

// The tool serves a ledger until it is killed.
class Server {
  public:
    Server(const std::filesystem::path& ledger, int port) {
        process_ = ::fork();
        if (process_ != 0) return;
        const std::string number = std::to_string(port);
        std::freopen("/dev/null", "w", stdout);
        ::execl(JEVRIN_PROGRAM, "jevrin", "service", "start", "--quiet", "--port", number.c_str(), "--ledger",
                ledger.c_str(), nullptr);
        ::_exit(127);
    }
    ~Server() { kill(); }
    Server(const Server&) = delete;
    Server& operator=(const Server&) = delete;

    void kill() {
        if (process_ <= 0) return;
        ::kill(process_, SIGKILL);
        ::waitpid(process_, nullptr, 0);
        process_ = -1;
    }
    // Bytes that it holds.
    double memory() const {
        std::ifstream statm(fmt::format("/proc/{}/statm", process_));
        double total = 0.0;
        double resident = 0.0;
        statm >> total >> resident;
        return resident * static_cast<double>(::sysconf(_SC_PAGESIZE));
    }
    // Seconds of processor time that it has used.
    double processor_time() const {
        std::ifstream stat(fmt::format("/proc/{}/stat", process_));
        std::string word;
        for (int i = 0; i < 13; ++i) stat >> word;
        double user = 0.0;
        double system = 0.0;
        stat >> user >> system;
        return (user + system) / static_cast<double>(::sysconf(_SC_CLK_TCK));
    }

  private:
    pid_t process_ = -1;
};

// What the model says of the images without a server: the probability of the likeliest class of each.
std::vector<double> direct_answers(const bench::ServiceGround& ground,
                                   const std::vector<std::string>& images) {
    ImageClassifier classifier(ground.model(), {});
    std::vector<double> answers;
    for (const std::string& image : images)
        answers.push_back(
            static_cast<double>(classifier.classify(std::as_bytes(std::span(image)), "tile").confidence()));
    return answers;
}

constexpr int port = 18'471;
const std::string address = fmt::format("http://127.0.0.1:{}", port);

httplib::Client connect(const bench::ServiceGround& ground) {
    httplib::Client client(address);
    client.set_keep_alive(true);
    client.set_tcp_nodelay(true);
    client.set_bearer_token_auth(ground.key().c_str());
    return client;
}

// Until the server answers: a request that was cut off is sent again.
template <typename Send>
int insist(const Send& send) {
    for (;;) {
        if (const auto answer = send(); answer && answer->status != 503) return answer->status;
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
}

struct Tally {
    std::atomic<std::int64_t> requests{0};
    std::atomic<std::int64_t> wrong{0};  // statuses and answers
};

// Reports epochs until enough requests were made; returns how many were acknowledged.
int report_epochs(const bench::ServiceGround& ground, int seed, std::int64_t most, Tally& tally) {
    httplib::Client client = connect(ground);
    std::int64_t run = 0;
    insist([&] {
        auto answer = client.Post("/v1/runs", ground.run_text("loaded", seed), "application/json");
        if (answer && answer->status < 300) run = parse_json(answer->body).at("id").get<std::int64_t>();
        return answer;
    });
    int epoch = 0;
    while (tally.requests < most) {
        const std::string path = fmt::format("/v1/runs/{}/epochs/{}", run, epoch + 1);
        const bool malformed = ++tally.requests % 100 == 0;
        const std::string body =
            malformed ? std::string("{\"training_loss\": [") : ground.epoch_text(epoch + 1);
        const int status = insist([&] { return client.Put(path.c_str(), body, "application/json"); });
        if (malformed ? status != 400 : status != 200 && status != 201) ++tally.wrong;
        if (!malformed) ++epoch;
    }
    return epoch;
}

void ask_for_images(const bench::ServiceGround& ground, const std::vector<std::string>& images,
                    const std::vector<double>& answers, std::size_t first, std::int64_t most, Tally& tally) {
    httplib::Client client = connect(ground);
    for (std::size_t i = first; tally.requests < most; ++i) {
        const std::size_t k = i % images.size();
        const bool malformed = ++tally.requests % 100 == 0;
        const std::string& image = images[k];
        const std::string body = malformed ? image.substr(0, image.size() / 3) : image;
        double told = 0.0;
        const int status = insist([&] {
            auto answer = client.Post("/v1/classifiers/surfaces/classify", body, "image/png");
            if (answer && answer->status == 200)
                told = parse_json(answer->body).at("images")[0].at("top")[0].at("probability").get<double>();
            return answer;
        });
        if (malformed ? status != 422 : status != 200 || told != answers[k]) ++tally.wrong;
    }
}

void run_load(benchmark::State& state) {
    constexpr std::int64_t most = 100'000;
    constexpr int kills = 20;
    constexpr int programs = 4;
    const bench::ServiceGround ground;
    const std::vector<std::string> images = bench::tile_files(32);
    const std::vector<double> answers = direct_answers(ground, images);
    for (auto _ : state) {
        Tally tally;
        auto server = std::make_unique<Server>(ground.directory(), port);
        const auto begin = std::chrono::steady_clock::now();
        std::vector<int> acknowledged(programs);
        std::vector<std::thread> threads;
        for (int p = 0; p < programs; ++p) {
            threads.emplace_back([&, p] {
                acknowledged[static_cast<std::size_t>(p)] = report_epochs(ground, p + 1, most, tally);
            });
            threads.emplace_back([&, p] {
                ask_for_images(ground, images, answers, static_cast<std::size_t>(p) * 7, most, tally);
            });
        }
        // At even distances; memory is read before each kill, so that each server has done about the same.
        std::vector<double> memory;
        for (int kill = 1; kill <= kills; ++kill) {
            while (tally.requests < kill * most / (kills + 1))
                std::this_thread::sleep_for(std::chrono::milliseconds(2));
            memory.push_back(server->memory());
            server = std::make_unique<Server>(ground.directory(), port);
        }
        // The last one goes on.
        for (std::thread& thread : threads) thread.join();
        memory.push_back(server->memory());
        state.SetIterationTime(bench::seconds_since(begin));
        server->kill();
        std::int64_t lost = 0;
        const Ledger ledger = Ledger::open(ground.directory());
        for (int p = 0; p < programs; ++p) {
            const RunRecord run = ledger.run(ledger.study().id, fmt::format("loaded/{}", p + 1));
            const auto epochs = static_cast<std::int64_t>(ledger.curve(run.id).size());
            lost += std::abs(epochs - acknowledged[static_cast<std::size_t>(p)]);
        }
        if (tally.wrong > 0 || lost > 0)
            state.SkipWithError(
                fmt::format("{} wrong answers, {} epochs lost or there twice", tally.wrong.load(), lost)
                    .c_str());
        state.SetLabel("requests");
        state.counters["value"] = static_cast<double>(tally.requests);
        state.counters["wrong"] = static_cast<double>(tally.wrong);
        state.counters["lost"] = static_cast<double>(lost);
        state.counters["memory_mb"] = bench::median(memory) / 1e6;
        state.counters["most_memory_mb"] = *std::max_element(memory.begin(), memory.end()) / 1e6;
    }
}

// Processor time of a server that nobody asks, beside what it takes to train on one processor.
void run_idle(benchmark::State& state) {
    const bench::ServiceGround ground;
    for (auto _ : state) {
        Server server(ground.directory(), port);
        std::this_thread::sleep_for(std::chrono::seconds(2));
        const double before = server.processor_time();
        std::this_thread::sleep_for(std::chrono::seconds(10));
        const double used = server.processor_time() - before;
        state.SetIterationTime(10.0);
        state.SetLabel("ms of processor time in a second");
        state.counters["value"] = used * 100.0;
        state.counters["ratio"] = used / 10.0;
    }
}

}  // namespace

int main(int argc, char** argv) {
    bench::add_figure("service/load/requests100000", 1, run_load);
    bench::add_figure("service/idle", 1, run_idle);
    return bench::run(argc, argv);
}
