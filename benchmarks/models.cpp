// Models from files: how fast and in how much memory they are read, and how fast one runs that came from one.
#include "figures.hpp"
#include "measure.hpp"
#include "single_image.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/execution/inference.hpp"
#include "jevrin/graph/architecture.hpp"

#include <malloc.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

namespace {

using namespace jevrin;

// The residual network of 50 layers (He 2016) with 1000 classes and random weights, as a file of 102 MB.
class ModelFile {
  public:
    ModelFile()
        : path_(std::filesystem::temp_directory_path() / fmt::format("jevrin-bench-{}.onnx", ::getpid())) {
        Network network = residual_backbone({.widths = {64, 128, 256, 512},
                                             .blocks = {3, 4, 6, 3},
                                             .block = ResidualBlock::bottleneck,
                                             .stem_kernel = 7,
                                             .stem_pool = true},
                                            {224, 224, 3});
        append_head(network, {}, 1000);
        initialise(network, 0, 1);
        write_model(path_, {network, {}});
    }
    ~ModelFile() {
        std::error_code ignored;
        std::filesystem::remove(path_, ignored);
    }
    ModelFile(const ModelFile&) = delete;
    ModelFile& operator=(const ModelFile&) = delete;
    const std::filesystem::path& path() const { return path_; }

  private:
    std::filesystem::path path_;
};

// Seconds to read it; ratio is to the time that reading the bytes alone takes.
void run_reading(benchmark::State& state) {
    const ModelFile file;
    std::vector<double> seconds;
    std::vector<double> ratios;
    for (auto _ : state) {
        auto begin = std::chrono::steady_clock::now();
        benchmark::DoNotOptimize(read_file(file.path()));
        const double bytes_alone = bench::seconds_since(begin);
        begin = std::chrono::steady_clock::now();
        benchmark::DoNotOptimize(read_model(file.path()));
        seconds.push_back(bench::seconds_since(begin));
        ratios.push_back(seconds.back() / bytes_alone);
        state.SetIterationTime(seconds.back());
    }
    state.counters["value"] = bench::median(seconds);
    state.counters["ratio"] = bench::median(ratios);
    state.counters["threads"] = 2;
    state.SetLabel("s");
}

// What the process holds at most while it reads, over the bytes of the weights.
void run_memory(benchmark::State& state) {
    const ModelFile file;
    for (auto _ : state) {
        malloc_trim(0);
        const std::int64_t before = resident_memory();
        std::ofstream("/proc/self/clear_refs") << "5";
        const Model model = read_model(file.path());
        const auto bytes = static_cast<double>(peak_memory() - before);
        state.counters["value"] = bytes / 1e6;
        state.counters["ratio"] = bytes / static_cast<double>(parameter_count(model.network) *
                                                              static_cast<std::int64_t>(sizeof(float)));
        state.SetIterationTime(1e-3);
    }
    state.counters["threads"] = 1;
    state.SetLabel("MB");
}

void run_forward(benchmark::State& state, int threads) {
    set_threads(threads);
    constexpr std::int64_t batch = 8;
    const ModelFile file;
    const Network network = read_model(file.path()).network;
    Inference inference(network, batch);
    const std::vector<float> images(static_cast<std::size_t>(batch * inference.input_size()), 0.3F);
    const double operations = 2.0 * static_cast<double>(multiplication_count(network)) * batch;
    bench::measure_arithmetic(state, threads, operations, [&] { inference.run(batch, images); });
}

}  // namespace

int main(int argc, char** argv) {
    using jevrin::bench::add_figure;
    add_figure("model/read_102mb/memory", 1, run_memory);
    add_figure("model/read_102mb", 7, run_reading);
    add_figure("forward/imported_residual50_224/one", 7, [](benchmark::State& state) {
        jevrin::bench::run_single_image(state, read_model(ModelFile().path()).network);
    });
    for (const int threads : {1, 2})
        add_figure(fmt::format("forward/imported_residual50_224/t{}", threads), 7,
                   [threads](benchmark::State& state) { run_forward(state, threads); });
    return jevrin::bench::run(argc, argv);
}
